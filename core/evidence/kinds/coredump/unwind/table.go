// Package unwind finds the caller of a frame with call frame information (DWARF 5, section 6.4;
// .eh_frame according to the Linux Standard Base).
package unwind

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/evidence/kinds/coredump/cursor"
	"wraithology/core/evidence/kinds/coredump/machine"
)

// ErrMalformed means that call frame information is damaged.
var ErrMalformed = errors.New("the call frame information cannot be used")

// Section is a section with call frame information. Its address and its base addresses are those of
// the file.
type Section struct {
	Data    []byte
	Address uint64
	// EH is set for .eh_frame, which differs from .debug_frame.
	EH   bool
	Text uint64 // base of text-relative pointers
	Base uint64 // base of data-relative pointers
}

// Table finds the information of a program counter.
type Table struct {
	entries []entry // by start
}

// entry is the information about one range of code.
type entry struct {
	start, end uint64
	common     *common
	program    []byte
}

// common is the part that several entries share.
type common struct {
	codeAlign uint64
	dataAlign int64
	returns   machine.Register
	program   []byte
	augmented bool
	encoding  byte
	signal    bool
}

const (
	maxEntries = 4 << 20
	omitted    = 0xff
)

// NewTable reads the entries of the sections. Reading of a section ends at damage; the entries
// before it count.
func NewTable(sections ...Section) *Table {
	t := &Table{}
	for _, s := range sections {
		t.read(s)
	}
	slices.SortStableFunc(t.entries, func(a, b entry) int { return cmp.Compare(a.start, b.start) })
	return t
}

func (t *Table) read(s Section) {
	commons := map[uint64]*common{}
	for at := uint64(0); at+4 <= uint64(len(s.Data)) && len(t.entries) < maxEntries; {
		c := cursor.At(s.Data, at)
		length, wide := uint64(c.U32()), false
		if length == 0xffffffff {
			length, wide = c.U64(), true
		}
		body := uint64(c.Offset())
		if length == 0 {
			if s.EH {
				return // the terminator
			}
			at = body
			continue
		}
		if c.Err() != nil || length > uint64(len(s.Data))-body {
			return
		}
		data := s.Data[:body+length]
		c = cursor.At(data, body)
		id, isCommon := uint64(0), false
		if wide && !s.EH {
			id = c.U64()
			isCommon = id == 1<<64-1
		} else {
			id = uint64(c.U32())
			isCommon = id == 0xffffffff && !s.EH || id == 0 && s.EH
		}
		if !isCommon {
			where := id
			if s.EH {
				where = body - id
			}
			shared, ok := commons[where]
			if !ok {
				shared = s.commonAt(where)
				commons[where] = shared
			}
			if shared != nil {
				if e, ok := s.entry(c, shared); ok {
					t.entries = append(t.entries, e)
				}
			}
		}
		at = body + length
	}
}

// commonAt reads a common information entry, or returns nil.
func (s Section) commonAt(at uint64) *common {
	c := cursor.At(s.Data, at)
	length, wide := uint64(c.U32()), false
	if length == 0xffffffff {
		length, wide = c.U64(), true
	}
	if c.Err() != nil || length > uint64(c.Len()) {
		return nil
	}
	c = cursor.At(s.Data[:uint64(c.Offset())+length], uint64(c.Offset()))
	if wide && !s.EH {
		c.U64()
	} else {
		c.U32()
	}
	version := c.U8()
	augmentation := c.Text()
	if version >= 4 && !s.EH {
		c.Skip(2) // sizes of addresses and segment selectors
	}
	out := &common{codeAlign: c.Uleb(), dataAlign: c.Sleb()}
	if version == 1 {
		out.returns = machine.Register(c.U8())
	} else {
		out.returns = machine.Register(c.Uleb() & 0xffff)
	}
	if rest, ok := strings.CutPrefix(augmentation, "z"); ok {
		out.augmented = true
		n := c.Uleb()
		extra := cursor.New(c.Bytes(n))
		for _, letter := range rest {
			switch letter {
			case 'R':
				out.encoding = extra.U8()
			case 'P':
				s.pointer(extra, extra.U8(), 0)
			case 'L':
				extra.U8()
			case 'S':
				out.signal = true
			}
		}
	} else if augmentation != "" {
		return nil
	}
	out.program = c.Bytes(uint64(c.Len()))
	if c.Err() != nil || out.returns >= maxRegister {
		return nil
	}
	return out
}

// entry reads a frame description entry.
func (s Section) entry(c *cursor.Cursor, shared *common) (entry, bool) {
	e := entry{common: shared}
	if s.EH {
		here := s.Address + uint64(c.Offset())
		e.start = s.pointer(c, shared.encoding, here)
		e.end = e.start + s.pointer(c, shared.encoding&0x0f, 0)
	} else {
		e.start = c.U64()
		e.end = e.start + c.U64()
	}
	if shared.augmented {
		c.Skip(c.Uleb())
	}
	e.program = c.Bytes(uint64(c.Len()))
	return e, c.Err() == nil && e.end > e.start
}

// pointer reads an encoded pointer (Linux Standard Base, "DWARF Exception Header Encoding"); here
// is the address of the pointer.
func (s Section) pointer(c *cursor.Cursor, encoding byte, here uint64) uint64 {
	if encoding == omitted {
		return 0
	}
	var v uint64
	switch encoding & 0x0f {
	case 0x00, 0x04, 0x0c:
		v = c.U64()
	case 0x01:
		v = c.Uleb()
	case 0x02:
		v = uint64(c.U16())
	case 0x03:
		v = uint64(c.U32())
	case 0x09:
		v = uint64(c.Sleb())
	case 0x0a:
		v = uint64(int16(c.U16()))
	case 0x0b:
		v = uint64(int32(c.U32()))
	}
	switch encoding & 0x70 {
	case 0x10:
		v += here
	case 0x20:
		v += s.Text
	case 0x30:
		v += s.Base
	}
	return v
}

// Empty reports whether there is no information.
func (t *Table) Empty() bool { return t == nil || len(t.entries) == 0 }

// find returns the entry that covers a program counter.
func (t *Table) find(pc uint64) (*entry, bool) {
	if t.Empty() {
		return nil, false
	}
	i, found := slices.BinarySearchFunc(t.entries, pc, func(e entry, a uint64) int { return cmp.Compare(e.start, a) })
	if !found {
		i--
	}
	// Entries of one function can overlap if both sections have it.
	for ; i >= 0; i-- {
		if e := &t.entries[i]; pc < e.end {
			return e, true
		} else if pc-e.start > 1<<24 {
			break
		}
		if i > 0 && t.entries[i-1].start != t.entries[i].start {
			break
		}
	}
	return nil, false
}

// Function returns the bounds of the code of an entry, usually one function.
func (t *Table) Function(pc uint64) (start, end uint64, ok bool) {
	if e, ok := t.find(pc); ok {
		return e.start, e.end, true
	}
	return 0, 0, false
}

func malformed(format string, a ...any) error {
	return fmt.Errorf("%w: "+format, append([]any{ErrMalformed}, a...)...)
}
