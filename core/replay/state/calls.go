package state

import (
	"context"
	"sort"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Previous returns the previous line moment of a call, else the beginning of the call.
func (r *Log) Previous(c event.CallID, at event.Moment) event.Moment {
	list := r.T.CallLines(c)
	i := list.Before(at)
	if i >= 0 && list.At(i) == at {
		i--
	}
	if i < 0 {
		return r.T.Call(c).Enter
	}
	return list.At(i)
}

// LineEnd returns the last moment at which a call is still on the line that it is on at a moment: the one before its next
// line or before it returns, or else the last one of its thread.
func (r *Log) LineEnd(c event.CallID, at event.Moment) event.Moment {
	lines := r.T.CallLines(c)
	if i := lines.After(at); i < lines.Len() {
		return lines.At(i) - 1
	}
	call := r.T.Call(c)
	if call.Leave != event.NoMoment {
		return call.Leave - 1
	}
	_, last := r.T.Span(call.Thread)
	return last
}

const maxReturned = 64

// Returned implements replay.History. At the moment of a return, it is the results of that call.
func (r *Log) Returned(_ context.Context, at event.Moment, t event.ThreadID, frame int) ([]replay.Returned, error) {
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return nil, err
	}
	if r.T.Kind(at) == event.Leave && r.T.CallOf(at) == c {
		return []replay.Returned{r.ReturnedBy(c)}, nil
	}
	var out []replay.Returned
	for _, child := range r.CallsBetween(c, r.Previous(c, at), at) {
		if left := r.T.Call(child).Leave; left != event.NoMoment && left <= at && r.T.Kind(left) == event.Leave && len(out) < maxReturned {
			if x := r.ReturnedBy(child); len(x.Values) > 0 {
				out = append(out, x)
			}
		}
	}
	return out, nil
}

func (r *Log) ReturnedBy(c event.CallID) replay.Returned {
	left := r.T.Call(c).Leave
	out := replay.Returned{Function: r.FunctionName(c), At: left}
	values, err := r.T.Values(left)
	if err != nil {
		return out
	}
	memory := r.MemoryAt(r.T.Call(c).Process, left, 0)
	for _, v := range values {
		out.Values = append(out.Values, replay.Value{Value: v, Memory: memory})
	}
	return out
}

// maxCallsBetween limits the calls of one line.
const maxCallsBetween = 4096

// CallsBetween lists the direct calls of a call between two moments.
func (r *Log) CallsBetween(c event.CallID, from, to event.Moment) []event.CallID {
	list := r.T.ThreadCalls(r.T.Call(c).Thread)
	var out []event.CallID
	after := func(m event.Moment) int {
		return sort.Search(list.Len(), func(i int) bool { return r.T.Call(event.CallID(list.At(i))).Enter > m })
	}
	for i, n := after(from), 0; i < list.Len() && n < maxCallsBetween; n++ {
		child := event.CallID(list.At(i))
		call := r.T.Call(child)
		if call.Enter > to {
			break
		}
		if call.Parent == c {
			out = append(out, child)
		}
		if call.Leave == event.NoMoment {
			break
		}
		i = max(after(call.Leave), i+1)
	}
	return out
}

// ValueBefore implements replay.History.
func (r *Log) ValueBefore(_ context.Context, path string, at event.Moment, t event.ThreadID, frame int) (replay.Value, error) {
	p, err := replay.ParsePath(path)
	if err != nil {
		return replay.Value{}, err
	}
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return replay.Value{}, err
	}
	_, v, err := Scope{r, c, r.Previous(c, at)}.Locate(p, nil)
	return v, err
}
