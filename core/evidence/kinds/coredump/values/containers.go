package values

import (
	"fmt"
	"strings"
	"unicode/utf16"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// container reads a structure of a standard library of C++ or Rust as the list, table or text that
// it represents. ok is false for other structures and for unknown layouts; these are shown member
// by member.
func (m *Memory) container(t *debuginfo.Type, s source, depth int) (event.Value, bool) {
	if len(s.missing) > 0 {
		// If a part is unknown, the whole is unknown.
		whole := s
		whole.missing = nil
		if _, ok := m.container(t, whole, depth); ok {
			x := s.missing[0]
			return event.Value{Type: &t.Type, State: x.State, Text: x.Why}, true
		}
		return event.Value{}, false
	}
	switch {
	case t.Rust:
		return m.rustContainer(t, s, depth)
	case strings.Contains(t.Class, "<"):
		return m.cppContainer(t, s, depth)
	case t.Class == "path": // of std::filesystem
		at, of, ok := m.walk(t, s, "_M_pathname")
		if _, _, ok2 := m.walk(t, s, "_M_cmpts"); ok && ok2 {
			return renamed(t, m.decode(of, at, depth+1)), true
		}
	}
	if v, ok := m.libcppContainer(t, s, depth); ok {
		return v, true
	}
	return m.cppStandard(t, s, depth)
}

// path reads a number at the end of a path of members, through base classes and
// members without a name.
func (m *Memory) path(t *debuginfo.Type, s source, names ...string) (uint64, bool) {
	at, of, ok := m.walk(t, s, names...)
	if !ok || of.Size == 0 || of.Size > 8 {
		return 0, false
	}
	b, _, ok := at.read(of.Size, &of.Type)
	return le(b), ok
}

// walk follows members by name.
func (m *Memory) walk(t *debuginfo.Type, s source, names ...string) (source, *debuginfo.Type, bool) {
	for _, name := range names {
		var ok bool
		if s, t, ok = m.memberNamed(t, s, name, anyType, 0); !ok {
			return s, t, false
		}
	}
	return s, t, true
}

func anyType(*debuginfo.Type) bool { return true }

func aPointer(t *debuginfo.Type) bool { return t.Kind == debuginfo.Pointer }

// memberNamed finds a member by its name and type, also in base classes.
func (m *Memory) memberNamed(t *debuginfo.Type, s source, name string, fits func(*debuginfo.Type) bool, depth int) (source, *debuginfo.Type, bool) {
	if t == nil || depth > 8 {
		return s, t, false
	}
	for _, x := range t.Members {
		if x.Name == name {
			if of := m.Types.Get(x.Type); of != nil && fits(of) {
				return s.at(x.Offset), of, true
			}
		}
	}
	for _, x := range t.Members {
		if x.Base || x.Name == "(unnamed)" {
			if at, of, ok := m.memberNamed(m.Types.Get(x.Type), s.at(x.Offset), name, fits, depth+1); ok {
				return at, of, true
			}
		}
	}
	return s, t, false
}

// member finds a type's own member by name.
func member(t *debuginfo.Type, name string) (debuginfo.Member, bool) {
	if t != nil {
		for _, x := range t.Members {
			if x.Name == name {
				return x, true
			}
		}
	}
	return debuginfo.Member{}, false
}

// list makes a list of elements that are contiguous in memory.
func list(t *debuginfo.Type, elem event.TypeID, address, length, capacity uint64) event.Value {
	of := &event.Type{ID: t.ID, Name: t.Name, Form: event.Slice, Size: t.Size, Elem: elem}
	return event.Value{Type: of, State: event.Known, Address: address, Length: length, Capacity: capacity}
}

// text makes a text of bytes in memory.
func (m *Memory) text(t *debuginfo.Type, address, length uint64) event.Value {
	return m.textOf(t, address, length, 1)
}

// textOf makes a text of characters in memory, of 1, 2 or 4 bytes each: UTF-8, UTF-16 or UTF-32.
func (m *Memory) textOf(t *debuginfo.Type, address, length, size uint64) event.Value {
	of := &event.Type{ID: t.ID, Name: t.Name, Form: event.Text, Size: t.Size}
	if length > maxString {
		return Unknown(of, fmt.Sprintf("its length of %d cannot be: not a text, or not one yet", int64(length)))
	}
	b, ok := m.Core.Read(address, min(length, maxText)*size)
	if !ok {
		return Unknown(of, m.whyNot(address))
	}
	v := event.Value{Type: of, State: event.Known}
	switch size {
	case 2:
		var units []uint16
		for ; len(b) > 0; b = b[2:] {
			units = append(units, uint16(le(b[:2])))
		}
		v.Text = string(utf16.Decode(units))
	case 4:
		var runes []rune
		for ; len(b) > 0; b = b[4:] {
			runes = append(runes, rune(le(b[:4])))
		}
		v.Text = string(runes)
	default:
		v.Text = string(b)
	}
	if length > maxText {
		v.Whole = length * size
	}
	return v
}

// dynamic finds the class of an object by its table of virtual functions, and the address of the
// whole object (Itanium C++ ABI, section 2.5).
func (m *Memory) dynamic(t *debuginfo.Type, address uint64) (*debuginfo.Type, uint64, bool) {
	table, ok := m.Core.Pointer(address)
	if !ok || m.Symbol == nil {
		return nil, 0, false
	}
	name, ok := strings.CutPrefix(m.Symbol(table), "vtable for ")
	if !ok {
		return nil, 0, false
	}
	name, _, _ = strings.Cut(name, " + ")
	top, ok := m.Core.Pointer(table - 16)
	if !ok {
		return nil, 0, false
	}
	is := m.Named(name)
	return is, address + top, is != nil
}
