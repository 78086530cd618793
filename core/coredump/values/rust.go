package values

import (
	"strings"

	"wraithology/core/coredump/debuginfo"
	"wraithology/core/event"
)

// rustContainer reads texts, slices and vectors of Rust by the names of their members.
func (m *Memory) rustContainer(t *debuginfo.Type, s source, depth int) (event.Value, bool) {
	name := t.Class
	switch {
	case name == "&str" || name == "&mut str" || strings.HasPrefix(name, "alloc::boxed::Box<str"):
		p, ok := m.path(t, s, "data_ptr")
		n, ok2 := m.path(t, s, "length")
		return m.text(t, p, n), ok && ok2
	case name == "String":
		at, of, ok := m.walk(t, s, "vec")
		if !ok {
			return event.Value{}, false
		}
		p, n, _, ok := m.rustVector(of, at)
		return m.text(t, p, n), ok
	case strings.HasPrefix(name, "Vec<"):
		p, n, room, ok := m.rustVector(t, s)
		if !ok || len(t.Arguments) == 0 {
			return event.Value{}, false
		}
		return list(t, t.Arguments[0], p, n, room), true
	case strings.HasPrefix(name, "&[") || strings.HasPrefix(name, "&mut ["):
		p, ok := m.path(t, s, "data_ptr")
		n, ok2 := m.path(t, s, "length")
		_, pointer, ok3 := m.walk(t, s, "data_ptr")
		if !ok || !ok2 || !ok3 {
			return event.Value{}, false
		}
		return list(t, pointer.Elem, p, n, n), true
	}
	return event.Value{}, false
}

// rustVector finds the elements of a vector. The path to the pointer differs
// between releases.
func (m *Memory) rustVector(t *debuginfo.Type, s source) (address, length, capacity uint64, ok bool) {
	length, ok = m.path(t, s, "len")
	if !ok {
		return 0, 0, 0, false
	}
	for _, prefix := range [][]string{{"buf", "inner"}, {"buf"}} {
		for _, tail := range [][]string{{"ptr", "pointer", "pointer"}, {"ptr", "pointer"}} {
			if p, ok := m.path(t, s, append(append([]string{}, prefix...), tail...)...); ok {
				capacity, ok = m.path(t, s, append(append([]string{}, prefix...), "cap", "__0")...)
				if !ok {
					capacity, _ = m.path(t, s, append(append([]string{}, prefix...), "cap")...)
				}
				return p, length, capacity, true
			}
		}
	}
	return 0, 0, 0, false
}

// rustEntries would read tables of Rust; their layout has no stable names.
func (m *Memory) rustEntries(_ *debuginfo.Type, _ source, e *entries) { e.cut = true }

// variant reads the alternative of an enum that holds: it is the enum's only item,
// or its name where it has no fields.
func (m *Memory) variant(t *debuginfo.Type, s source, depth int) event.Value {
	var number uint64
	if t.Variants.Size > 0 {
		b, unknown, ok := s.at(t.Variants.Offset).read(uint64(t.Variants.Size), &t.Type)
		if !ok {
			return unknown
		}
		number = le(b)
	}
	var holds *debuginfo.Variant
	for i := range t.Variants.List {
		if x := &t.Variants.List[i]; !x.Default && x.Number == number || x.Default && holds == nil {
			holds = x
		}
	}
	if holds == nil {
		return Unknown(&t.Type, "no alternative of the enum has the number that is stored")
	}
	of := m.Types.Get(holds.Type)
	if of == nil {
		return Unknown(&t.Type, "the type of the alternative is not known")
	}
	if len(of.Members) == 0 {
		return event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Func, Size: t.Size}, State: event.Known, Text: holds.Name}
	}
	inner := m.decode(of, s.at(holds.Offset), depth+1)
	return event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Interface, Size: t.Size}, State: event.Known, Items: []event.Value{inner}}
}
