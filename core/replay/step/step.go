// Package step finds the end of a step through a timeline.
package step

import (
	"context"
	"fmt"
	"slices"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/trace"
	"wraithology/core/timeline"
)

// Stepper steps through a timeline.
type Stepper struct{ find.Finder }

// Step implements replay.Stepper. A step ends at a line, a panic, a recovery, a test failure, or
// the end of the thread.
func (r Stepper) Step(ctx context.Context, at event.Moment, t event.ThreadID, s replay.Step) (event.Moment, replay.Reason, error) {
	if err := r.Check(at); err != nil {
		return at, "", err
	}
	if err := r.CheckThread(t); err != nil {
		return at, "", err
	}
	if !slices.Contains([]replay.Way{replay.Into, replay.Over, replay.Out, replay.Line, replay.To, replay.Head}, s.Way) {
		return at, "", fmt.Errorf("unknown step %q: use into, over, out, line, to or head", s.Way)
	}
	w := walker{r, t, s}
	if s.Way == replay.To {
		return w.to(ctx, at)
	}
	if r.T.OnThread(t, at) == event.NoMoment {
		if s.Back || s.Way == replay.Head {
			return at, replay.AtBeginning, nil
		}
		m, why := w.into(at)
		return m, why, nil
	}
	c := r.CallAt(t, at)
	var m event.Moment
	var why replay.Reason
	switch {
	case s.Way == replay.Head:
		m, why = w.head(c, at)
	case s.Way == replay.Line && s.AnyThread:
		m, why = w.line(at)
	case s.Way == replay.Into || c == event.NoCall: // else between two calls from foreign code
		m, why = w.into(at)
		if s.Way == replay.Into && !r.Recorded() && c != event.NoCall {
			m, why = w.elsewhere(c, at, m, why)
		}
	case s.Back:
		m, why = w.back(c, at)
	default:
		m, why = w.forward(c, at)
	}
	return m, why, nil
}

// walker carries out one step.
type walker struct {
	r Stepper
	t event.ThreadID
	s replay.Step
}

// halts reports whether a step ends at a moment, with the reason.
func (w walker) halts(m event.Moment) (replay.Reason, bool) {
	switch w.r.T.Kind(m) {
	case event.Line:
		if !w.s.Everything {
			if c := w.r.T.CallOf(m); c != event.NoCall && !w.r.T.FunctionOf(c).Own {
				return "", false
			}
		}
		return replay.ReachedLine, true
	case event.Enter:
		return replay.ReachedCall, !w.r.Recorded()
	case event.Leave:
		return replay.ReachedLeave, !w.r.Recorded()
	case event.Message:
		return replay.ReachedMessage, true
	case event.Error:
		return replay.ReachedError, true
	case event.Panic:
		return replay.ReachedPanic, true
	case event.Failure:
		return replay.ReachedFail, true
	}
	return "", false
}

// into goes to the next or previous halt on the thread, in any call.
func (w walker) into(at event.Moment) (event.Moment, replay.Reason) {
	from := w.r.CallAt(w.t, at)
	for m := range w.r.T.Walk(w.t, at, w.s.Back) {
		if why, ok := w.halts(m); ok {
			if w.s.Back {
				return m, w.movedBack(why, from, w.r.T.CallOf(m))
			}
			return m, w.movedOn(why, from, w.r.T.CallOf(m))
		}
	}
	return w.end()
}

// elsewhere steps into a span of another service that the span has called, if that begins before the step would end; and
// back from its beginning to the caller.
func (w walker) elsewhere(c event.CallID, at, otherwise event.Moment, why replay.Reason) (event.Moment, replay.Reason) {
	call := w.r.T.Call(c)
	if w.s.Back {
		if call.Enter != at || call.Parent == event.NoCall || w.r.T.Call(call.Parent).Thread == call.Thread {
			return otherwise, why
		}
		caller := walker{w.r, w.r.T.Call(call.Parent).Thread, w.s}
		return caller.into(at)
	}
	for _, child := range (trace.Reader{Log: w.r.Log}).CallsElsewhere(c) {
		if enter := w.r.T.Call(child).Enter; enter > at {
			if enter < otherwise || why == replay.AtEnd {
				return enter, replay.ReachedCall
			}
			break
		}
	}
	return otherwise, why
}

// line goes to the next or previous halt on any thread.
func (w walker) line(at event.Moment) (event.Moment, replay.Reason) {
	step := event.Moment(1)
	if w.s.Back {
		step = -1
	}
	for m := at + step; m >= 0 && m < w.r.T.Len(); m += step {
		if why, ok := w.halts(m); ok {
			return m, why
		}
	}
	if w.s.Back {
		return 0, replay.AtBeginning
	}
	return w.r.T.Len() - 1, replay.AtEnd
}

func (w walker) end() (event.Moment, replay.Reason) {
	first, last := w.r.T.Span(w.t)
	if w.s.Back {
		return first, replay.AtBeginning
	}
	return last, replay.AtEnd
}

func (w walker) movedOn(why replay.Reason, from, to event.CallID) replay.Reason {
	switch {
	case why != replay.ReachedLine || from == to || to == event.NoCall:
		return why
	case w.r.T.Call(to).Parent == from || from == event.NoCall:
		return replay.ReachedCall
	}
	return replay.ReachedCaller
}

