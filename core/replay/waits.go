package replay

import (
	"context"
	"slices"
	"strings"

	"wraithology/core/event"
)

// Wait is what a thread waits for. Holders are the threads that hold it; those that cannot be known are left out.
type Wait struct {
	Place
	On      string // WaitMutex and so on
	Name    string // as the program names it, or its address
	Holders []event.ThreadID
	Note    string // who may hold it or wake the thread, if that is not certain
}

// What threads wait for.
const (
	WaitMutex     = "mutex"
	WaitReadWrite = "read-write lock"
	WaitCondition = "condition"
	WaitSemaphore = "semaphore"
	WaitBarrier   = "barrier"
	WaitChannel   = "channel"
	WaitSelect    = "select"
	WaitGroup     = "wait group"
	WaitThread    = "thread"
	WaitTimer     = "timer"
	WaitInput     = "input"
	WaitLock      = "lock" // of a kind that is not known
)

// Cycle is threads of which each waits for what the next one holds.
type Cycle struct {
	Kind    string // deadlock
	Threads []event.ThreadID
	On      []string // what each of them waits for
}

// WaitGraph is evidence that knows what its threads wait for.
type WaitGraph interface {
	// Waits lists the threads that wait at a moment.
	Waits(ctx context.Context, at event.Moment) ([]Wait, error)
}

// Cycles finds the deadlocks among waits: shortest ways from a thread through those that hold what it waits for, back to
// it. Each thread is in at most one of them.
func Cycles(waits []Wait) (cycles []Cycle) {
	next := map[event.ThreadID][]event.ThreadID{}
	for _, w := range waits {
		next[w.Thread] = append(next[w.Thread], w.Holders...)
	}
	in := map[event.ThreadID]bool{}
	for _, w := range waits {
		if in[w.Thread] {
			continue
		}
		if way := wayBack(w.Thread, next); way != nil && !slices.ContainsFunc(way, func(t event.ThreadID) bool { return in[t] }) {
			c := Cycle{Kind: "deadlock", Threads: way}
			for _, t := range way {
				in[t] = true
				i := slices.IndexFunc(waits, func(w Wait) bool { return w.Thread == t })
				c.On = append(c.On, strings.TrimSpace(waits[i].On+" "+waits[i].Name))
			}
			cycles = append(cycles, c)
		}
	}
	return cycles
}

// wayBack returns the shortest way from a thread to itself, breadth first; nil if there is none.
func wayBack(from event.ThreadID, next map[event.ThreadID][]event.ThreadID) []event.ThreadID {
	before := map[event.ThreadID]event.ThreadID{}
	queue := []event.ThreadID{from}
	for len(queue) > 0 {
		t := queue[0]
		queue = queue[1:]
		for _, n := range next[t] {
			if n == from {
				way := []event.ThreadID{t}
				for t != from {
					t = before[t]
					way = append(way, t)
				}
				slices.Reverse(way)
				return way
			}
			if _, seen := before[n]; !seen {
				before[n] = t
				queue = append(queue, n)
			}
		}
	}
	return nil
}
