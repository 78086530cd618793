package replay_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/history"
)

func halt(d did) bool { return d.kind == event.Line || d.kind == event.Panic }

// stepFrom is the definition of the steps, by scanning.
func (m *machine) stepFrom(thread, at int, s replay.Step) int {
	find := func(from, by int, fits func(d did) bool) int {
		for i := from; i >= 0 && i < len(m.list); i += by {
			if m.list[i].thread == thread && fits(m.list[i]) {
				return i
			}
		}
		return -1
	}
	any := func(did) bool { return true }
	first, last := find(0, 1, any), find(len(m.list)-1, -1, any)
	or := func(i, otherwise int) int {
		if i < 0 {
			return otherwise
		}
		return i
	}
	call := m.topAt(thread, at)
	if s.Way == replay.Into || call < 0 {
		if s.Back {
			return or(find(at-1, -1, halt), first)
		}
		return or(find(at+1, 1, halt), last)
	}
	in := func(c int) func(did) bool { return func(d did) bool { return halt(d) && d.call == c } }
	lineIn := func(c int) func(did) bool { return func(d did) bool { return d.kind == event.Line && d.call == c } }
	if s.Back {
		if s.Way == replay.Over {
			if i := find(at-1, -1, lineIn(call)); i >= 0 {
				return i
			}
			if m.calls[call].enter < at {
				return m.calls[call].enter
			}
		}
		if p := m.calls[call].parent; p >= 0 {
			if i := find(m.calls[call].enter, -1, lineIn(p)); i >= 0 {
				return i
			}
		}
		return or(find(m.calls[call].enter-1, -1, halt), first)
	}
	if s.Way == replay.Over {
		if i := find(at+1, 1, in(call)); i >= 0 {
			return i
		}
	}
	unwound, after := false, at
	for {
		c := m.calls[call]
		if c.leave < 0 {
			return last
		}
		unwound, after, call = unwound || c.unwound, c.leave, c.parent
		if call < 0 {
			break
		}
		if i := find(after+1, 1, in(call)); i >= 0 {
			return i
		}
	}
	if unwound {
		if i := find(at+1, 1, func(d did) bool { return d.kind == event.Panic }); i >= 0 {
			return i
		}
	}
	return or(find(after+1, 1, halt), last)
}

// checkFarSteps holds the steps that leave the call, or the thread, against a scan: to the first line of
// an outer call, to the next line of any thread, and to a given line.
func (m *machine) checkFarSteps(ctx context.Context, t *testing.T, r history.Replay, seed, at, thread int, number event.ThreadID) {
	for outer := range 3 {
		call, want := m.topAt(thread, at), at
		for range outer {
			if call >= 0 && m.calls[call].parent >= 0 {
				call = m.calls[call].parent
			}
		}
		wanted := replay.AtBeginning
		if call >= 0 {
			wanted, want = replay.AtHead, m.calls[call].enter
			for i, d := range m.list {
				if d.kind == event.Line && d.call == call {
					want = i
					break
				}
			}
		}
		got, why, err := r.Step(ctx, event.Moment(at), number, replay.Step{Way: replay.Head, Outer: outer})
		require.NoError(t, err)
		require.Equal(t, event.Moment(want), got, "seed %d, head %d from %d on thread %d", seed, outer, at, thread)
		require.Equal(t, wanted, why)
	}
	first, last := m.span(thread)
	for _, back := range []bool{false, true} {
		by, end, endOfThread := 1, len(m.list)-1, last
		if back {
			by, end, endOfThread = -1, 0, first
		}
		scan := func(otherwise int, fits func(d did) bool) (int, bool) {
			for i := at + by; i >= 0 && i < len(m.list); i += by {
				if fits(m.list[i]) {
					return i, true
				}
			}
			return otherwise, false
		}
		want, found := scan(end, halt)
		if at < first { // the thread has not begun: it goes to its own first line
			if want, found = at, false; !back {
				want, found = scan(last, func(d did) bool { return halt(d) && d.thread == thread })
			}
		}
		got, why, err := r.Step(ctx, event.Moment(at), number, replay.Step{Way: replay.Line, AnyThread: true, Back: back})
		require.NoError(t, err)
		require.Equal(t, event.Moment(want), got, "seed %d, back %v from %d on thread %d", seed, back, at, thread)
		require.Equal(t, !found, why == replay.AtBeginning || why == replay.AtEnd)
		line := m.random.IntN(functions)*10 + 1 + m.random.IntN(linesEach)
		for _, anyThread := range []bool{false, true} {
			want, found := scan(endOfThread, func(d did) bool { return d.kind == event.Line && d.line == line && (anyThread || d.thread == thread) })
			got, why, err := r.Step(ctx, event.Moment(at), number, replay.Step{Way: replay.To, File: "machine.go", Line: line, AnyThread: anyThread, Back: back})
			if err != nil { // no such line was ever reached
				require.False(t, found)
				continue
			}
			require.Equal(t, event.Moment(want), got, "seed %d, to line %d, back %v from %d on thread %d (%s)", seed, line, back, at, thread, why)
			if !found {
				require.Equal(t, back, why == replay.AtBeginning)
			}
		}
	}
}

// span returns the first and last moment of a thread.
func (m *machine) span(thread int) (first, last int) {
	first = -1
	for i, d := range m.list {
		if d.thread == thread {
			if last = i; first < 0 {
				first = i
			}
		}
	}
	return first, last
}
