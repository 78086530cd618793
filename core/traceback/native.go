package traceback

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Native frames have an address, and some a function with an offset, a module with an offset, a
// file and a line: "#0 0x55… in FUNCTION FILE:LINE:COLUMN", "#1 0x7f… (MODULE+0x29d90)", or in the
// notation of the C library's backtrace_symbols, "MODULE(FUNCTION+0x1d) [0x55…]", or "MODULE[0x40…]" of
// a program at its own addresses.
var (
	nativeNumbered = regexp.MustCompile(`^\s*#(\d+)\s+(0x[0-9a-fA-F]+)(?: in (.+?))?(?: (/?[^\s():]+\.[A-Za-z+]{1,4}):(\d+)(?::(\d+))?)?(?: \((.+?)\+(0x[0-9a-fA-F]+)\))?(?: \(BuildId: ([0-9a-f]+)\))?$`)
	nativeSymbol   = regexp.MustCompile(`^\s*(?:(\S+?)\((\S*?)\+?(0x[0-9a-fA-F]+)?\)|(\.{0,2}/\S+?))\s?\[(0x[0-9a-fA-F]+)\]$`)
	nativeSignal   = regexp.MustCompile(`(?:^|\W)(SIG[A-Z]{3,7}|(?i:segmentation fault|aborted|bus error|illegal instruction|floating point exception|stack-overflow|heap-use-after-free|heap-buffer-overflow))(?:\W|$)`)
	nativeAddress  = regexp.MustCompile(`(?i)address:? (0x[0-9a-f]+)`)
)

// signalWords are words of which each match of nativeSignal has one; most lines have none.
var signalWords = []string{"SIG", "fault", "bort", "rror", "nstruction", "xception", "overflow", "after-free", "FAULT", "ABORT", "ERROR", "INSTRUCTION", "EXCEPTION"}

func readNative(p *parser, line string) bool {
	if !strings.Contains(line, "0x") {
		return nativeHead(p, line)
	}
	if m := nativeNumbered.FindStringSubmatch(line); m != nil {
		p.language("native", "signal")
		if m[1] == "0" && p.current != nil && len(p.current.Frames) > 0 {
			p.begin(Thread{Name: "thread", Kind: "thread"})
		}
		f := Frame{Function: m[3], File: m[4], Module: m[7], BuildID: m[9]}
		f.Address, _ = strconv.ParseUint(m[2][2:], 16, 64) // digits
		f.Line, _ = strconv.Atoi(m[5])
		f.Column, _ = strconv.Atoi(m[6])
		f.Offset, _ = strconv.ParseUint(strings.TrimPrefix(m[8], "0x"), 16, 64)
		p.frame(f)
		return true
	}
	if m := nativeSymbol.FindStringSubmatch(line); m != nil {
		p.language("native", "signal")
		f := Frame{Function: m[2], Module: m[1] + m[4]}
		if f.Function != "" {
			f.Place = InFunction
		}
		f.Address, _ = strconv.ParseUint(m[5][2:], 16, 64)                      // digits
		f.Offset, _ = strconv.ParseUint(strings.TrimPrefix(m[3], "0x"), 16, 64) // digits, or nothing
		p.frame(f)
		return true
	}
	return nativeHead(p, line)
}

// nativeHead reads a line with the signal, if frames may follow.
func nativeHead(p *parser, line string) bool {
	const longest = 1 << 10
	if len(line) > longest || !slices.ContainsFunc(signalWords, func(w string) bool { return strings.Contains(line, w) }) {
		return false
	}
	m := nativeSignal.FindStringSubmatch(line)
	if m == nil || p.inGo() || p.python.open || p.crashed.Language != "" && p.crashed.Language != "native" || len(p.failures) > 0 {
		return false
	}
	for rest, ok := withoutPrefix(line); ok; rest, ok = withoutPrefix(rest) {
		line = rest
	}
	p.fail(failure{Cause: Cause{m[1], strings.TrimSpace(line)}, fatal: true, thread: Thread{Name: "thread", Kind: "thread"}})
	p.crashed.Signal = m[1]
	if a := nativeAddress.FindStringSubmatch(line); a != nil {
		p.crashed.Address = a[1]
	}
	return true
}
