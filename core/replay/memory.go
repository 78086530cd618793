package replay

import (
	"fmt"
	"slices"

	"wraithology/core/event"
	"wraithology/core/execlog"
	"wraithology/core/timeline"
)

// logMemory is the memory of one process at a moment, put together from what the
// log says of it since an earlier one. What an event refers to is written right
// after it, so the moments up to until count too as far as they say that.
type logMemory struct {
	t                *timeline.Timeline
	process          uint16
	since, at, until event.Moment // until is NoMoment where it is still to be found
	moves            int          // how often what is looked for has been copied
}

// maxMoves bounds how often memory is followed to where it was copied from.
const maxMoves = 64

// moved says where the bytes at an address were before a copy, whether the copy
// covers all of them, and whether it is known where they were.
func (m logMemory) moved(at event.Moment, address, size uint64) (from uint64, whole, known bool) {
	e := m.t.Event(at)
	source, n := execlog.DecodeMove(e.Data)
	whole = e.Address <= address && address-e.Address <= n && n-(address-e.Address) >= size
	return source + (address - e.Address), whole, source != 0
}

func (r *logRecording) memoryAt(process uint16, at, since event.Moment) Memory {
	return logMemory{r.t, process, since, at, event.NoMoment, 0}
}

// reach returns the last moment that counts.
func (m logMemory) reach() event.Moment {
	if m.until != event.NoMoment {
		return m.until
	}
	until := m.at
	if m.at < 0 || m.at >= m.t.Len() {
		return until
	}
	thread := m.t.Thread(m.at)
	for n := m.at + 1; n < m.t.Len() && n-m.at < maxTrailing; n++ {
		if k := m.t.Kind(n); k != event.Memory && k != event.Spread {
			if m.t.Thread(n) == thread {
				break
			}
		} else if m.t.Thread(n) == thread {
			until = n
		}
	}
	return until
}

// maxTrailing bounds how far behind an event what it refers to is looked for.
const maxTrailing = 256

// Type implements Memory.
func (m logMemory) Type(id event.TypeID) *event.Type { return m.t.Types(m.process)(id) }

// maxSearched bounds how many memory events are looked at for one value.
const maxSearched = 20000

// bytesKnown marks the bytes of a value of which something is known already.
type bytesKnown []uint64

func (b bytesKnown) all(from, to uint64) bool {
	if b == nil {
		return false
	}
	for i := from; i < to; i++ {
		if i/64 >= uint64(len(b)) || b[i/64]>>(i%64)&1 == 0 {
			return false
		}
	}
	return true
}

func (b *bytesKnown) add(size, from, to uint64) {
	const most = 64 << 10
	if size > most {
		return
	}
	if *b == nil {
		*b = make(bytesKnown, (size+63)/64)
	}
	for i := from; i < to; i++ {
		(*b)[i/64] |= 1 << (i % 64)
	}
}

// stretch is what one memory event says: that from address on lie values of one
// type, size bytes each.
type stretch struct {
	address uint64
	of      *event.Type
	items   []event.Value
}

// Load implements Memory. It goes back from the moment until an event tells of
// the whole value, and then lays what later events say over it.
func (m logMemory) Load(address uint64, t *event.Type) event.Value {
	v := event.Value{Type: t, State: event.Unrecorded}
	var later []stretch
	n := 0
	var known bytesKnown
	for c := range m.t.Covering(m.process, address, t.Size, m.reach()) {
		at := c.At
		if at < m.since {
			break
		}
		if known.all(c.From-address, c.To-address) {
			continue // what is said there has been said anew since
		}
		if n++; n > maxSearched {
			break
		}
		if at > m.at && m.t.Thread(at) != m.t.Thread(m.at) {
			continue
		}
		if m.t.Kind(at) == event.Move {
			from, whole, known := m.moved(at, address, t.Size)
			if whole && known && m.moves < maxMoves {
				v = logMemory{m.t, m.process, m.since, at - 1, at - 1, m.moves + 1}.Load(from, t)
			}
			if whole {
				break
			}
			continue
		}
		s, ok := m.stretchAt(at)
		if !ok || !s.overlaps(address, t.Size) {
			continue
		}
		if s.covers(address, t.Size) {
			if part, ok := s.part(address, t, m.Type); ok {
				v = part
				break
			}
			if s.address == address || s.of.Form == event.Struct || s.of.Form == event.Array {
				break // the memory was something else by then
			}
			continue
		}
		later = append(later, s)
		known.add(t.Size, max(s.address, address)-address, min(s.end(), address+t.Size)-address)
	}
	for i := len(later) - 1; i >= 0; i-- {
		for j, item := range later[i].items {
			at := later[i].address + uint64(j)*later[i].of.Size
			if at >= address && at < address+t.Size {
				m.lay(&v, at-address, item, 0)
			}
		}
	}
	return v
}

func (s stretch) end() uint64 { return s.address + s.of.Size*uint64(len(s.items)) }

func (s stretch) overlaps(address, size uint64) bool {
	return s.address < address+max(size, 1) && s.end() > address
}

func (s stretch) covers(address, size uint64) bool {
	return s.address <= address && s.end() >= address+size
}

func (m logMemory) stretchAt(at event.Moment) (stretch, bool) {
	e := m.t.Event(at)
	types := m.t.Types(m.process)
	if e.Kind == event.Spread {
		of, items, err := execlog.DecodeSpread(e.Data, types)
		return stretch{e.Address, of, items}, err == nil && of != nil
	}
	values, err := execlog.DecodeValues(e.Data, e.Args, types)
	if err != nil || len(values) != 1 || values[0].Type == nil {
		return stretch{}, false
	}
	return stretch{e.Address, values[0].Type, values}, true
}

