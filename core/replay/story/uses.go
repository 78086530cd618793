package story

import (
	"cmp"
	"context"
	"slices"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// UsesOfObject implements replay.Teller.
func (r Teller) UsesOfObject(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, page replay.Page) (out replay.Uses, err error) {
	asked, err := r.FrameCall(at, t, frame)
	if err != nil {
		return out, err
	}
	x, err := r.objectSteps(ctx, path, at, t, frame)
	if err != nil {
		return out, err
	}
	x.order()
	out.Unexamined = x.unexamined
	byCall := map[event.CallID]*replay.Use{}
	var calls []event.CallID
	for _, s := range x.steps {
		c := x.T.CallOf(s.at)
		if c == event.NoCall || x.life(s.at) != x.life(at) {
			continue
		}
		u := byCall[c]
		if u == nil {
			u = &replay.Use{First: s.at, Asked: c == asked}
			byCall[c] = u
			calls = append(calls, c)
		}
		u.Times++
		u.Parameter = cmp.Or(u.Parameter, s.parameter)
		if !slices.Contains(u.What, s.What) {
			u.What = append(u.What, s.What)
		}
	}
	slices.SortFunc(calls, func(a, b event.CallID) int { return cmp.Compare(x.T.Call(a).Enter, x.T.Call(b).Enter) })
	out.Total = len(calls)
	from, to := page.Cut(len(calls))
	for _, c := range calls[from:to] {
		u := byCall[c]
		if u.Place, err = x.Place(x.T.Call(c).Enter); err != nil {
			return out, err
		}
		out.Page = append(out.Page, *u)
	}
	return out, nil
}
