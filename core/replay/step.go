package replay

import (
	"context"
	"fmt"
	"slices"

	"wraithology/core/event"
	"wraithology/core/timeline"
)

// Step implements Replay. Every step ends at a line, a panic, a recovery, a test
// failure, or at the end of what the thread did.
func (r *logRecording) Step(ctx context.Context, at event.Moment, t event.ThreadID, s Step) (event.Moment, Reason, error) {
	if err := r.check(at); err != nil {
		return at, "", err
	}
	if err := r.checkThread(t); err != nil {
		return at, "", err
	}
	if !slices.Contains([]Way{Into, Over, Out, Line, To, Head}, s.Way) {
		return at, "", fmt.Errorf("step %q is not known: use into, over, out, line, to or head", s.Way)
	}
	w := walker{r, t, s}
	if s.Way == To {
		return w.to(ctx, at)
	}
	if r.t.OnThread(t, at) == event.NoMoment {
		if s.Back || s.Way == Head {
			return at, AtBeginning, nil
		}
		m, why := w.into(at)
		return m, why, nil
	}
	c := r.callAt(t, at)
	var m event.Moment
	var why Reason
	switch {
	case s.Way == Head:
		m, why = w.head(c, at)
	case s.Way == Line && s.AnyThread:
		m, why = w.line(at)
	case s.Way == Into || c == event.NoCall: // else between two calls from foreign code
		m, why = w.into(at)
	case s.Back:
		m, why = w.back(c, at)
	default:
		m, why = w.forward(c, at)
	}
	return m, why, nil
}

// walker carries out one step.
type walker struct {
	r *logRecording
	t event.ThreadID
	s Step
}

// halts reports whether a step ends at a moment, and why.
func (w walker) halts(m event.Moment) (Reason, bool) {
	switch w.r.t.Kind(m) {
	case event.Line:
		if !w.s.Everything {
			if c := w.r.t.CallOf(m); c != event.NoCall && !w.r.t.FunctionOf(c).Own {
				return "", false
			}
		}
		return ReachedLine, true
	case event.Enter:
		return ReachedCall, !w.r.recorded()
	case event.Leave:
		return ReachedLeave, !w.r.recorded()
	case event.Message:
		return ReachedMessage, true
	case event.Error:
		return ReachedError, true
	case event.Panic:
		return ReachedPanic, true
	case event.Failure:
		return ReachedFail, true
	}
	return "", false
}

// into goes to the next or previous halt on the thread, whatever call it is in.
func (w walker) into(at event.Moment) (event.Moment, Reason) {
	from := w.r.callAt(w.t, at)
	for m := range w.r.t.Walk(w.t, at, w.s.Back) {
		if why, ok := w.halts(m); ok {
			if w.s.Back {
				return m, w.movedBack(why, from, w.r.t.CallOf(m))
			}
			return m, w.movedOn(why, from, w.r.t.CallOf(m))
		}
	}
	return w.end()
}

// line goes to the next or previous halt on any thread.
func (w walker) line(at event.Moment) (event.Moment, Reason) {
	step := event.Moment(1)
	if w.s.Back {
		step = -1
	}
	for m := at + step; m >= 0 && m < w.r.t.Len(); m += step {
		if why, ok := w.halts(m); ok {
			return m, why
		}
	}
	if w.s.Back {
		return 0, AtBeginning
	}
	return w.r.t.Len() - 1, AtEnd
}

func (w walker) end() (event.Moment, Reason) {
	first, last := w.r.t.Span(w.t)
	if w.s.Back {
		return first, AtBeginning
	}
	return last, AtEnd
}

func (w walker) movedOn(why Reason, from, to event.CallID) Reason {
	switch {
	case why != ReachedLine || from == to || to == event.NoCall:
		return why
	case w.r.t.Call(to).Parent == from || from == event.NoCall:
		return ReachedCall
	}
	return ReachedCaller
}

func (w walker) movedBack(why Reason, from, to event.CallID) Reason {
	switch {
	case why != ReachedLine || from == to || from == event.NoCall:
		return why
	case w.r.t.Call(from).Parent == to:
		return BackInCaller
	}
	return BackInCallee
}

// own reports whether steps end in a call.
func (w walker) own(c event.CallID) bool { return w.s.Everything || w.r.t.FunctionOf(c).Own }

