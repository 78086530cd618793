// Package gotable reads the function table that every Go binary contains: names, lines, inlined
// calls and frame sizes of all code. It exists even if debug information was stripped. The layout
// is that of Go 1.18 and later (runtime/symtab.go, internal/abi/symtab.go).
package gotable

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"sort"
	"strings"
	"sync"

	"wraithology/core/evidence/kinds/coredump/cursor"
	"wraithology/core/evidence/kinds/coredump/module"
)

// Function is a function of the table. Entry is an address of the file.
type Function struct {
	Name  string
	Entry uint64
	End   uint64
	data  uint64 // offset of its description
	top   bool
}

// Frame is a function at a program counter, as in Go's own tracebacks.
type Frame struct {
	Function string
	File     string
	Line     int
	Inlined  bool
}

// Table is a binary's table. It is safe for concurrent use.
type Table struct {
	file      *module.File // its bytes stay mapped as long as it is used
	text      uint64       // address of the first function's code
	quantum   uint64
	count     uint64
	startLine bool // descriptions have a start line: Go 1.20 and later
	names     []byte
	units     []byte
	files     []byte
	values    []byte // tables by program counter
	functions []byte
	inlined   []byte // base of the offsets of inlined calls; nil if it was not found

	cache sync.Map // uint64 → place
}

type place struct {
	frames []Frame
	size   uint64
	sized  bool
}

const (
	magic118 = 0xfffffff0
	magic120 = 0xfffffff1

	inlineIndex = 2 // of the tables of a function
	inlineTree  = 3 // of the data of a function
	topFrame    = 1 // flag of functions that have no caller
)

// Reader reads memory of the process at an address of the file.
type Reader func(address, n uint64) ([]byte, bool)

// Find reads the table of a Go binary. It returns nil for other binaries. read reads memory in
// which the runtime's data was relocated by bias.
func Find(f *module.File, bias uint64, read Reader) *Table {
	var section *elf.Section
	for _, name := range []string{".gopclntab", ".data.rel.ro.gopclntab"} {
		if section = f.ELF.Section(name); section != nil {
			break
		}
	}
	if section == nil {
		return nil
	}
	b, err := f.Section(section.Name)
	if err != nil || len(b) < 72 {
		return nil
	}
	t, ok := parse(b)
	if !ok {
		return nil
	}
	t.file = f
	t.locate(f, section.Addr, bias, read)
	return t
}

func parse(b []byte) (*Table, bool) {
	c := cursor.New(b)
	magic := c.U32()
	c.Skip(2)
	t := &Table{quantum: uint64(c.U8()), startLine: magic == magic120}
	if pointer := c.U8(); pointer != 8 || magic != magic118 && magic != magic120 || t.quantum == 0 {
		return nil, false
	}
	t.count = c.U64()
	c.Skip(16)
	var parts [5]uint64
	for i := range parts {
		parts[i] = c.U64()
		if parts[i] > uint64(len(b)) {
			return nil, false
		}
	}
	t.names, t.units, t.files, t.values, t.functions = b[parts[0]:], b[parts[1]:], b[parts[2]:], b[parts[3]:], b[parts[4]:]
	return t, c.Err() == nil && t.count > 0 && t.count < uint64(len(t.functions))/8
}

// locate finds the start of the code and the base of inlined calls in the runtime's record of the
// binary. The record begins with a pointer to the table. Its other fields move from release to
// release; they are recognised by their values.
func (t *Table) locate(f *module.File, table, bias uint64, read Reader) {
	if s := f.ELF.Section(".text"); s != nil {
		t.text = s.Addr
	}
	words := record(f, table, bias, read)
	first, last := t.entry(0), t.entry(t.count)
	for i := 0; i+2 < len(words); i++ {
		if text := words[i+2]; text != 0 && words[i] == text+first && words[i+1] == text+last {
			t.text = text - bias
			break
		}
	}
	for _, w := range words {
		if w < bias || w == 0 {
			continue
		}
		b := fileBytes(f, w-bias)
		if len(b) > 0 && t.fitsInlined(b) {
			t.inlined = b
			return
		}
	}
}

