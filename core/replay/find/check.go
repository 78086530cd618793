package find

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// span is the number of moments in which all conditions are evaluated before the next span begins: what they read of the log
// is unpacked once.
const span = 1 << 15

// group are conditions that are evaluated at the same places.
type group struct {
	replay.Checkpoint // without a condition
	places
	members []member
}

// member is a condition of a group; index is its number among all.
type member struct {
	index      int
	when, that replay.Condition
}

// Expect implements replay.Finder. It goes through the recording once, on all processors.
func (r Finder) Expect(ctx context.Context, of []replay.Expected) ([]replay.Verdict, error) {
	out := make([]replay.Verdict, len(of))
	var list []group
	for i, x := range of {
		out[i] = noVerdict
		c, m := x.Checkpoint, member{i, x.Checkpoint.When, x.That}
		c.When = nil
		if k := slices.IndexFunc(list, func(g group) bool { return g.Checkpoint == c }); k >= 0 && c.Number.All() {
			list[k].members = append(list[k].members, m)
			continue
		}
		p, err := r.placesOf(ctx, x.Checkpoint)
		if errors.Is(err, fault.NoCode) {
			out[i].Missing = err
			continue
		}
		if err != nil {
			return nil, err
		}
		if !x.Checkpoint.Number.All() {
			held, _, _, err := r.holding(ctx, x.Checkpoint, p, p.moments())
			if err != nil {
				return nil, fmt.Errorf("list the hits: %w", err)
			}
			p.lists, p.known = nil, x.Checkpoint.Number.Choose(held)
		}
		list = append(list, group{c, p, []member{m}})
	}
	spans := make([][]replay.Verdict, (int(r.T.Len())+span-1)/span)
	err := guard.Each(ctx, len(spans), func(ctx context.Context, i int) (err error) {
		spans[i], err = r.expectWithin(ctx, list, len(of), event.Moment(i*span), event.Moment((i+1)*span))
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("check at the hits: %w", err)
	}
	for _, verdicts := range spans {
		for i, v := range verdicts {
			x := &out[i]
			x.Holds, x.Breaks, x.Unknown = x.Holds+v.Holds, x.Breaks+v.Breaks, x.Unknown+v.Unknown
			x.First, x.FirstUnknown = earlier(x.First, v.First), earlier(x.FirstUnknown, v.FirstUnknown)
			x.Trouble = cmp.Or(x.Trouble, v.Trouble)
		}
	}
	return out, nil
}

var noVerdict = replay.Verdict{First: event.NoMoment, FirstUnknown: event.NoMoment}

// expectWithin evaluates n conditions at their hits from a moment until another one.
func (r Finder) expectWithin(ctx context.Context, list []group, n int, from, until event.Moment) ([]replay.Verdict, error) {
	var out []replay.Verdict
	v := &view{Finder: r, kept: &state.Kept{}}
	hits := 0
	for _, g := range list {
		for m := range g.within(from, until) {
			if hits++; hits%64 == 0 && ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if !r.counts(g.Checkpoint, g.places, m) {
				continue
			}
			if out == nil {
				out = slices.Repeat([]replay.Verdict{noVerdict}, n)
			}
			v.moveTo(m)
			for _, x := range g.members {
				x.evaluate(ctx, v, &out[x.index])
			}
		}
	}
	return out, ctx.Err()
}

// evaluate adds to a verdict what a condition is at the moment of a view.
func (x member) evaluate(ctx context.Context, v *view, to *replay.Verdict) {
	t := v.T.Thread(v.at)
	applies, err := v.applies(ctx, x.when)
	holds := false
	if err == nil && applies {
		holds, err = x.that.Holds(ctx, v, v.at, t)
	}
	switch {
	case err != nil:
		to.Trouble = cmp.Or(to.Trouble, err)
		to.FirstUnknown = earlier(to.FirstUnknown, v.at)
		to.Unknown++
	case !applies:
	case holds:
		to.Holds++
	default:
		to.First = earlier(to.First, v.at)
		to.Breaks++
	}
}

// within lists the moments from one until another, in the order of each list.
func (p places) within(from, until event.Moment) iter.Seq[event.Moment] {
	return func(yield func(event.Moment) bool) {
		for _, l := range p.lists {
			for i := l.After(from - 1); i < l.Len(); i++ {
				m := l.At(i)
				if m >= until {
					break
				}
				if !yield(m) {
					return
				}
			}
		}
		for _, m := range p.known {
			if m >= from && m < until && !yield(m) {
				return
			}
		}
	}
}

// earlier returns the earlier of two moments, of which each may be event.NoMoment.
func earlier(a, b event.Moment) event.Moment {
	if a == event.NoMoment || b != event.NoMoment && b < a {
		return b
	}
	return a
}
