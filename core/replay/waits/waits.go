// Package waits finds what the threads of a timeline wait for, and who holds it.
package waits

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// Finder implements replay.WaitGraph.
type Finder struct{ *state.Log }

// kinds are what operations wait for. Those that are missing are no waits for others: a turn to run.
var kinds = map[event.Op]string{
	event.OpReceive: replay.WaitChannel, event.OpSend: replay.WaitChannel, event.OpLock: replay.WaitMutex, event.OpReadLock: replay.WaitReadWrite, event.OpGroup: replay.WaitGroup,
	event.OpCondition: replay.WaitCondition, event.OpSelect: replay.WaitSelect, event.OpSleep: replay.WaitTimer, event.OpNetwork: replay.WaitInput, event.OpSystemCall: replay.WaitInput,
}

// Waits implements replay.WaitGraph.
func (f Finder) Waits(ctx context.Context, at event.Moment) ([]replay.Wait, error) {
	threads, err := f.Threads(ctx, at)
	if err != nil {
		return nil, err
	}
	var out []replay.Wait
	for i, t := range threads {
		if i%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		w, ok, err := f.wait(t.ID, at)
		if err != nil {
			return nil, err
		}
		if ok {
			out = append(out, w)
		}
	}
	return out, nil
}

// wait returns what a thread waits for.
func (f Finder) wait(t event.ThreadID, at event.Moment) (w replay.Wait, ok bool, err error) {
	m, op, ok := f.WaitingSince(t, at)
	if !ok {
		return w, false, nil
	}
	if w.On, ok = kinds[op]; !ok {
		return w, false, nil
	}
	e := f.T.Event(m)
	process := f.T.Process(m)
	isLock := op == event.OpLock || op == event.OpReadLock
	if isLock && e.Address != 0 {
		w.Holders = f.holders(process, e.Address, m, at, op == event.OpLock)
		if f.isReadWrite(process, e.Address) {
			w.On = replay.WaitReadWrite
		}
	}
	if f.Recorded() && !f.blocked(t, m, at, isLock && len(w.Holders) > 0) {
		return w, false, nil
	}
	if w.Place, err = f.Place(m); err != nil {
		return w, false, err
	}
	w.Name = f.nameAt(m, op)
	if w.Name == "" && e.Address != 0 {
		w.Name = fmt.Sprintf("0x%x", e.Address)
	}
	return w, true, nil
}

// blocked reports whether a thread that began an operation at m really waited: it never continues, it continues after a
// wait that was long enough to be noted, or somebody holds the lock. An operation begins before it is known whether it
// must wait.
func (f Finder) blocked(t event.ThreadID, m, at event.Moment, held bool) bool {
	next := f.T.Next(t, m)
	for next != event.NoMoment && (f.T.Kind(next) == event.Memory || f.T.Kind(next) == event.Spread) {
		next = f.T.Next(t, next)
	}
	return held || next == event.NoMoment || f.T.Kind(next) == event.Pass || at > m && next > at
}

// maxLooked limits the operations on a lock that are looked at for its holders.
const maxLooked = 1 << 17

// holders returns the threads that hold a lock at a moment at which a thread waits for it since m: those that got it and
// did not give it back. To read, only one that locked it to write holds it against others.
func (f Finder) holders(process uint16, address uint64, m, at event.Moment, exclusive bool) (out []event.ThreadID) {
	given, readsGiven, looked := 0, 0, 0
	for x := range f.T.SyncEvents(process, address, at) {
		if looked++; looked > maxLooked {
			return nil
		}
		switch k, op := f.T.Kind(x), event.Op(f.T.ID(x)); {
		case k == event.Release && op == event.OpUnlock:
			given++
		case k == event.Release && op == event.OpReadUnlock:
			readsGiven++
		case k != event.Wait || x == m || !f.gotAfter(x, at):
		case op == event.OpLock:
			if given == 0 {
				return append(out, f.T.Thread(x))
			}
			given--
		case op == event.OpReadLock && readsGiven > 0:
			readsGiven--
		case op == event.OpReadLock && exclusive && given == 0:
			if t := f.T.Thread(x); !slices.Contains(out, t) {
				out = append(out, t)
			}
		}
	}
	return out
}

// gotAfter reports whether a thread got the lock that it waited for at x, by a moment: it went on.
func (f Finder) gotAfter(x, at event.Moment) bool {
	next := f.T.Next(f.T.Thread(x), x)
	return next != event.NoMoment && next <= at
}

// isReadWrite reports whether a lock was ever locked to read.
func (f Finder) isReadWrite(process uint16, address uint64) bool {
	looked := 0
	for x := range f.T.SyncEvents(process, address, f.T.Len()-1) {
		if op := event.Op(f.T.ID(x)); f.T.Kind(x) == event.Wait && op == event.OpReadLock {
			return true
		}
		if looked++; looked > maxLooked {
			return false
		}
	}
	return false
}

var (
	methodCall = regexp.MustCompile(`([\w.\[\]"*()]+?)\.(?:Lock|RLock|Wait|Acquire)\(`)
	received   = regexp.MustCompile(`<-\s*([\w.]+(?:\([^()]*\)|\[[^\[\]]*\])?)`)
	sent       = regexp.MustCompile(`([\w.]+(?:\([^()]*\)|\[[^\[\]]*\])?)\s*<-`)
	ranged     = regexp.MustCompile(`range\s+([\w.]+(?:\([^()]*\))?)`)
)

// nameAt is how the source text names what the line at a moment waits for; empty if it does not show that.
func (f Finder) nameAt(m event.Moment, op event.Op) string {
	c := f.T.CallOf(m)
	if c == event.NoCall || !f.Recorded() {
		return ""
	}
	place, err := f.Place(m)
	if err != nil {
		return ""
	}
	text, err := f.Source(place.File)
	if err != nil || place.Line < 1 {
		return ""
	}
	n := 0
	for line := range strings.Lines(text) {
		if n++; n < place.Line {
			continue
		}
		return nameIn(line, op)
	}
	return ""
}

func nameIn(line string, op event.Op) string {
	patterns := map[event.Op][]*regexp.Regexp{
		event.OpReceive: {received, ranged}, event.OpSend: {sent}, event.OpLock: {methodCall}, event.OpReadLock: {methodCall}, event.OpGroup: {methodCall}, event.OpCondition: {methodCall},
	}[op]
	for _, p := range patterns {
		if list := p.FindAllStringSubmatch(line, 2); len(list) == 1 { // several are ambiguous
			return list[0][1]
		}
	}
	return ""
}
