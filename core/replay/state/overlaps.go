package state

import (
	"math"
	"strings"
	"sync"
	"sync/atomic"

	"wraithology/core/event"
	"wraithology/core/timeline"
)

// span is the time in nanoseconds in which something happened.
type span struct{ from, to int64 }

// meets reports whether the order of two things that happened in these times is not known.
func (s span) meets(o span) bool { return s.from < o.to && o.from < s.to }

// ofMoment reports whether an event belongs to the moment of the event before it: its time was not read.
func ofMoment(k event.Kind) bool {
	return k == event.Memory || k == event.Spread || k == event.Snapshot
}

// clocked reports whether the time of a moment was read from the clock.
func clocked(t *timeline.Timeline, at event.Moment) bool {
	return !t.Estimated(at) && !ofMoment(t.Kind(at))
}

// gap is what a thread did between two moments at which it has read the clock; NoMoment stands for its
// beginning and its end.
type gap struct {
	thread        event.ThreadID
	before, after event.Moment
}

// readings returns the moments, at or first before and after a moment, at which its thread has read the
// clock.
func (o *overlaps) readings(at event.Moment) (before, after event.Moment) {
	if clocked(o.t, at) {
		return at, at
	}
	thread := o.t.Thread(at)
	slot := &o.gaps[(uint64(thread)*31+uint64(at/gapMoments))%uint64(len(o.gaps))]
	if g := slot.Load(); g != nil && g.thread == thread && g.before < at && (at < g.after || g.after == event.NoMoment) {
		return g.before, g.after
	}
	g := gap{thread, event.NoMoment, event.NoMoment}
	for x := range o.t.Walk(thread, at, true) {
		if clocked(o.t, x) {
			g.before = x
			break
		}
	}
	for x := range o.t.Walk(thread, at, false) {
		if clocked(o.t, x) {
			g.after = x
			break
		}
	}
	slot.Store(&g)
	return g.before, g.after
}

// span is the time between two readings.
func (o *overlaps) span(from, to event.Moment) span {
	s := span{math.MinInt64, math.MaxInt64}
	if from != event.NoMoment {
		s.from = o.t.Time(from)
	}
	if to != event.NoMoment {
		s.to = o.t.Time(to)
	}
	return s
}

// reached is the time in which a moment was.
func (o *overlaps) reached(at event.Moment) span { return o.span(o.readings(at)) }

// stored is the time in which the memory of a moment's event changed: after the event before it.
func (o *overlaps) stored(at event.Moment) span {
	_, after := o.readings(at)
	return o.span(o.beforeStored(at), after)
}

func (o *overlaps) beforeStored(at event.Moment) event.Moment {
	for x := range o.t.Walk(o.t.Thread(at), at, true) {
		before, _ := o.readings(x)
		return before
	}
	return event.NoMoment
}

// overlaps finds the events that may have happened at the same time as others. It is safe for concurrent
// use.
type overlaps struct {
	t       *timeline.Timeline
	mu      sync.Mutex
	windows map[event.Moment]window   // by the first moment of their stretch
	users   map[region]event.ThreadID // 0 for several
	gaps    [1 << 10]atomic.Pointer[gap]
	names   func() map[string]bool // of the functions
}

// window are the moments between which an event may have happened at the same time as one of a stretch.
type window struct{ first, last event.Moment }

// region is a part of a process's memory.
type region struct {
	process uint16
	number  uint64
}

const (
	stretchMoments = 512     // moments that share a window
	gapMoments     = 1 << 12 // moments for which a thread's gap is remembered
	regionBytes    = 256     // size of a region
	maxCached      = 1 << 14 // windows, and regions, that are remembered
	maxExamined    = 1 << 12 // accesses to a region or value that are examined
	maxConcurrent  = 1 << 8  // accesses that are compared with each other
)

func newOverlaps(t *timeline.Timeline) *overlaps {
	names := sync.OnceValue(func() map[string]bool {
		all := map[string]bool{}
		for _, f := range t.Functions {
			all[f.Name] = true
		}
		return all
	})
	return &overlaps{t: t, windows: map[event.Moment]window{}, users: map[region]event.ThreadID{}, names: names}
}

// startsOwn reports whether own code, named with the place of its go statement, has started a thread.
func (o *overlaps) startsOwn(creator string) bool {
	name, _, _ := strings.Cut(creator, " at ")
	name, _, _ = strings.Cut(name, " by ")
	return o.names()[name]
}

// around returns the window of a moment.
func (o *overlaps) around(at event.Moment) window {
	first := at - at%stretchMoments
	o.mu.Lock()
	w, ok := o.windows[first]
	o.mu.Unlock()
	if ok {
		return w
	}
	w = window{first, min(first+stretchMoments, o.t.Len()) - 1}
	for i := range o.t.Threads() {
		o.widen(&w, event.ThreadID(i+1), first)
	}
	o.mu.Lock()
	if len(o.windows) >= maxCached {
		clear(o.windows)
	}
	o.windows[first] = w
	o.mu.Unlock()
	return w
}

// firstAfter returns the first moment that may have happened after another one.
func (o *overlaps) firstAfter(at event.Moment) event.Moment {
	if at == event.NoMoment {
		return 0
	}
	return o.around(at).first
}

// lastBefore returns the last moment that may have happened before another one.
func (o *overlaps) lastBefore(at event.Moment) event.Moment {
	if at == event.NoMoment {
		return o.t.Len() - 1
	}
	return o.around(at).last
}

// widen adds what a thread did between the last time that it read before a stretch and the first one
// after it.
func (o *overlaps) widen(w *window, thread event.ThreadID, first event.Moment) {
	begins, ends := o.t.Span(thread)
	if ends < first || begins >= first+stretchMoments {
		return
	}
	if begins < first {
		for x := range o.t.Walk(thread, first, true) {
			if clocked(o.t, x) {
				break
			}
			if isAccess(o.t.Kind(x)) {
				w.first = min(w.first, x)
			}
		}
	}
	for x := range o.t.Walk(thread, first+stretchMoments-1, false) {
		if isAccess(o.t.Kind(x)) {
			w.last = max(w.last, x)
		}
		if clocked(o.t, x) {
			break
		}
	}
}

// only returns the one thread whose events are about a region of memory, 0 if there are several.
func (o *overlaps) only(r region) event.ThreadID {
	o.mu.Lock()
	thread, ok := o.users[r]
	o.mu.Unlock()
	if ok {
		return thread
	}
	n := 0
	for c := range o.t.Covering(r.process, r.number*regionBytes, regionBytes, o.t.Len()-1) {
		if n++; n > maxExamined || thread != 0 && o.t.Thread(c.At) != thread {
			thread = 0
			break
		}
		thread = o.t.Thread(c.At)
	}
	o.mu.Lock()
	if len(o.users) >= maxCached {
		clear(o.users)
	}
	o.users[r] = thread
	o.mu.Unlock()
	return thread
}

// onlyBy reports whether no other thread than one uses some memory.
func (o *overlaps) onlyBy(thread event.ThreadID, process uint16, address, size uint64) bool {
	first, last := address/regionBytes, (address+max(size, 1)-1)/regionBytes
	if last < first || last-first > maxConcurrent {
		return false
	}
	for n := first; n <= last; n++ {
		if o.only(region{process, n}) != thread {
			return false
		}
	}
	return true
}

// isAccess reports whether an event stores something, or tells what is there.
func isAccess(k event.Kind) bool {
	return k == event.Cell || k == event.Store || k == event.Move || k == event.Memory || k == event.Spread
}
