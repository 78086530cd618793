package state

import (
	"sync/atomic"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// mapCache holds the contents of maps that were looked at lately: a condition looks at the same map at many moments.
type mapCache [256]atomic.Pointer[mapContents]

// mapContents are the keys and values of a map after an event of it. They are not changed once they are in the
// cache.
type mapContents struct {
	process     uint16
	address     uint64
	of          *event.Type
	first, last event.Moment // the events that say what is in it; NoMoment for none
	pairs       []event.Value
	all         bool
}

// contents returns what a map holds at the moment, as its events say.
func (m Memory) contents(address uint64, t *event.Type) *mapContents {
	last := event.NoMoment
	for at := range m.t.MapEvents(m.process, address, nil, m.at) {
		last = at
		break
	}
	slot := &m.maps[(address>>4^uint64(m.process))%uint64(len(m.maps))]
	if c := slot.Load(); c != nil && c.process == m.process && c.address == address && c.of == t && c.last == last {
		return c
	}
	c := &mapContents{process: m.process, address: address, of: t, first: event.NoMoment, last: last}
	m.fill(c)
	slot.Store(c)
	return c
}

// fill follows the events of a map.
func (m Memory) fill(c *mapContents) {
	index := map[string]int{}
	set := func(k, v event.Value) {
		key := replay.Identity(k)
		if i, ok := index[key]; ok {
			c.pairs[i+1] = v
			return
		}
		if len(c.pairs) < 2*maxEntriesKept {
			index[key] = len(c.pairs)
			c.pairs = append(c.pairs, k, v)
		}
	}
	types := m.t.Types(m.process)
	for _, at := range m.mapEvents(c.address) {
		e := m.t.Event(at)
		if c.first == event.NoMoment {
			c.first = at
		}
		if e.Kind == event.Exposed {
			for i := 1; i < len(c.pairs); i += 2 {
				if c.pairs[i].State == event.Known {
					c.pairs[i] = m.MayHaveChanged(c.pairs[i], at)
				}
			}
			c.all = false
			continue
		}
		if e.Kind == event.Entries {
			whole, err := event.DecodeEntries(e.Data, types)
			if err != nil || whole.Type != c.of {
				continue
			}
			c.pairs, index, c.all = nil, map[string]int{}, whole.Whole == 0
			for i := 0; i+1 < len(whole.Pairs); i += 2 {
				set(whole.Pairs[i], whole.Pairs[i+1])
			}
			continue
		}
		values, err := event.DecodeValues(e.Data, e.Args, types)
		if err != nil || values[0].Type == nil || values[0].Type.ID != c.of.Key {
			continue
		}
		if e.Kind == event.Element {
			set(values[0], values[1])
			continue
		}
		key := replay.Identity(values[0])
		if i, ok := index[key]; ok {
			delete(index, key)
			c.pairs[i].State, c.pairs[i+1].State = event.Unassigned, event.Unassigned
		}
	}
	kept := c.pairs[:0]
	for i := 0; i+1 < len(c.pairs); i += 2 {
		if c.pairs[i].State != event.Unassigned {
			kept = append(kept, c.pairs[i], c.pairs[i+1])
		}
	}
	c.pairs = kept
}
