package values

import (
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// decodeGo reads the values that Go keeps in several words: texts, slices, maps, interfaces and
// others.
func (m *Memory) decodeGo(t *debuginfo.Type, b []byte, depth int) event.Value {
	v := event.Value{Type: &t.Type, State: event.Known}
	word := func(i int) uint64 { return le(b[min(8*i, len(b)):]) }
	switch t.Kind {
	case debuginfo.GoString:
		return m.goString(t, word(0), word(1))
	case debuginfo.GoSlice:
		v.Address, v.Length, v.Capacity = word(0), word(1), word(2)
		v.Nil = v.Address == 0
		if v.Length > v.Capacity || v.Length > maxString {
			return Unknown(&t.Type, fmt.Sprintf("its length of %d does not fit its capacity of %d: not a slice, or not one yet", int64(v.Length), int64(v.Capacity)))
		}
	case debuginfo.GoMap:
		v.Address = word(0)
		if v.Nil = v.Address == 0; !v.Nil {
			v.Length = m.mapLength(t, v.Address)
		}
	case debuginfo.GoChan:
		v.Address = word(0)
		if v.Nil = v.Address == 0; !v.Nil {
			m.channel(&v, m.Struct(t.Inner, v.Address), m.Types.Get(t.Elem))
		}
	case debuginfo.GoFunc:
		v.Address = word(0)
		if v.Nil = v.Address == 0; v.Nil {
			break
		}
		code, ok := m.Core.Pointer(v.Address)
		if !ok {
			return Unknown(&t.Type, m.whyNot(v.Address))
		}
		v.Text = m.codeAt(code)
		m.closure(&v, code, depth)
	case debuginfo.GoEface, debuginfo.GoIface:
		return m.goInterface(t, word(0), word(1))
	default:
		return Unknown(&t.Type, "a kind of type that is not read")
	}
	return v
}

// Bounds of what is shown of a closure, which can have captured itself.
const (
	maxCaptured     = 16
	maxClosureDepth = 3
)

// closure reads the captured variables of a closure.
func (m *Memory) closure(v *event.Value, code uint64, depth int) {
	if m.Captured == nil || depth >= maxClosureDepth {
		return
	}
	list := m.Captured(code)
	if len(list) == 0 {
		return
	}
	of := *v.Type
	of.Fields = nil
	for _, x := range list[:min(len(list), maxCaptured)] {
		t, at := m.Types.Get(m.Types.ID(x.Type)), v.Address+x.Offset
		if t == nil || x.Name == "" {
			continue
		}
		if x.Indirect {
			at, _ = m.Core.Pointer(at)
			if t = m.Types.Get(t.Elem); t == nil {
				continue
			}
		}
		of.Fields = append(of.Fields, event.Field{Name: x.Name, Type: t.ID, Offset: x.Offset})
		v.Items = append(v.Items, m.decode(t, source{m: m, address: at, inMemory: true}, depth+1))
	}
	v.Type = &of
}

// Bounds of what is shown of a channel.
const (
	maxQueued  = 64
	maxWaiters = 4
)

// channel reads the elements in a channel, and the goroutines that wait for it.
func (m *Memory) channel(v *event.Value, c Record, of *debuginfo.Type) {
	v.Length, v.Capacity = c.Uint("qcount"), c.Uint("dataqsiz")
	next, buffer := c.Uint("recvx"), c.Uint("buf")
	for i := uint64(0); of != nil && v.Capacity > 0 && i < min(v.Length, maxQueued); i++ {
		v.Items = append(v.Items, m.Load(buffer+(next+i)%v.Capacity*of.Size, &of.Type))
	}
	if c.Uint("closed") != 0 {
		v.Text = "closed"
	}
	for _, q := range []struct{ field, what string }{{"recvq", "to receive"}, {"sendq", "to send"}} {
		names, n := "", 0
		for w := c.In(q.field).To("first"); w.Valid() && n < maxEntries; w = w.To("next") {
			if n++; n <= maxWaiters {
				names += fmt.Sprintf(" %d,", w.To("g").Uint("goid"))
			}
		}
		if n == 0 {
			continue
		}
		names = strings.TrimSuffix(names, ",")
		if n > maxWaiters {
			names += fmt.Sprintf(" and %d more", n-maxWaiters)
		}
		if v.Text != "" {
			v.Text += "; "
		}
		v.Text += "goroutines that wait " + q.what + ":" + names
	}
}

func (m *Memory) goString(t *debuginfo.Type, address, length uint64) event.Value {
	v := event.Value{Type: &t.Type, State: event.Known}
	switch {
	case length == 0:
		return v
	case length > maxString:
		return Unknown(&t.Type, fmt.Sprintf("its length of %d cannot be: not a string, or not one yet", int64(length)))
	}
	b, ok := m.Core.Read(address, min(length, maxText))
	if !ok {
		return Unknown(&t.Type, m.whyNot(address))
	}
	v.Text = string(b)
	if length > maxText {
		v.Whole = length
	}
	return v
}

// goInterface reads the dynamic value of an interface. The first word points to the type, or for an
// interface with methods to a table that does.
func (m *Memory) goInterface(t *debuginfo.Type, first, data uint64) event.Value {
	v := event.Value{Type: &t.Type, State: event.Known, Nil: first == 0}
	if v.Nil {
		return v
	}
	at := first
	if t.Kind == debuginfo.GoIface {
		var ok bool
		if at, ok = m.itabType(first); !ok {
			return Unknown(&t.Type, m.whyNot(first))
		}
	}
	is := m.RuntimeType(at)
	if is == nil {
		name := ""
		if m.RuntimeName != nil {
			name = m.RuntimeName(at)
		}
		if name == "" {
			name = fmt.Sprintf("of which the runtime's description is at 0x%x", at)
		}
		return Unknown(&t.Type, "it holds a value of type "+name+", which the debug information does not have")
	}
	if m.direct(is, 0) {
		var b [8]byte
		for i := range b {
			b[i] = byte(data >> (8 * i))
		}
		v.Items = []event.Value{m.decode(is, source{m: m, data: b[:]}, 1)}
		return v
	}
	v.Items = []event.Value{m.decode(is, source{m: m, address: data, inMemory: true}, 1)}
	return v
}

// itabType returns the address of the type descriptor in an interface table.
func (m *Memory) itabType(table uint64) (uint64, bool) {
	offset := uint64(8)
	for _, name := range []string{"internal/abi.ITab", "runtime.itab"} {
		if t := m.Named(name); t != nil {
			for _, x := range t.Members {
				if x.Name == "Type" || x.Name == "_type" {
					offset = x.Offset
				}
			}
			break
		}
	}
	return m.Core.Pointer(table + offset)
}

// direct reports whether an interface holds values of a type in its second word itself: types that
// consist of one pointer.
func (m *Memory) direct(t *debuginfo.Type, depth int) bool {
	switch t.Kind {
	case debuginfo.Pointer, debuginfo.GoMap, debuginfo.GoChan, debuginfo.GoFunc:
		return true
	case debuginfo.Record:
		if len(t.Members) == 1 && depth < 8 {
			if of := m.Types.Get(t.Members[0].Type); of != nil {
				return m.direct(of, depth+1)
			}
		}
	case debuginfo.Array:
		if of := m.Types.Get(t.Elem); of != nil && t.Length == 1 && depth < 8 {
			return m.direct(of, depth+1)
		}
	}
	return false
}

// Record is a structure in memory whose fields are read by name, so that layouts of different
// releases are read by the same code.
type Record struct {
	m       *Memory
	Type    *debuginfo.Type
	Address uint64
}

// Struct returns the structure of a type at an address.
func (m *Memory) Struct(id event.TypeID, address uint64) Record {
	return Record{m, m.Types.Get(id), address}
}

// StructNamed returns the structure of a named type at an address.
func (m *Memory) StructNamed(name string, address uint64) Record {
	return Record{m, m.Named(name), address}
}

// RecordAt returns the structure of a type at an address.
func RecordAt(m *Memory, t *debuginfo.Type, address uint64) Record { return Record{m, t, address} }

// Valid reports whether the type is known and the address is not 0.
func (r Record) Valid() bool { return r.Type != nil && r.Address != 0 }

// Field returns a field's address and type; nil if there is none.
func (r Record) Field(name string) (address uint64, t *debuginfo.Type) {
	if !r.Valid() {
		return 0, nil
	}
	for _, x := range r.Type.Members {
		if x.Name == name {
			return r.Address + x.Offset, r.m.Types.Get(x.Type)
		}
	}
	return 0, nil
}

// Has reports whether the type has a field.
func (r Record) Has(name string) bool {
	_, t := r.Field(name)
	return t != nil
}

// In returns the structure that is a field.
func (r Record) In(name string) Record {
	at, t := r.Field(name)
	return Record{r.m, t, at}
}

// To returns the structure that a field points to.
func (r Record) To(name string) Record {
	at, t := r.Field(name)
	if t == nil {
		return Record{m: r.m}
	}
	p, _ := r.m.Core.Pointer(at)
	return Record{r.m, r.m.Types.Get(t.Elem), p}
}

// Uint returns a field as a number; 0 if there is none.
func (r Record) Uint(name string) uint64 {
	at, t := r.Field(name)
	if t == nil {
		return 0
	}
	if t.Kind == debuginfo.Record && len(t.Members) > 0 { // a number in a wrapper: an atomic one, or a pointer that may be traced
		inner := Record{r.m, t, at}
		for _, name := range []string{"value", "v", "u", "vp", "vu"} {
			if inner.Has(name) {
				return inner.Uint(name)
			}
		}
	}
	n, _ := r.m.Core.Uint(at, int(min(t.Size, 8)))
	return n
}

// Value returns a field's value.
func (r Record) Value(name string) event.Value {
	at, t := r.Field(name)
	if t == nil {
		return Unknown(nil, "there is no such field")
	}
	return r.m.Load(at, &t.Type)
}
