package find

import (
	"cmp"
	"context"
	"fmt"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Expect implements replay.Finder.
func (r Finder) Expect(ctx context.Context, c replay.Checkpoint, that replay.Condition) (replay.Verdict, error) {
	out := replay.Verdict{First: event.NoMoment, FirstUnknown: event.NoMoment}
	p, err := r.placesOf(ctx, c)
	if err != nil {
		return out, err
	}
	moments := p.moments()
	if !c.Number.All() {
		held, _, _, err := r.holding(ctx, c, p, moments)
		if err != nil {
			return out, fmt.Errorf("list the hits: %w", err)
		}
		moments = c.Number.Choose(held)
	}
	pieces, err := inPieces(ctx, moments, func(ctx context.Context, moments []event.Moment) (replay.Verdict, error) {
		x := replay.Verdict{First: event.NoMoment, FirstUnknown: event.NoMoment}
		for i, m := range moments {
			if i%64 == 0 && ctx.Err() != nil {
				return x, ctx.Err()
			}
			applies, err := r.holdsAt(ctx, c, p, m)
			if err == nil && !applies {
				continue
			}
			holds := false
			if err == nil {
				holds, err = that.Holds(ctx, r, m, r.T.Thread(m))
			}
			switch {
			case err != nil:
				x.Trouble = cmp.Or(x.Trouble, err)
				x.FirstUnknown = earlier(x.FirstUnknown, m)
				x.Unknown++
			case holds:
				x.Holds++
			default:
				x.First = earlier(x.First, m)
				x.Breaks++
			}
		}
		return x, ctx.Err()
	})
	if err != nil {
		return out, fmt.Errorf("check at the hits: %w", err)
	}
	for _, x := range pieces {
		out.Holds, out.Breaks, out.Unknown = out.Holds+x.Holds, out.Breaks+x.Breaks, out.Unknown+x.Unknown
		out.First, out.FirstUnknown = earlier(out.First, x.First), earlier(out.FirstUnknown, x.FirstUnknown)
		out.Trouble = cmp.Or(out.Trouble, x.Trouble)
	}
	return out, nil
}

// earlier returns the earlier of two moments, of which each may be event.NoMoment.
func earlier(a, b event.Moment) event.Moment {
	if a == event.NoMoment || b != event.NoMoment && b < a {
		return b
	}
	return a
}
