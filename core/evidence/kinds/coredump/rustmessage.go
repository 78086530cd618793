package coredump

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Bounds of the text of a panic, in bytes. Other words on the stack look like shorter texts now and then.
const (
	minMessage = 4
	maxMessage = 4096
)

// panicMessage finds the text of a Rust panic in the frame of the function that begins it: the standard library formats it
// into a String, or has it as a constant text. ok is false if the frame has none, or several that differ.
func (d *Dump) panicMessage(list []frame) (text string, ok bool) {
	for i, x := range list {
		name := rustHash.ReplaceAllString(x.Function, "")
		begins := strings.HasPrefix(name, "std::panicking::") && strings.Contains(name, "{closure") && (strings.Contains(name, "panic_handler") || strings.Contains(name, "begin_panic"))
		if !begins || x.Inlined {
			continue
		}
		s := &x.steps[x.at]
		end := s.cfa
		if !s.hasCFA && i+1 < len(list) {
			end = list[i+1].steps[list[i+1].at].regs.SP()
		}
		found := ""
		for at := s.regs.SP() &^ 7; at+16 <= end && at-s.regs.SP() < mostOfStack; at += 8 {
			for _, read := range []func(uint64) (string, bool){d.rustString, d.rustConstant} {
				text, ok := read(at)
				if !ok || text == found {
					continue
				}
				if found != "" {
					return "", false
				}
				found = text
			}
		}
		return found, found != ""
	}
	return "", false
}

// rustConstant reads a &str of printable text at an address: the text's address in the read-only data of a module, and its
// length.
func (d *Dump) rustConstant(at uint64) (string, bool) {
	p, ok1 := d.core.Memory.Pointer(at)
	length, ok2 := d.core.Memory.Pointer(at + 8)
	if !ok1 || !ok2 || length < minMessage || length > maxMessage {
		return "", false
	}
	if x, ok := d.core.Memory.At(p); !ok || x.Writable || x.Executable || d.at(p) == nil {
		return "", false
	}
	b, ok := d.core.Memory.Read(p, length)
	if !ok || !isPrintable(b) {
		return "", false
	}
	return string(b), true
}

// rustString reads a String of printable text at an address: capacity, address, length, as compilers since Rust 1.66 order
// them. The text is on the heap.
func (d *Dump) rustString(at uint64) (string, bool) {
	capacity, ok1 := d.core.Memory.Pointer(at)
	p, ok2 := d.core.Memory.Pointer(at + 8)
	length, ok3 := d.core.Memory.Pointer(at + 16)
	if !ok1 || !ok2 || !ok3 || length < minMessage || length > capacity || length > maxMessage || capacity > 2*maxMessage {
		return "", false
	}
	if x, ok := d.core.Memory.At(p); !ok || !x.Writable || d.at(p) != nil || at >= x.Start && at < x.End {
		return "", false // not on the heap: of a module, or of the stack itself
	}
	b, ok := d.core.Memory.Read(p, length)
	if !ok || !isPrintable(b) {
		return "", false
	}
	return string(b), true
}

// isPrintable reports whether bytes are text without control characters other than line ends and tabs.
func isPrintable(b []byte) bool {
	for _, r := range string(b) {
		if r == utf8.RuneError || unicode.IsControl(r) && r != '\n' && r != '\t' {
			return false
		}
	}
	return true
}