// part finds the value of a type at an address inside a stretch that covers it.
func (s stretch) part(address uint64, t *event.Type, types func(event.TypeID) *event.Type) (event.Value, bool) {
	if s.of.Size == 0 {
		return s.items[0], s.of == t
	}
	i := (address - s.address) / s.of.Size
	if i >= uint64(len(s.items)) {
		return event.Value{}, false
	}
	return partOf(s.items[i], (address-s.address)%s.of.Size, t, types, 0)
}

func partOf(v event.Value, offset uint64, t *event.Type, types func(event.TypeID) *event.Type, depth int) (event.Value, bool) {
	if v.Type == nil || depth > 32 {
		return event.Value{}, false
	}
	if offset == 0 && v.Type == t {
		return v, true
	}
	switch v.Type.Form {
	case event.Struct:
		for i := len(v.Type.Fields) - 1; i >= 0; i-- {
			if f := v.Type.Fields[i]; f.Offset <= offset && i < len(v.Items) {
				if got, ok := partOf(v.Items[i], offset-f.Offset, t, types, depth+1); ok || f.Offset < offset {
					return got, ok
				}
			}
		}
	case event.Array:
		if e := types(v.Type.Elem); e != nil && e.Size > 0 && offset/e.Size < uint64(len(v.Items)) {
			return partOf(v.Items[offset/e.Size], offset%e.Size, t, types, depth+1)
		}
	}
	return event.Value{}, false
}

// lay puts a value into v at an offset. Parts of v that nothing tells of are
// unrecorded.
func (m logMemory) lay(v *event.Value, offset uint64, x event.Value, depth int) {
	if v.Type == nil || x.Type == nil || depth > 32 {
		return
	}
	if offset == 0 && v.Type == x.Type {
		*v = x
		return
	}
	switch v.Type.Form {
	case event.Struct:
		m.skeleton(v, len(v.Type.Fields), func(i int) event.TypeID { return v.Type.Fields[i].Type })
		for i := len(v.Items) - 1; i >= 0; i-- {
			if f := v.Type.Fields[i]; f.Offset <= offset {
				m.lay(&v.Items[i], offset-f.Offset, x, depth+1)
				return
			}
		}
	case event.Array:
		const most = 1 << 12
		e := m.Type(v.Type.Elem)
		if e == nil || e.Size == 0 || offset/e.Size >= min(v.Type.Length, most) {
			return
		}
		m.skeleton(v, int(max(offset/e.Size+1, uint64(len(v.Items)))), func(int) event.TypeID { return v.Type.Elem })
		v.Length = v.Type.Length
		m.lay(&v.Items[offset/e.Size], offset%e.Size, x, depth+1)
	}
}

// skeleton gives v n items of its own, unrecorded where it had none.
func (m logMemory) skeleton(v *event.Value, n int, typeOf func(int) event.TypeID) {
	items := make([]event.Value, n)
	copy(items, v.Items)
	for i := len(v.Items); i < n; i++ {
		items[i] = event.Value{Type: m.Type(typeOf(i)), State: event.Unrecorded}
	}
	v.Items, v.State = items, event.Known
}

// mapEvents lists what the log says of a map up to the moment, oldest first,
// from the last time that all its entries were said.
func (m logMemory) mapEvents(address uint64) []event.Moment {
	var list []event.Moment
	for at := range m.t.MapEvents(m.process, address, nil, m.at) {
		list = append(list, at)
		if m.t.Kind(at) == event.Entries {
			break
		}
	}
	slices.Reverse(list)
	return list
}

// maxEntriesKept bounds the entries that are put together for one map.
const maxEntriesKept = 1 << 16

// Entries implements Memory.
func (m logMemory) Entries(address uint64, t *event.Type) (pairs []event.Value, all bool) {
	index := map[string]int{}
	set := func(k, v event.Value) {
		key := identity(k)
		if i, ok := index[key]; ok {
			pairs[i+1] = v
			return
		}
		if len(pairs) < 2*maxEntriesKept {
			index[key] = len(pairs)
			pairs = append(pairs, k, v)
		}
	}
	types := m.t.Types(m.process)
	for _, at := range m.mapEvents(address) {
		e := m.t.Event(at)
		if e.Kind == event.Entries {
			whole, err := execlog.DecodeEntries(e.Data, types)
			if err != nil || whole.Type != t {
				continue
			}
			pairs, index, all = nil, map[string]int{}, whole.Whole == 0
			for i := 0; i+1 < len(whole.Pairs); i += 2 {
				set(whole.Pairs[i], whole.Pairs[i+1])
			}
			continue
		}
		values, err := execlog.DecodeValues(e.Data, e.Args, types)
		if err != nil || values[0].Type == nil || values[0].Type.ID != t.Key {
			continue
		}
		if e.Kind == event.Element {
			set(values[0], values[1])
			continue
		}
		key := identity(values[0])
		if i, ok := index[key]; ok {
			delete(index, key)
			pairs[i].State, pairs[i+1].State = event.Unassigned, event.Unassigned
		}
	}
	kept := pairs[:0]
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i].State != event.Unassigned {
			kept = append(kept, pairs[i], pairs[i+1])
		}
	}
	return kept, all
}

// identity tells keys of a map apart, exactly.
func identity(v event.Value) string {
	s := fmt.Sprintf("%t %d %d %v %v %q %x", v.Nil, v.Int, v.Uint, v.Float, v.Imag, v.Text, v.Address)
	if v.Type != nil && v.Type.Form == event.Interface && len(v.Items) == 1 && v.Items[0].Type != nil {
		s += " " + v.Items[0].Type.Name
	}
	for _, item := range v.Items {
		s += " (" + identity(item) + ")"
	}
	return s
}
