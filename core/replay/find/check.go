package find

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
)

// span is the number of moments in which all conditions are evaluated before the next span begins: what they read of the log
// is unpacked once.
const span = 1 << 15

// expected is a condition with the places where it is evaluated.
type expected struct {
	replay.Expected
	places
}

// Expect implements replay.Finder. It goes through the recording once, on all processors.
func (r Finder) Expect(ctx context.Context, of []replay.Expected) ([]replay.Verdict, error) {
	out := make([]replay.Verdict, len(of))
	list := make([]expected, len(of))
	for i, x := range of {
		out[i] = noVerdict
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
		list[i] = expected{x, p}
	}
	spans := make([][]replay.Verdict, (int(r.T.Len())+span-1)/span)
	err := guard.Each(ctx, len(spans), func(ctx context.Context, i int) (err error) {
		spans[i], err = r.expectWithin(ctx, list, event.Moment(i*span), event.Moment((i+1)*span))
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

// expectWithin evaluates conditions at their hits from a moment until another one.
func (r Finder) expectWithin(ctx context.Context, list []expected, from, until event.Moment) ([]replay.Verdict, error) {
	var out []replay.Verdict
	n := 0
	for i, x := range list {
		for m := range x.within(from, until) {
			if n++; n%64 == 0 && ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if out == nil {
				out = make([]replay.Verdict, len(list))
				for i := range out {
					out[i] = noVerdict
				}
			}
			r.expectAt(ctx, x, m, &out[i])
		}
	}
	return out, ctx.Err()
}

// expectAt adds to a verdict what a condition is at a moment.
func (r Finder) expectAt(ctx context.Context, x expected, m event.Moment, v *replay.Verdict) {
	applies, err := r.holdsAt(ctx, x.Checkpoint, x.places, m)
	if err == nil && !applies {
		return
	}
	holds := false
	if err == nil {
		holds, err = x.That.Holds(ctx, r, m, r.T.Thread(m))
	}
	switch {
	case err != nil:
		v.Trouble = cmp.Or(v.Trouble, err)
		v.FirstUnknown = earlier(v.FirstUnknown, m)
		v.Unknown++
	case holds:
		v.Holds++
	default:
		v.First = earlier(v.First, m)
		v.Breaks++
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
