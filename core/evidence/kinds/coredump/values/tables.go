package values

import (
	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// Entries implements replay.Memory.
func (m *Memory) Entries(address uint64, t *event.Type) ([]event.Value, bool) {
	full := m.Types.Get(t.ID)
	if full == nil || address == 0 {
		return nil, false
	}
	e := &entries{m: m}
	if full.Kind != debuginfo.GoMap {
		m.containerEntries(full, address, e)
		return e.pairs, !e.cut
	}
	inner := m.Struct(full.Inner, address)
	e.key, e.elem = m.Types.Get(full.Key), m.Types.Get(full.Elem)
	if !inner.Valid() || e.key == nil || e.elem == nil {
		return nil, false
	}
	if inner.Has("dirPtr") {
		e.groupMap(inner)
	} else {
		e.bucketMap(inner)
	}
	return e.pairs, !e.cut
}

// entries gathers the entries of a table.
type entries struct {
	m         *Memory
	key, elem *debuginfo.Type
	pairs     []event.Value
	cut       bool // there are more entries, or some could not be read
}

func (e *entries) full() bool {
	if len(e.pairs) >= 2*maxEntries {
		e.cut = true
	}
	return e.cut
}

// add reads an entry. Large keys and values are stored by pointer; then the type of the slot is not
// that of the map.
func (e *entries) add(key, elem uint64, keyType, elemType *debuginfo.Type) {
	e.pairs = append(e.pairs, e.slot(key, keyType, e.key), e.slot(elem, elemType, e.elem))
}

func (e *entries) slot(address uint64, held, want *debuginfo.Type) event.Value {
	if held != nil && held.Kind == debuginfo.Pointer && held.Elem == want.ID && held.ID != want.ID {
		address, _ = e.m.Core.Pointer(address)
	}
	return e.m.Load(address, &want.Type)
}

func (m *Memory) mapLength(t *debuginfo.Type, address uint64) uint64 {
	r := m.Struct(t.Inner, address)
	if r.Has("used") {
		return r.Uint("used")
	}
	return r.Uint("count")
}

// groupMap reads a map that consists of groups of slots with a word of control bytes each (Go 1.24
// and later). A small map is one group. Others have a directory of tables, which can contain a
// table several times.
func (e *entries) groupMap(r Record) {
	at, directory := r.Field("dirPtr") // **table, or what it is declared as
	if directory == nil {
		return
	}
	first, ok := e.m.Core.Pointer(at)
	if !ok || first == 0 {
		return
	}
	pointer := e.m.Types.Get(directory.Elem)
	if pointer == nil {
		e.cut = true
		return
	}
	table := Record{e.m, e.m.Types.Get(pointer.Elem), 1}
	groups := table.In("groups")
	_, data := groups.Field("data")
	if data == nil {
		e.cut = true
		return
	}
	group := e.m.Types.Get(data.Elem)
	n := r.Uint("dirLen")
	if n == 0 {
		e.group(Record{e.m, group, first})
		return
	}
	seen := map[uint64]bool{}
	for i := uint64(0); i < min(n, maxEntries) && !e.full(); i++ {
		p, ok := e.m.Core.Pointer(first + 8*i)
		if !ok {
			e.cut = true
			return
		}
		if p == 0 || seen[p] {
			continue
		}
		seen[p] = true
		g := Record{e.m, table.Type, p}.In("groups")
		base, mask := g.Uint("data"), g.Uint("lengthMask")
		for j := uint64(0); j <= min(mask, maxEntries) && !e.full() && group != nil; j++ {
			e.group(Record{e.m, group, base + j*group.Size})
		}
	}
}

// group reads the full slots of one group: those whose control byte has a clear highest bit.
func (e *entries) group(r Record) {
	control, t := r.Field("ctrl")
	if t == nil {
		e.cut = true
		return
	}
	word, ok := e.m.Core.Uint(control, 8)
	if !ok {
		e.cut = true
		return
	}
	at, slots := r.Field("slots")
	keysAt, keys := r.Field("keys")
	elemsAt, elems := r.Field("elems")
	for i := range uint64(8) {
		if word>>(8*i)&0x80 != 0 {
			continue
		}
		switch {
		case slots != nil:
			of := e.m.Types.Get(slots.Elem)
			if of == nil {
				e.cut = true
				return
			}
			slot := Record{e.m, of, at + i*of.Size}
			k, kt := slot.Field("key")
			v, vt := slot.Field("elem")
			e.add(k, v, kt, vt)
		case keys != nil && elems != nil:
			kt, vt := e.m.Types.Get(keys.Elem), e.m.Types.Get(elems.Elem)
			if kt == nil || vt == nil {
				e.cut = true
				return
			}
			e.add(keysAt+i*kt.Size, elemsAt+i*vt.Size, kt, vt)
		}
	}
}

// bucketMap reads a map that consists of buckets of eight entries with chains of overflow buckets
// (up to Go 1.23). While it grows, entries that have not been moved are in the old buckets.
func (e *entries) bucketMap(r Record) {
	const (
		slotsOfBucket = 8
		emptyUpTo     = 1 // of the byte with a slot's state
		firstFull     = 5
	)
	_, buckets := r.Field("buckets")
	if buckets == nil {
		e.cut = true
		return
	}
	bucket := e.m.Types.Get(buckets.Elem)
	size := uint64(1) << min(r.Uint("B"), 40)
	steps := 0
	visit := func(base, n uint64, old bool) {
		for i := uint64(0); i < n && base != 0 && bucket != nil && !e.full(); i++ {
			b := Record{e.m, bucket, base + i*bucket.Size}
			for first := true; b.Valid() && !e.full(); first = false {
				if steps++; steps > maxEntries {
					e.cut = true
					return
				}
				top, _ := b.Field("tophash")
				marks, ok := e.m.Core.Read(top, slotsOfBucket)
				if !ok {
					e.cut = true
					return
				}
				if old && first && marks[0] > emptyUpTo && marks[0] < firstFull {
					break // moved already
				}
				keysAt, keys := b.Field("keys")
				valuesAt, values := b.Field("values")
				if keys == nil || values == nil {
					e.cut = true
					return
				}
				kt, vt := e.m.Types.Get(keys.Elem), e.m.Types.Get(values.Elem)
				for j := range uint64(slotsOfBucket) {
					if marks[j] >= firstFull && kt != nil && vt != nil {
						e.add(keysAt+j*kt.Size, valuesAt+j*vt.Size, kt, vt)
					}
				}
				b = Record{e.m, bucket, b.Uint("overflow")}
			}
		}
	}
	visit(r.Uint("buckets"), size, false)
	if old := r.Uint("oldbuckets"); old != 0 {
		visit(old, max(size/2, 1), true)
	}
}
