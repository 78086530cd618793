package state

import (
	"slices"
	"sync/atomic"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/timeline"
)

// Memory is the memory of one process at a moment, reconstructed from the log since an earlier
// moment. Memory that an event refers to is recorded right after it, so such events up to until
// count too.
type Memory struct {
	t                *timeline.Timeline
	overlaps         *overlaps
	lists            *atomic.Pointer[decoded] // the last long list that was decoded
	maps             *mapCache
	process          uint16
	since, at, until event.Moment // until is NoMoment if it is still to be found
	moves            int          // how often what is looked for has been copied
	parts            *int         // how many parts may still be reconstructed one by one; nil for all
	unused           *unused      // the variable that leads here is not used any more; nil if it may be
}

// MaxMoves limits how often the source of copied memory is followed.
const MaxMoves = 64

// Moved returns the address, before a copy, of the bytes at an address. whole is set if the copy
// covers all of them; known is set if the source is known.
func (m Memory) Moved(at event.Moment, address, size uint64) (from uint64, whole, known bool) {
	e := m.t.Event(at)
	source, n := event.DecodeMove(e.Data)
	whole = e.Address <= address && address-e.Address <= n && n-(address-e.Address) >= size
	return source + (address - e.Address), whole, source != 0
}

// MemoryAt returns the memory of a process at a moment, from the log since another moment.
func (r *Log) MemoryAt(process uint16, at, since event.Moment) replay.Memory {
	return Memory{t: r.T, overlaps: r.overlaps, lists: &r.lists, maps: &r.maps, process: process, since: since, at: at, until: event.NoMoment}
}

// MemoryUntil returns the memory of a process at a moment.
func (r *Log) MemoryUntil(process uint16, at event.Moment) Memory {
	return Memory{t: r.T, overlaps: r.overlaps, lists: &r.lists, maps: &r.maps, process: process, at: at, until: at}
}

