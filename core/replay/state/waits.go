package state

import (
	"fmt"

	"wraithology/core/event"
)

// waits describes the state of a thread at a moment, and what it waits for.
func (r *Log) waits(t event.ThreadID, at event.Moment, state string) string {
	m, op, ok := r.WaitingSince(t, at)
	if !ok {
		return state
	}
	e := r.T.Event(m)
	text := "waits for " + op.String()
	if e.Address != 0 && r.Recorded() {
		text += fmt.Sprintf(" at 0x%x", e.Address)
	}
	if end := r.waitEnd(t, m); end != "" {
		text += ", until " + end
	} else if _, last := r.T.Span(t); last == m {
		text += ", to the end"
	}
	return text
}

// WaitingSince returns the moment at which a thread began the operation that it is in, which may have to wait; ok is false
// if it is in none.
func (r *Log) WaitingSince(t event.ThreadID, at event.Moment) (m event.Moment, op event.Op, ok bool) {
	m = r.T.OnThread(t, at)
	if m == event.NoMoment {
		return m, 0, false
	}
	for m > 0 && (r.T.Kind(m) == event.Memory || r.T.Kind(m) == event.Spread) { // of what is sent
		before := r.T.OnThread(t, m-1)
		if before == event.NoMoment {
			break
		}
		m = before
	}
	switch r.T.Kind(m) {
	case event.Send:
		return m, event.OpSend, true
	case event.Wait:
		return m, event.Op(r.T.ID(m)), true
	}
	return m, 0, false
}

// waitEnd describes the end of a wait: the last operation of another thread on the same object
// before this thread continued.
func (r *Log) waitEnd(t event.ThreadID, wait event.Moment) string {
	next := r.T.Next(t, wait)
	e := r.T.Event(wait)
	if next == event.NoMoment || e.Address == 0 {
		return ""
	}
	for m := range r.T.SyncEvents(r.T.Process(wait), e.Address, next) {
		if m <= wait {
			break
		}
		if r.T.Thread(m) == t {
			continue
		}
		k := r.T.Kind(m)
		switch {
		case k == event.Release:
			return fmt.Sprintf("thread %d had %s at moment %d", r.T.Thread(m), event.Op(r.T.ID(m)), m)
		case k == event.Send && e.Kind == event.Wait:
			return fmt.Sprintf("thread %d sent at moment %d", r.T.Thread(m), m)
		case k == event.Receive && e.Kind == event.Send:
			return fmt.Sprintf("thread %d received at moment %d", r.T.Thread(m), m)
		}
	}
	return ""
}