// recordWords limits how much of the record is read.
const recordWords = 96

func record(f *module.File, table, bias uint64, read Reader) []uint64 {
	for _, name := range []string{".go.module", ".noptrdata", ".data", ".data.rel.ro"} {
		s := f.ELF.Section(name)
		if s == nil || s.Type == elf.SHT_NOBITS || s.Size > 256<<20 {
			continue
		}
		b, ok := read(s.Addr, s.Size)
		if !ok {
			var err error
			if b, err = f.Section(name); err != nil {
				continue
			}
		}
		var want [8]byte
		binary.LittleEndian.PutUint64(want[:], table+bias)
		for at := 0; ; {
			i := bytes.Index(b[at:], want[:])
			if i < 0 {
				break
			}
			if at += i; at%8 == 0 {
				var words []uint64
				for c := cursor.At(b, uint64(at)); c.Len() >= 8 && len(words) < recordWords; {
					words = append(words, c.U64())
				}
				return words
			}
			at++
		}
	}
	return nil
}

// fileBytes returns the bytes of the file at an address, to the end of the segment.
func fileBytes(f *module.File, address uint64) []byte {
	for _, p := range f.ELF.Progs {
		if p.Type == elf.PT_LOAD && address >= p.Vaddr && address-p.Vaddr < p.Filesz {
			from, to := p.Off+(address-p.Vaddr), p.Off+p.Filesz
			if to <= uint64(len(f.Data)) && from < to {
				return f.Data[from:to]
			}
		}
	}
	return nil
}

// fitsInlined reports whether b can be the base of inlined calls: descriptions at their offsets are
// valid.
func (t *Table) fitsInlined(b []byte) bool {
	const enough = 16
	tried := 0
	for i := uint64(0); i < t.count && tried < enough; i++ {
		f := t.function(i)
		offset, ok := t.data(f, inlineTree)
		if !ok {
			continue
		}
		tried++
		c := cursor.At(b, uint64(offset))
		c.Skip(4)
		name, parent := c.U32(), c.U32()
		if c.Err() != nil || name == 0 || uint64(name) >= uint64(len(t.names)) || t.names[name-1] != 0 || uint64(parent) >= f.End-f.Entry {
			return false
		}
	}
	return tried > 0
}

// entry returns the offset of function i from the first function.
func (t *Table) entry(i uint64) uint64 {
	c := cursor.At(t.functions, 8*i)
	return uint64(c.U32())
}

func (t *Table) function(i uint64) Function {
	c := cursor.At(t.functions, 8*i+4)
	f := Function{Entry: t.text + t.entry(i), End: t.text + t.entry(i+1), data: uint64(c.U32())}
	d := cursor.At(t.functions, f.data)
	d.Skip(4)
	f.Name = textAt(t.names, uint64(d.U32()))
	d = cursor.At(t.functions, f.data+t.after()+1)
	f.top = d.U8()&topFrame != 0
	return f
}

// after returns the offset, in a description, of the function ID byte. Flags and the number of data
// follow it.
func (t *Table) after() uint64 {
	if t.startLine {
		return 40
	}
	return 36
}

func textAt(b []byte, offset uint64) string {
	if offset >= uint64(len(b)) {
		return ""
	}
	s, _, _ := bytes.Cut(b[offset:], []byte{0})
	return string(s)
}

// At returns the function at a program counter.
func (t *Table) At(pc uint64) (Function, bool) {
	if pc < t.text {
		return Function{}, false
	}
	n := sort.Search(int(t.count), func(i int) bool { return t.text+t.entry(uint64(i)) > pc })
	if n == 0 || pc >= t.text+t.entry(t.count) {
		return Function{}, false
	}
	return t.function(uint64(n - 1)), true
}

// Ends reports whether the function at a program counter is the end of a stack. Signal handlers
// have a caller: the interrupted function. Functions that switch to the thread's stack have one on
// another stack.
func (t *Table) Ends(pc uint64) bool {
	f, ok := t.At(pc)
	if !ok {
		return false
	}
	switch f.Name {
	case "runtime.mcall", "runtime.systemstack":
		return true
	}
	return f.top && !strings.HasPrefix(f.Name, "runtime.sigtramp")
}

