package state

import (
	"sync"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Kept keeps what was loaded from memory, with the moments between which nothing changes it, for questions about many moments. The
// zero value is empty. It is for recordings with one thread; with several, what is known at a moment depends on
// what the others do around it.
type Kept struct {
	mu      sync.Mutex
	objects map[keptKey]keptValue
	maps    map[keptKey]keptEntries
}

type keptKey struct {
	process uint16
	address uint64
	of      event.TypeID
}

// keptSpan are the moments in which a value holds: from the first to before until, which is event.NoMoment for the end.
type keptSpan struct{ from, until event.Moment }

type keptValue struct {
	keptSpan
	value event.Value
}

type keptEntries struct {
	keptSpan
	pairs []event.Value
	all   bool
}

// mostKept limits the objects that are kept; when there are more, all are forgotten.
const mostKept = 1 << 20

// MemoryKept returns the memory of a process at a moment, of which the loads are kept.
func (r *Log) MemoryKept(process uint16, at event.Moment, k *Kept) replay.Memory {
	m := r.MemoryAt(process, at, 0)
	if k == nil {
		return m
	}
	return k.In(m)
}

// In returns memory of which the loads are kept, if they can be.
func (k *Kept) In(m replay.Memory) replay.Memory {
	if x, ok := m.(Memory); ok && x.t.Threads() == 1 && x.unused == nil {
		return keptMemory{x, k}
	}
	return m
}

type keptMemory struct {
	Memory
	kept *Kept
}

func (s keptSpan) holds(m Memory) bool {
	return s.from <= m.at && m.IsBefore(s.until)
}

// IsBefore implements replay.Steady.
func (m Memory) IsBefore(until event.Moment) bool {
	return until == event.NoMoment || m.reach() < until
}

// steadyPiece is the number of bytes that are looked at at once.
const steadyPiece = 4096

// SteadyUntil implements replay.Steady.
func (m keptMemory) SteadyUntil(address, size uint64) event.Moment {
	until := event.NoMoment
	for from := uint64(0); from < size; from += steadyPiece {
		for c := range m.t.CoveringAfter(m.process, address+from, min(size-from, steadyPiece), m.reach()) {
			if until == event.NoMoment || c.At < until {
				until = c.At
			}
			break
		}
	}
	return until
}

// MapSteadyUntil implements replay.Steady.
func (m keptMemory) MapSteadyUntil(address uint64) event.Moment {
	for at := range m.t.MapEventsAfter(m.process, address, m.reach()) {
		return at
	}
	return event.NoMoment
}

// Load implements replay.Memory.
func (m keptMemory) Load(address uint64, t *event.Type) event.Value {
	key := keptKey{m.process, address, t.ID}
	m.kept.mu.Lock()
	have, ok := m.kept.objects[key]
	m.kept.mu.Unlock()
	if ok && have.holds(m.Memory) {
		return have.value
	}
	v := keptValue{keptSpan{m.at, m.SteadyUntil(address, t.Size)}, m.Memory.Load(address, t)}
	m.kept.mu.Lock()
	defer m.kept.mu.Unlock()
	if m.kept.objects == nil || len(m.kept.objects) > mostKept {
		m.kept.objects = map[keptKey]keptValue{}
	}
	m.kept.objects[key] = v
	return v.value
}

// Entries implements replay.Memory.
func (m keptMemory) Entries(address uint64, t *event.Type) ([]event.Value, bool) {
	key := keptKey{m.process, address, t.ID}
	m.kept.mu.Lock()
	have, ok := m.kept.maps[key]
	m.kept.mu.Unlock()
	if ok && have.holds(m.Memory) {
		return have.pairs, have.all
	}
	pairs, all := m.Memory.Entries(address, t)
	v := keptEntries{keptSpan{m.at, m.MapSteadyUntil(address)}, pairs, all}
	m.kept.mu.Lock()
	defer m.kept.mu.Unlock()
	if m.kept.maps == nil || len(m.kept.maps) > mostKept {
		m.kept.maps = map[keptKey]keptEntries{}
	}
	m.kept.maps[key] = v
	return pairs, all
}
