package state

import (
	"fmt"
	"iter"
	"slices"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/timeline"
)

// Threads are recorded without waiting for each other. When two of them use the same memory and nothing
// orders them, the log's order can be the wrong one. What is certain are the times that a thread has
// read from the clock: what it did between two readings happened between them. Where a program orders its
// threads, by locks, channels, atomics or foreign code, there is a reading on each side. So a value is
// known only if no other thread may have stored another one at the same time. (A sound approximation of
// the happens-before relation of Lamport, "Time, Clocks, and the Ordering of Events in a Distributed
// System", 1978, by one clock that all threads read.)

// access is an event that stored something, or told what is there.
type access struct {
	timeline.Covered
	thread event.ThreadID
	time   span
}

// accesses are the accesses to some memory around a moment of a thread.
type accesses struct {
	list  []access
	own   event.ThreadID
	until event.Moment // the last one of the moment's thread that counts
	now   span
	// unknown is a thread that may have stored all of the value at the time of the moment; 0 for none.
	unknown event.ThreadID
}

// concurrently adds to open the parts of a value at an address for which several accesses may have been
// the last one before the moment, with different results.
func (m Memory) concurrently(address uint64, v event.Value, open *doubts) {
	size := v.Type.Size
	if size == 0 || m.until != event.NoMoment || m.moves > 0 || m.t.Threads() < 2 || m.at < 0 || m.at >= m.t.Len() || m.overlaps.onlyBy(m.t.Thread(m.at), m.process, address, size) {
		return
	}
	near, all := m.accessesTo(address, size)
	switch {
	case near.unknown != 0:
		open.add(size, doubt{0, size, m.other(near.unknown)}, nil)
		return
	case !slices.ContainsFunc(near.list, func(a access) bool { return a.thread != near.own }):
		return
	case !all && v.State == event.Known && 0 < len(v.Items) && len(v.Items) <= maxConcurrent && (v.Type.Form == event.Struct || v.Type.Form == event.Array):
		m.concurrentlyEach(address, v, open)
		return
	case !all:
		open.add(size, doubt{0, size, "other goroutines at the same time"}, nil)
		return
	}
	for _, a := range near.list {
		if !near.mayBeLast(a) {
			continue
		}
		doubts := func(from, to uint64) {
			part := a
			part.From, part.To = max(a.From, address+from), min(a.To, address+to)
			if part.From < part.To && near.mayBeLast(part) {
				open.add(size, doubt{from, to, m.other(a.thread)}, nil)
			}
		}
		if m.stores(near, a) {
			doubts(a.From-address, a.To-address)
			continue
		}
		m.differingBy(a.At, address, v, doubts)
	}
}

// concurrentlyEach is concurrently for each part of a struct or array.
func (m Memory) concurrentlyEach(address uint64, v event.Value, open *doubts) {
	for i, item := range v.Items {
		if item.Type == nil || item.Type.Size == 0 {
			continue
		}
		at := partOffset(v.Type, i)
		var of doubts
		m.concurrently(address+at, item, &of)
		for _, d := range of.list {
			open.add(v.Type.Size, doubt{at + d.from, at + d.to, d.by}, nil)
		}
	}
}

// partOffset is the offset of a part of a struct or array, in bytes.
func partOffset(t *event.Type, i int) uint64 {
	if t.Form == event.Struct {
		return t.Fields[min(i, len(t.Fields)-1)].Offset
	}
	return uint64(i) * (t.Size / max(t.Length, 1))
}

// stores reports whether another thread has stored something at the time of the moment. What it has
// stored is not known: the event tells what was there when it was written, which a third thread may have
// stored.
func (m Memory) stores(near accesses, a access) bool {
	return a.thread != near.own && a.time.meets(near.now) && !ofMoment(m.t.Kind(a.At))
}

// differingBy calls yield with the bytes of those parts of the value at an address that an event tells
// otherwise.
func (m Memory) differingBy(at event.Moment, address uint64, v event.Value, yield func(from, to uint64)) {
	if s, ok := m.StretchAt(at); ok && m.t.Kind(at) != event.Move {
		if part, ok := s.Part(address, v.Type, m.Type); ok && s.Covers(address, v.Type.Size) {
			m.differing(part, v, 0, 0, yield)
			return
		}
		all := true // parts are found
		for i, item := range s.Items {
			if from := s.Address + uint64(i)*s.Of.Size; from >= address && from+s.Of.Size <= address+v.Type.Size {
				part, ok := partOf(v, from-address, item.Type, m.Type, 0)
				if all = all && ok; ok {
					m.differing(item, part, from-address, 0, yield)
				}
			}
		}
		if all && s.Address >= address && s.end() <= address+v.Type.Size {
			return
		}
	}
	x := m
	x.at, x.until, x.parts = at, at, nil
	m.differing(x.Load(address, v.Type), v, 0, 0, yield)
}