func (w walker) movedBack(why replay.Reason, from, to event.CallID) replay.Reason {
	switch {
	case why != replay.ReachedLine || from == to || from == event.NoCall:
		return why
	case w.r.T.Call(from).Parent == to:
		return replay.BackInCaller
	}
	return replay.BackInCallee
}

// own reports whether steps end in a call.
func (w walker) own(c event.CallID) bool { return w.s.Everything || w.r.T.FunctionOf(c).Own }

// nextIn returns the next halt in a call after a moment, or NoMoment.
func (w walker) nextIn(c event.CallID, after event.Moment) event.Moment {
	if !w.own(c) {
		return event.NoMoment
	}
	next := event.NoMoment
	take := func(list timeline.List, mine func(event.Moment) bool) {
		for i := list.After(after); i < list.Len(); i++ {
			m := list.At(i)
			if next != event.NoMoment && m >= next || w.r.T.Call(c).Leave != event.NoMoment && m > w.r.T.Call(c).Leave {
				return
			}
			if mine(m) {
				next = m
				return
			}
		}
	}
	take(w.r.T.CallLines(c), func(event.Moment) bool { return true })
	inCall := func(m event.Moment) bool { return w.r.T.CallOf(m) == c }
	take(w.r.T.Notable(event.Panic), inCall)
	take(w.r.T.Notable(event.Failure), inCall)
	return next
}

// forward steps over the next call, or out of the current one.
func (w walker) forward(c event.CallID, at event.Moment) (event.Moment, replay.Reason) {
	if w.s.Way != replay.Out {
		if m := w.nextIn(c, at); m != event.NoMoment {
			why, _ := w.halts(m)
			return m, why
		}
	}
	unwound := false
	after := at
	for c != event.NoCall {
		call := w.r.T.Call(c)
		if call.Leave == event.NoMoment {
			break
		}
		unwound = unwound || w.r.Unwound(c)
		if unwound {
			// A deferred function may have recovered.
			if m := w.recovery(after, call.Parent); m != event.NoMoment {
				return m, replay.Recovered
			}
		}
		after = call.Leave
		c = call.Parent
		if c == event.NoCall {
			break
		}
		if m := w.nextIn(c, after); m != event.NoMoment {
			if unwound {
				return m, replay.Unwound
			}
			return m, replay.ReachedCaller
		}
	}
	if unwound && c == event.NoCall {
		// Nothing of this stack continues: the step ends at the panic.
		panics := w.r.T.Notable(event.Panic)
		for i := panics.After(at); i < panics.Len(); i++ {
			if m := panics.At(i); w.r.T.Thread(m) == w.t {
				return m, replay.ReachedPanic
			}
		}
	}
	if c == event.NoCall {
		// The thread may return from foreign code to own code.
		return w.into(after)
	}
	return w.end()
}

// recovery returns the moment at which the thread recovered from a panic, after a moment and while
// a call was open, or NoMoment.
func (w walker) recovery(after event.Moment, within event.CallID) event.Moment {
	list := w.r.T.Notable(event.Recover)
	until := w.r.T.Len()
	if within != event.NoCall {
		if left := w.r.T.Call(within).Leave; left != event.NoMoment {
			until = left
		}
	}
	for i := list.After(after); i < list.Len() && list.At(i) <= until; i++ {
		if m := list.At(i); w.r.T.Thread(m) == w.t {
			return m
		}
	}
	return event.NoMoment
}

// back goes to the previous line of the call, or to its entry, or to the call in the caller.
func (w walker) back(c event.CallID, at event.Moment) (event.Moment, replay.Reason) {
	call := w.r.T.Call(c)
	if w.s.Way != replay.Out && w.own(c) {
		if m := w.r.T.LastLine(c, at-1); m != event.NoMoment && m != call.Enter {
			why, _ := w.halts(m)
			return m, why
		}
		if call.Enter < at {
			return call.Enter, replay.AtHead
		}
	}
	for p := call.Parent; p != event.NoCall; p = w.r.T.Call(p).Parent {
		if !w.own(p) {
			continue
		}
		if m := w.r.T.LastLine(p, call.Enter); m != event.NoMoment {
			return m, replay.BackInCaller
		}
		break
	}
	return w.into(call.Enter)
}

// head goes to the first line of a call, or of an outer one, with its arguments.
func (w walker) head(c event.CallID, at event.Moment) (event.Moment, replay.Reason) {
	if c == event.NoCall {
		return at, replay.AtBeginning
	}
	for range w.s.Outer {
		if p := w.r.T.Call(c).Parent; p != event.NoCall {
			c = p
		}
	}
	if lines := w.r.T.CallLines(c); lines.Len() > 0 {
		return lines.At(0), replay.AtHead
	}
	return w.r.T.Call(c).Enter, replay.AtHead
}

// to goes to the next or previous moment at which the thread reaches a line.
func (w walker) to(ctx context.Context, at event.Moment) (event.Moment, replay.Reason, error) {
	c := replay.Checkpoint{Kind: "line", About: find.LineText(w.s.File, w.s.Line), Thread: w.t}
	if w.s.AnyThread {
		c.Thread = 0
	}
	m, which, err := w.r.NextHit(ctx, at, w.s.Back, []replay.Checkpoint{c})
	if err != nil {
		return at, "", err
	}
	if which < 0 {
		if _, err := w.r.Locate(ctx, c); err != nil {
			return at, "", err
		}
		m, why := w.end()
		return m, why, nil
	}
	return m, replay.ReachedAsked, nil
}