// nextIn returns the next halt of a call itself after a moment, or NoMoment.
func (w walker) nextIn(c event.CallID, after event.Moment) event.Moment {
	if !w.own(c) {
		return event.NoMoment
	}
	next := event.NoMoment
	take := func(list timeline.List, mine func(event.Moment) bool) {
		for i := list.After(after); i < list.Len(); i++ {
			m := list.At(i)
			if next != event.NoMoment && m >= next || w.r.t.Call(c).Leave != event.NoMoment && m > w.r.t.Call(c).Leave {
				return
			}
			if mine(m) {
				next = m
				return
			}
		}
	}
	take(w.r.t.CallLines(c), func(event.Moment) bool { return true })
	inCall := func(m event.Moment) bool { return w.r.t.CallOf(m) == c }
	take(w.r.t.Notable(event.Panic), inCall)
	take(w.r.t.Notable(event.Failure), inCall)
	return next
}

// forward goes over the next call, or out of the current one.
func (w walker) forward(c event.CallID, at event.Moment) (event.Moment, Reason) {
	if w.s.Way != Out {
		if m := w.nextIn(c, at); m != event.NoMoment {
			why, _ := w.halts(m)
			return m, why
		}
	}
	unwound := false
	after := at
	for c != event.NoCall {
		call := w.r.t.Call(c)
		if call.Leave == event.NoMoment {
			break
		}
		unwound = unwound || w.r.unwound(c)
		if unwound {
			// A function that was deferred may have recovered.
			if m := w.recovery(after, call.Parent); m != event.NoMoment {
				return m, Recovered
			}
		}
		after = call.Leave
		c = call.Parent
		if c == event.NoCall {
			break
		}
		if m := w.nextIn(c, after); m != event.NoMoment {
			if unwound {
				return m, Unwound
			}
			return m, ReachedCaller
		}
	}
	if unwound && c == event.NoCall {
		// Nothing of this stack goes on: what there is to see is the panic.
		panics := w.r.t.Notable(event.Panic)
		for i := panics.After(at); i < panics.Len(); i++ {
			if m := panics.At(i); w.r.t.Thread(m) == w.t {
				return m, ReachedPanic
			}
		}
	}
	if c == event.NoCall {
		// The thread may come back from foreign code into own code.
		return w.into(after)
	}
	return w.end()
}

// recovery returns where the thread recovered from a panic, after a moment and
// while the given call was still open, or NoMoment.
func (w walker) recovery(after event.Moment, within event.CallID) event.Moment {
	list := w.r.t.Notable(event.Recover)
	until := w.r.t.Len()
	if within != event.NoCall {
		if left := w.r.t.Call(within).Leave; left != event.NoMoment {
			until = left
		}
	}
	for i := list.After(after); i < list.Len() && list.At(i) <= until; i++ {
		if m := list.At(i); w.r.t.Thread(m) == w.t {
			return m
		}
	}
	return event.NoMoment
}

// back goes to the previous line of the call, or to the call of it.
func (w walker) back(c event.CallID, at event.Moment) (event.Moment, Reason) {
	if w.s.Way != Out && w.own(c) {
		if m := w.r.t.LastLine(c, at-1); m != event.NoMoment {
			return m, ReachedLine
		}
	}
	call := w.r.t.Call(c)
	for p := call.Parent; p != event.NoCall; p = w.r.t.Call(p).Parent {
		if !w.own(p) {
			continue
		}
		if m := w.r.t.LastLine(p, call.Enter); m != event.NoMoment {
			return m, BackInCaller
		}
		break
	}
	return w.into(call.Enter)
}

// head goes to the first line of a call, or of one further out, with the
// arguments that it had.
func (w walker) head(c event.CallID, at event.Moment) (event.Moment, Reason) {
	if c == event.NoCall {
		return at, AtBeginning
	}
	for range w.s.Outer {
		if p := w.r.t.Call(c).Parent; p != event.NoCall {
			c = p
		}
	}
	if lines := w.r.t.CallLines(c); lines.Len() > 0 {
		return lines.At(0), AtHead
	}
	return w.r.t.Call(c).Enter, AtHead
}

// to goes to the next or previous moment at which the thread reaches a line.
func (w walker) to(ctx context.Context, at event.Moment) (event.Moment, Reason, error) {
	c := Checkpoint{Kind: OnLine, File: w.s.File, Line: w.s.Line, Thread: w.t}
	if w.s.AnyThread {
		c.Thread = 0
	}
	m, which, err := w.r.NextHit(ctx, at, w.s.Back, []Checkpoint{c})
	if err != nil {
		return at, "", err
	}
	if which < 0 {
		if _, err := w.r.sitesAt(c.File, c.Line); err != nil {
			return at, "", err
		}
		m, why := w.end()
		return m, why, nil
	}
	return m, ReachedAsked, nil
}