// accessesTo returns the accesses to some memory that may have been the last ones before the moment, or
// that overwrote them. all is false if there are too many.
func (m Memory) accessesTo(address, size uint64) (near accesses, all bool) {
	near = accesses{own: m.t.Thread(m.at), until: m.reach(), now: m.overlaps.reached(m.at)}
	before, after := m.overlaps.readings(m.at)
	w := window{m.overlaps.firstAfter(before), m.overlaps.lastBefore(after)}
	all = true
	// take takes accesses as long as they matter; matters finds out when they were.
	take := func(covering iter.Seq[timeline.Covered], within func(event.Moment) bool, matters func(*access) bool) {
		n := 0
		for c := range covering {
			if c.At < m.since || !within(c.At) || m.t.Kind(c.At) == event.Made {
				return // beyond what was made is another object
			}
			if n++; n > maxExamined || len(near.list) >= maxConcurrent {
				all = false
				return
			}
			if !isAccess(m.t.Kind(c.At)) {
				continue
			}
			a := access{Covered: c, thread: m.t.Thread(c.At)}
			if !matters(&a) {
				continue
			}
			near.list = append(near.list, a)
			if a.From == address && a.To == address+size && m.stores(near, a) {
				near.unknown = a.thread
				return
			}
		}
	}
	var later []event.ThreadID // all that these do from here on is later than the moment
	take(m.t.CoveringAfter(m.process, address, size, m.at), func(x event.Moment) bool { return x <= w.last }, func(a *access) bool {
		if a.thread == near.own || slices.Contains(later, a.thread) {
			return false
		}
		if a.time = m.overlaps.stored(a.At); a.time.from >= near.now.to {
			later = append(later, a.thread)
			return false
		}
		return true
	})
	if near.unknown != 0 {
		return near, all
	}
	written := map[event.ThreadID]*bytesKnown{} // by each thread, certainly before the moment
	var told bytesKnown
	whole := false
	take(m.t.Covering(m.process, address, size, near.until), func(x event.Moment) bool { return !whole || x >= w.first }, func(a *access) bool {
		if a.At > m.at && a.thread != near.own {
			return false
		}
		from, to := a.From-address, a.To-address
		by := written[a.thread]
		if by == nil {
			by = new(bytesKnown)
			written[a.thread] = by
		}
		if by.all(from, to) {
			return false // the same thread has overwritten it
		}
		a.time = m.overlaps.stored(a.At)
		if near.certainlyBefore(*a) {
			by.add(size, from, to)
			if !whole {
				told.add(size, from, to)
				whole = told.all(0, size) || from == 0 && to == size
				w.first = min(w.first, m.overlaps.firstAfter(m.overlaps.beforeStored(a.At)))
			}
		}
		return true
	})
	return near, all
}

// mayBeLast reports whether an access may have been the last one before the moment.
func (s accesses) mayBeLast(a access) bool {
	if a.thread == s.own && a.At > s.until || a.thread != s.own && a.time.from >= s.now.to {
		return false
	}
	return !slices.ContainsFunc(s.list, func(x access) bool { return x.after(a) && s.certainlyBefore(x) && x.covers(a) })
}

// certainlyBefore reports whether an access was before the moment.
func (s accesses) certainlyBefore(a access) bool {
	if a.thread == s.own {
		return a.At <= s.until
	}
	return a.time.to <= s.now.from
}

// after reports whether an access was certainly after another one.
func (x access) after(a access) bool {
	if x.thread == a.thread {
		return x.At > a.At
	}
	return x.time.from >= a.time.to
}

// covers reports whether an access is of all bytes of another one.
func (x access) covers(a access) bool { return x.From <= a.From && x.To >= a.To }

// differing calls yield with the bytes of those parts of two values that differ.
func (m Memory) differing(a, b event.Value, offset uint64, depth int, yield func(from, to uint64)) {
	t := b.Type
	if t == nil || depth > 32 {
		return
	}
	if a.State == event.Known && b.State == event.Known && !a.Nil && !b.Nil && (t.Form == event.Struct || t.Form == event.Array) {
		for i := range min(len(a.Items), len(b.Items)) {
			m.differing(a.Items[i], b.Items[i], offset+partOffset(t, i), depth+1, yield)
		}
		return
	}
	if a.State != b.State || a.Length != b.Length || a.Capacity != b.Capacity || replay.Identity(a) != replay.Identity(b) {
		yield(offset, offset+t.Size)
	}
}

// changesNow returns the events of other threads that may have changed the map at an address at the time
// of the moment.
func (m Memory) changesNow(address uint64) (list []event.Moment) {
	if m.until != event.NoMoment || m.t.Threads() < 2 || m.at < 0 || m.at >= m.t.Len() {
		return nil
	}
	own, now := m.t.Thread(m.at), span{}
	take := func(all iter.Seq[event.Moment]) {
		n := 0
		for at := range all {
			if n++; n > maxConcurrent {
				return
			}
			if k := m.t.Kind(at); k == event.Exposed || k == event.Entries || m.t.Thread(at) == own {
				continue
			}
			if now == (span{}) {
				now = m.overlaps.reached(m.at)
			}
			if m.overlaps.stored(at).meets(now) {
				list = append(list, at)
			}
		}
	}
	take(m.t.MapEvents(m.process, address, nil, m.at))
	take(m.t.MapEventsAfter(m.process, address, m.at))
	return list
}

// other names the thread of a moment, as what may have changed a value.
func (m Memory) other(thread event.ThreadID) string {
	return fmt.Sprintf("goroutine %d at the same time", m.t.ThreadInfo(thread).Number)
}
