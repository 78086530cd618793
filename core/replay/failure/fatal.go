package failure

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// crashStates matches the header of each goroutine in a crash text.
var crashStates = regexp.MustCompile(`(?m)^goroutine \d+ .*?\[([^\],]+)`)

// waitStates are the beginnings of the states of goroutines that wait for each other (package runtime, waitReason).
var waitStates = []string{"chan receive", "chan send", "select", "sync.", "semacquire"}

// deadlocked reports whether all goroutines of a crash text wait.
func deadlocked(text string) bool {
	states := crashStates.FindAllStringSubmatch(text, -1)
	for _, s := range states {
		if !slices.ContainsFunc(waitStates, func(w string) bool { return strings.HasPrefix(s[1], w) }) {
			return false
		}
	}
	return len(states) > 0
}

// maxWaits limits the threads that the summary of a deadlock describes.
const maxWaits = 4

// deadlock describes what the threads of a process wait for, at the moment when all of them do.
func (r Finder) deadlock(f *replay.Failure, process uint16) {
	f.Kind, f.Summary = "deadlock", "all goroutines wait for each other"
	f.Moment = r.lastOf(process)
	threads, err := r.Threads(context.Background(), f.Moment)
	if err != nil {
		return
	}
	n := 0
	for _, th := range threads {
		if r.T.ThreadInfo(th.ID).Process != process || !strings.HasPrefix(th.State, "waits for") {
			continue
		}
		if n++; n <= maxWaits {
			state, _, _ := strings.Cut(th.State, ", ")
			f.Summary += fmt.Sprintf("; thread %d: %s %s", th.ID, th.Name, state)
		}
	}
	if n > maxWaits {
		f.Summary += fmt.Sprintf("; and %d more", n-maxWaits)
	}
}

// lastOf returns the last moment of a process.
func (r Finder) lastOf(process uint16) event.Moment {
	last := event.Moment(0)
	for id := event.ThreadID(1); int(id) <= r.T.Threads(); id++ {
		if r.T.ThreadInfo(id).Process == process {
			_, m := r.T.Span(id)
			last = max(last, m)
		}
	}
	return last
}

// maxAccesses limits the events of a map that are searched for the access of another thread.
const maxAccesses = 10_000

// concurrentMap describes the two accesses of a map that the runtime found to be concurrent.
func (r Finder) concurrentMap(f *replay.Failure) {
	f.Summary = "a map was used by two goroutines at the same time"
	l, ok := r.lineOf(r.T.CallOf(f.Moment), f.Moment)
	if !ok {
		return
	}
	for _, name := range slices.Concat(l.site.Reads, l.site.Writes) {
		v, ok := l.value(name)
		if !ok || v.Form() != event.Map || v.Nil || v.Address == 0 {
			continue
		}
		f.Suspect = name
		n := 0
		for m := range r.T.MapEvents(r.T.Process(f.Moment), v.Address, nil, r.T.Len()-1) {
			if n++; n > maxAccesses {
				break
			}
			if r.T.Thread(m) == f.Thread {
				continue
			}
			if place, err := r.Place(m); err == nil {
				f.Summary = fmt.Sprintf("the map %s was used by two goroutines at the same time; here, and by thread %d at %s:%d (moment %d)", name, place.Thread, place.File, place.Line, m)
				return
			}
		}
	}
}

// maxRecursion limits the functions that call each other in a recursion that is described.
const maxRecursion = 8

// stackOverflow describes the recursion that used up the stack: which functions call each other, how
// often.
func (r Finder) stackOverflow(f *replay.Failure) {
	f.Summary = "the stack of the goroutine has reached its limit"
	var names []string // of the innermost calls, the innermost first
	depth := 0
	for c := r.CallAt(f.Thread, f.Moment); c != event.NoCall; c = r.T.Call(c).Parent {
		if depth++; len(names) < 2*maxRecursion {
			names = append(names, r.FunctionName(c))
		}
	}
	for n := 1; n <= len(names)/2; n++ {
		if !slices.Equal(names[:n], names[n:2*n]) {
			continue
		}
		cycle := slices.Clone(names[:n])
		slices.Reverse(cycle)
		if n == 1 {
			f.Summary += fmt.Sprintf(", %d calls deep: %s calls itself without end", depth, cycle[0])
		} else {
			f.Summary += fmt.Sprintf(", %d calls deep: %s call each other without end", depth, strings.Join(cycle, ", "))
		}
		return
	}
	f.Summary += fmt.Sprintf(", %d calls deep", depth)
}