// reach returns the last moment that counts.
func (m Memory) reach() event.Moment {
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

// maxTrailing limits the moments after an event that are searched for the memory that it refers to.
const maxTrailing = 256

// Type implements replay.Memory.
func (m Memory) Type(id event.TypeID) *event.Type { return m.t.Types(m.process)(id) }

// Divisible implements replay.Divisible.
func (m Memory) Divisible() {}

// maxSearched limits the memory events that are examined for one value.
const maxSearched = 20000

// bytesKnown marks the known bytes of a value.
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

// stretch is the content of one memory event: consecutive values of one type at an address.
type stretch struct {
	Address uint64
	Of      *event.Type
	Items   []event.Value
}

// Load implements replay.Memory. It goes back in time to an event that covers the whole value, and
// then applies the later events that cover parts of it.
func (m Memory) Load(address uint64, t *event.Type) event.Value {
	if m.unused != nil && m.reused(address, t.Size) {
		v := m.then().Load(address, t)
		m.doubt(&v, 0, &doubts{list: []doubt{{0, t.Size, m.unused.reason()}}}, 0)
		return v
	}
	v := event.Value{Type: t, State: event.Unrecorded}
	var later []stretch
	n := 0
	var known bytesKnown
	var open doubts
	whole := m.wholeSince()
	for c := range m.t.Covering(m.process, address, t.Size, m.reach()) {
		at := c.At
		if at < m.since {
			break
		}
		if known.all(c.From-address, c.To-address) {
			continue // what is said there has been said again since
		}
		if n++; n > maxSearched {
			break
		}
		if at > m.at && m.t.Thread(at) != m.t.Thread(m.at) {
			continue
		}
		if m.t.Kind(at) == event.Made {
			if whole := c.From <= address && c.To >= address+t.Size; !whole && (t.Form == event.Struct || t.Form == event.Array) {
				return m.byParts(address, t)
			}
			break // what was there before is another object
		}
		if at < whole {
			open.add(t.Size, doubt{c.From - address, c.To - address, leftOut}, known)
		}
		if m.t.Kind(at) == event.Exposed {
			open.add(t.Size, doubt{c.From - address, c.To - address, m.exposedBy(at)}, known)
			continue
		}
		if m.t.Kind(at) == event.Move {
			from, whole, known := m.Moved(at, address, t.Size)
			if whole && known && m.moves < MaxMoves {
				source := m
				source.at, source.until, source.moves = at-1, at-1, m.moves+1
				v = source.Load(from, t)
			}
			if !whole && (t.Form == event.Struct || t.Form == event.Array) {
				return m.byParts(address, t)
			}
			break // a part of a number was copied: the number is not known
		}
		s, ok := m.StretchAt(at)
		if !ok || !s.Overlaps(address, t.Size) {
			continue
		}
		if s.Covers(address, t.Size) {
			if part, ok := s.Part(address, t, m.Type); ok {
				v = part
				if s.Of.Volatile && m.t.Kind(at) == event.Memory {
					open.volatile(s, address, t.Size, known)
				}
				break
			}
			if m.begins(t, s.Of, 0) && (address-s.Address)%s.Of.Size == 0 {
				later = append(later, s) // its parts were recorded, all of them
				break
			}
			if s.Address == address || s.Of.Form == event.Struct || s.Of.Form == event.Array {
				break // the memory was something else by then
			}
			continue
		}
		later = append(later, s)
		known.add(t.Size, max(s.Address, address)-address, min(s.end(), address+t.Size)-address)
	}
	for i := len(later) - 1; i >= 0; i-- {
		for j, item := range later[i].Items {
			at := later[i].Address + uint64(j)*later[i].Of.Size
			if at >= address && at < address+t.Size {
				m.lay(&v, at-address, item, 0)
			}
		}
	}
	m.concurrently(address, v, &open)
	if len(open.list) > 0 {
		m.doubt(&v, 0, &open, 0)
	}
	return v
}

// maxLoaded limits the elements of an array, and the parts of a value, that are reconstructed one by
// one; further ones are unrecorded.
const maxLoaded = 1 << 12

// byParts reconstructs a struct or array from its parts, because a part of it was copied from
// elsewhere.
func (m Memory) byParts(address uint64, t *event.Type) event.Value {
	if m.parts == nil {
		left := maxLoaded
		m.parts = &left
	}
	v := event.Value{Type: t, State: event.Unrecorded}
	load := func(offset uint64, id event.TypeID) {
		item := event.Value{Type: m.Type(id), State: event.Unrecorded}
		if *m.parts--; item.Type != nil && *m.parts >= 0 {
			item = m.Load(address+offset, item.Type)
		}
		if item.State != event.Unrecorded {
			v.State = event.Known
		}
		v.Items = append(v.Items, item)
	}
	if t.Form == event.Struct {
		for _, f := range t.Fields {
			load(f.Offset, f.Type)
		}
	} else {
		v.Length = t.Length
		for i := range min(t.Length, maxLoaded) {
			load(i*(t.Size/t.Length), t.Elem)
		}
	}
	if v.State != event.Known {
		return event.Value{Type: t, State: event.Unrecorded}
	}
	return v
}

// begins reports whether a type begins with a part of another type: a struct with its first field,
// an array with its first element.
func (m Memory) begins(t, part *event.Type, depth int) bool {
	switch {
	case t == nil || part.Size == 0 || t.Size < part.Size || depth > 32:
		return false
	case t == part:
		return true
	case t.Form == event.Struct:
		return slices.ContainsFunc(t.Fields, func(f event.Field) bool { return f.Offset == 0 && m.begins(m.Type(f.Type), part, depth+1) })
	case t.Form == event.Array:
		return m.begins(m.Type(t.Elem), part, depth+1)
	}
	return false
}

// decoded is the stretch of a long list. Its elements are usually asked for one after the other. It is not
// changed by those who get it.
type decoded struct {
	at event.Moment
	stretch
}

// fewItems is the number of elements up to which a list is decoded again each time.
const fewItems = 64

func (s stretch) end() uint64 { return s.Address + s.Of.Size*uint64(len(s.Items)) }

func (s stretch) Overlaps(address, size uint64) bool {
	return s.Address < address+max(size, 1) && s.end() > address
}

func (s stretch) Covers(address, size uint64) bool {
	return s.Address <= address && s.end() >= address+size
}

func (m Memory) StretchAt(at event.Moment) (stretch, bool) {
	e := m.t.Event(at)
	types := m.t.Types(m.process)
	if e.Kind == event.Spread {
		if last := m.lists.Load(); last != nil && last.at == at {
			return last.stretch, true
		}
		of, items, err := event.DecodeSpread(e.Data, types)
		s := stretch{e.Address, of, items}
		if ok := err == nil && of != nil; !ok {
			return s, false
		}
		if len(items) > fewItems {
			m.lists.Store(&decoded{at, s})
		}
		return s, true
	}
	values, err := event.DecodeValues(e.Data, e.Args, types)
	if err != nil || len(values) != 1 || values[0].Type == nil {
		return stretch{}, false
	}
	return stretch{e.Address, values[0].Type, values}, true
}

// Part returns the value of a type at an address inside a stretch that covers it.
func (s stretch) Part(address uint64, t *event.Type, types func(event.TypeID) *event.Type) (event.Value, bool) {
	if s.Of.Size == 0 {
		return s.Items[0], s.Of == t
	}
	i := (address - s.Address) / s.Of.Size
	if i >= uint64(len(s.Items)) {
		return event.Value{}, false
	}
	return partOf(s.Items[i], (address-s.Address)%s.Of.Size, t, types, 0)
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

// lay writes a value into v at an offset. Parts of v without an event are unrecorded.
func (m Memory) lay(v *event.Value, offset uint64, x event.Value, depth int) {
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
		e := m.Type(v.Type.Elem)
		if e == nil || e.Size == 0 || offset/e.Size >= min(v.Type.Length, maxLoaded) {
			return
		}
		m.skeleton(v, int(max(offset/e.Size+1, uint64(len(v.Items)))), func(int) event.TypeID { return v.Type.Elem })
		v.Length = v.Type.Length
		m.lay(&v.Items[offset/e.Size], offset%e.Size, x, depth+1)
	}
}

// skeleton gives v its own n items; missing ones are unrecorded.
func (m Memory) skeleton(v *event.Value, n int, typeOf func(int) event.TypeID) {
	items := make([]event.Value, n)
	copy(items, v.Items)
	for i := len(v.Items); i < n; i++ {
		items[i] = event.Value{Type: m.Type(typeOf(i)), State: event.Unrecorded}
	}
	v.Items, v.State = items, event.Known
}

// mapEvents lists the events of a map up to the moment, oldest first, from the last one with all
// entries.
func (m Memory) mapEvents(address uint64) []event.Moment {
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

// maxEntriesKept limits the entries of one map.
const maxEntriesKept = 1 << 16

// Entries implements replay.Memory.
func (m Memory) Entries(address uint64, t *event.Type) (pairs []event.Value, all bool) {
	if m.unused != nil {
		if pairs, reused := m.reusedMap(address, t); reused {
			return pairs, false
		}
	}
	found := m.contents(address, t)
	pairs, all = found.pairs, found.all
	doubted := found.first < m.wholeSince()
	changes := m.changesNow(address)
	if !doubted && len(changes) == 0 {
		return pairs, all
	}
	pairs = slices.Clone(pairs)
	types := m.t.Types(m.process)
	if doubted { // keys are not told again
		all = false
		for i := 1; i < len(pairs); i += 2 {
			if pairs[i].State == event.Known {
				pairs[i] = mayHaveChanged(pairs[i], leftOut)
			}
		}
	}
	for _, at := range changes {
		e := m.t.Event(at)
		values, err := event.DecodeValues(e.Data, e.Args, types)
		if err != nil || values[0].Type == nil || values[0].Type.ID != t.Key {
			continue
		}
		all = false
		wanted := replay.Identity(values[0])
		for i := 0; i+1 < len(pairs); i += 2 {
			if pairs[i+1].State == event.Known && replay.Identity(pairs[i]) == wanted {
				pairs[i+1] = mayHaveChanged(pairs[i+1], m.other(m.t.Thread(at)))
			}
		}
	}
	return pairs, all
}
