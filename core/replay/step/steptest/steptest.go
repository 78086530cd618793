// Package steptest tests that steps are reversible.
package steptest

import (
	"context"
	"testing"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/timeline"
)

// LeadBack tests every n-th moment of a recording whose timeline is tl:
//
//   - When over or line ends in the same call, the same step back returns to the start, or
//     from an event to the last line of the call at or before it, or to the call's entry.
//   - When into entered a call, out back returns to the start, or to the last line of the
//     calling one at or before it.
//   - The reason of each of these steps is the one that fits.
//
// It returns how many steps led back.
func LeadBack(t testing.TB, r replay.Stepper, tl *timeline.Timeline, n int) (checked int) {
	ctx := context.Background()
	step := func(from event.Moment, on event.ThreadID, s replay.Step) (event.Moment, replay.Reason) {
		t.Helper()
		m, why, err := r.Step(ctx, from, on, s)
		if err != nil {
			t.Fatalf("step %+v from %d: %v", s, from, err)
		}
		return m, why
	}
	for m := event.Moment(0); m < tl.Len(); m += event.Moment(n) {
		thread, call := tl.Thread(m), tl.CallOf(m)
		if call == event.NoCall || !tl.FunctionOf(call).Own || tl.Kind(m) == event.Leave {
			continue
		}
		want := tl.LastLine(call, m)
		if want == event.NoMoment {
			want = tl.Call(call).Enter
		}
		for _, way := range []replay.Way{replay.Over, replay.Line} {
			to, why := step(m, thread, replay.Step{Way: way})
			if to == m || tl.CallOf(to) != call || tl.Kind(to) == event.Leave {
				continue
			}
			if wanted := reasonAt(tl, to); why != wanted && why != replay.AtEnd {
				t.Errorf("%s from %d ends at %d in the same call: reason %q, want %q", way, m, to, why, wanted)
			}
			back, why := step(to, thread, replay.Step{Way: way, Back: true})
			if back != want {
				t.Errorf("%s from %d (%s) ends at %d, and back at %d, want %d", way, m, tl.Kind(m), to, back, want)
				return checked
			}
			if head := back == tl.Call(call).Enter; head != (why == replay.AtHead) || !head && why != reasonAt(tl, back) {
				t.Errorf("%s back from %d to %d: reason %q", way, to, back, why)
			}
			checked++
		}
		to, why := step(m, thread, replay.Step{Way: replay.Into})
		if why != replay.ReachedCall || tl.Call(tl.CallOf(to)).Parent != call || tl.Thread(to) != thread || tl.LastLine(call, m) == event.NoMoment {
			continue
		}
		back, why := step(to, thread, replay.Step{Way: replay.Out, Back: true})
		if back != want || why != replay.BackInCaller {
			t.Errorf("into from %d (%s) ends at %d, and out back at %d (%s), want %d", m, tl.Kind(m), to, back, why, want)
			return checked
		}
		checked++
	}
	return checked
}

// reasonAt returns the reason of a step that ends at a moment of the same call.
func reasonAt(tl *timeline.Timeline, m event.Moment) replay.Reason {
	switch tl.Kind(m) {
	case event.Panic:
		return replay.ReachedPanic
	case event.Failure:
		return replay.ReachedFail
	case event.Message:
		return replay.ReachedMessage
	case event.Error:
		return replay.ReachedError
	}
	return replay.ReachedLine
}