// Begins reports whether a program counter is the entry of a function.
func (t *Table) Begins(pc uint64) bool {
	f, ok := t.At(pc)
	return ok && f.Entry == pc
}

// counters returns the number of tables by program counter of a function.
func (t *Table) counters(f Function) uint64 {
	c := cursor.At(t.functions, f.data+28)
	return uint64(c.U32())
}

// data returns the offset of one of a function's data.
func (t *Table) data(f Function, index uint64) (uint32, bool) {
	c := cursor.At(t.functions, f.data+t.after()+3)
	count := uint64(c.U8())
	if index >= count {
		return 0, false
	}
	c = cursor.At(t.functions, f.data+t.after()+4+4*(t.counters(f)+index))
	v := c.U32()
	return v, c.Err() == nil && v != 1<<32-1
}

// member reads a number of a function's description.
func (t *Table) member(f Function, at uint64) uint32 {
	c := cursor.At(t.functions, f.data+at)
	return c.U32()
}

// maxPairs limits the length of a table by program counter.
const maxPairs = 1 << 20

// value looks up a program counter in a table of a function: pairs of deltas of value and program
// counter.
func (t *Table) value(offset uint32, f Function, pc uint64) (int32, bool) {
	if offset == 0 {
		return 0, false
	}
	c := cursor.At(t.values, uint64(offset))
	at, v := f.Entry, int32(-1)
	for i := range maxPairs {
		change := uint32(c.Uleb())
		if change == 0 && i > 0 || c.Err() != nil {
			return 0, false
		}
		v += int32(change>>1) ^ -int32(change&1)
		at += c.Uleb() * t.quantum
		if pc < at {
			return v, c.Err() == nil
		}
	}
	return 0, false
}

// FrameSize returns the distance of the stack pointer from its value at the function's entry.
func (t *Table) FrameSize(pc uint64) (uint64, bool) {
	p := t.place(pc)
	return p.size, p.sized
}

// Frames returns the functions at a program counter: those that were inlined, innermost first, then
// the function itself.
func (t *Table) Frames(pc uint64) []Frame { return t.place(pc).frames }

func (t *Table) place(pc uint64) place {
	if p, ok := t.cache.Load(pc); ok {
		return p.(place)
	}
	var p place
	if f, ok := t.At(pc); ok {
		size, ok := t.value(t.member(f, 16), f, pc)
		p = place{frames: t.frames(f, pc), size: uint64(max(size, 0)), sized: ok && size >= 0}
	}
	t.cache.Store(pc, p)
	return p
}

// maxInlined limits the nesting of inlined calls.
const maxInlined = 200

func (t *Table) frames(f Function, pc uint64) []Frame {
	var list []Frame
	tree, hasTree := t.data(f, inlineTree)
	for range maxInlined {
		x := Frame{Function: f.Name}
		x.File, x.Line = t.line(f, pc)
		index := int32(-1)
		if hasTree && t.inlined != nil && t.counters(f) > inlineIndex {
			if v, ok := t.value(t.member(f, t.after()+4+4*inlineIndex), f, pc); ok {
				index = v
			}
		}
		if index < 0 {
			return append(list, x)
		}
		c := cursor.At(t.inlined, uint64(tree)+16*uint64(index))
		c.Skip(4)
		name, parent := c.U32(), c.U32()
		if c.Err() != nil {
			return append(list, x)
		}
		x.Function, x.Inlined = textAt(t.names, uint64(name)), true
		list = append(list, x)
		pc = f.Entry + uint64(parent)
	}
	return list
}

// line returns the source file and line of code.
func (t *Table) line(f Function, pc uint64) (string, int) {
	file, ok := t.value(t.member(f, 20), f, pc)
	line, ok2 := t.value(t.member(f, 24), f, pc)
	if !ok || !ok2 || file < 0 {
		return "", 0
	}
	c := cursor.At(t.units, 4*(uint64(t.member(f, 32))+uint64(file)))
	return textAt(t.files, uint64(c.U32())), int(line)
}
