// Package find finds hits of checkpoints, and recorded values.
package find

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"sort"

	"wraithology/core/event"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/core/replay/writes"
	"wraithology/core/timeline"
)

// Finder finds hits and values in a timeline.
type Finder struct{ writes.Reader }

// places are the moments at which a checkpoint can hold, regardless of its condition, thread and
// number.
type places struct {
	lists []timeline.List
	known []event.Moment // in order, where they had to be found
	keep  func(event.Moment) bool
}

// Hits implements replay.Finder. Without a condition, the total is the length of lists. With one,
// the condition is evaluated at the moments of the place only.
func (r Finder) Hits(ctx context.Context, c replay.Checkpoint, page replay.Page) (replay.Hits, error) {
	p, err := r.placesOf(ctx, c)
	if err != nil {
		return replay.Hits{}, err
	}
	if c.When == nil && c.Thread == 0 && p.keep == nil && c.Number.All() {
		return p.page(page), nil
	}
	moments := p.moments()
	var hits replay.Hits
	held, undecided, trouble, err := r.holding(ctx, c, p, moments)
	if err != nil {
		return hits, fmt.Errorf("list the hits: %w", err)
	}
	hits.Undecided, hits.Trouble = undecided, trouble
	if len(moments) > 0 && undecided == len(moments) && trouble != nil {
		return hits, trouble
	}
	held = c.Number.Choose(held)
	hits.Total = len(held)
	from, to := page.Cut(len(held))
	hits.Page = append(hits.Page, held[from:to]...)
	return hits, nil
}

// pieceOfHits is the number of moments of one unit of work.
const pieceOfHits = 2048

// inPieces calls f with pieces of the moments, on all processors, and returns the results in order.
func inPieces[T any](ctx context.Context, moments []event.Moment, f func(context.Context, []event.Moment) (T, error)) ([]T, error) {
	out := make([]T, (len(moments)+pieceOfHits-1)/pieceOfHits)
	err := guard.Each(ctx, len(out), func(ctx context.Context, i int) (err error) {
		out[i], err = f(ctx, moments[i*pieceOfHits:min((i+1)*pieceOfHits, len(moments))])
		return err
	})
	return out, err
}

// holding evaluates a checkpoint's condition at its moments, on all processors.
func (r Finder) holding(ctx context.Context, c replay.Checkpoint, p places, moments []event.Moment) (held []event.Moment, undecided int, trouble, err error) {
	type piece struct {
		held      []event.Moment
		undecided int
		trouble   error
	}
	pieces, err := inPieces(ctx, moments, func(ctx context.Context, moments []event.Moment) (x piece, _ error) {
		for _, m := range moments {
			holds, err := r.holdsAt(ctx, c, p, m)
			switch {
			case ctx.Err() != nil:
				return x, ctx.Err()
			case err != nil:
				x.trouble = cmp.Or(x.trouble, err)
				x.undecided++
			case holds:
				x.held = append(x.held, m)
			}
		}
		return x, nil
	})
	for _, x := range pieces {
		held = append(held, x.held...)
		undecided += x.undecided
		trouble = cmp.Or(trouble, x.trouble)
	}
	return held, undecided, trouble, err
}

func (r Finder) holdsAt(ctx context.Context, c replay.Checkpoint, p places, m event.Moment) (bool, error) {
	if !r.counts(c, p, m) {
		return false, nil
	}
	if c.When == nil {
		return true, nil
	}
	return c.When.Holds(ctx, r, m, r.T.Thread(m))
}

// counts reports whether a moment of a checkpoint's place is one of its hits, regardless of its condition and number.
func (r Finder) counts(c replay.Checkpoint, p places, m event.Moment) bool {
	return (c.Thread == 0 || r.T.Thread(m) == c.Thread) && (p.keep == nil || p.keep(m))
}

func (p places) count() int {
	n := len(p.known)
	for _, l := range p.lists {
		n += l.Len()
	}
	return n
}

// moments lists all moments in order.
func (p places) moments() []event.Moment {
	out := slices.Grow([]event.Moment(nil), p.count())
	for _, l := range p.lists {
		out = l.AppendTo(out)
	}
	out = append(out, p.known...)
	if len(p.lists) > 1 || len(p.lists) == 1 && len(p.known) > 0 {
		slices.Sort(out)
	}
	return out
}

func (p places) page(page replay.Page) replay.Hits {
	hits := replay.Hits{Total: p.count()}
	from, to := page.Cut(hits.Total)
	if len(p.lists) == 1 && len(p.known) == 0 {
		for i := from; i < to; i++ {
			hits.Page = append(hits.Page, p.lists[0].At(i))
		}
		return hits
	}
	hits.Page = append(hits.Page, p.moments()[from:to]...)
	return hits
}

// NextHit implements replay.Finder. Checkpoints on places that this recording does not have are
// skipped.
func (r Finder) NextHit(ctx context.Context, at event.Moment, back bool, of []replay.Checkpoint) (event.Moment, int, error) {
	if err := r.Check(at); err != nil {
		return event.NoMoment, -1, err
	}
	best, which := event.NoMoment, -1
	for i, c := range of {
		p, err := r.placesOf(ctx, c)
		if err != nil {
			continue
		}
		var found event.Moment
		if c.Number.All() {
			found, err = r.nearest(ctx, c, p, at, back, best)
		} else {
			found, err = r.nearestNumbered(ctx, c, p, at, back)
		}
		if err != nil {
			return event.NoMoment, -1, fmt.Errorf("find the next hit: %w", err)
		}
		if found != event.NoMoment && (best == event.NoMoment || (found < best) != back) {
			best, which = found, i
		}
	}
	return best, which, nil
}

// nearestNumbered finds the nearest hit that a number selects.
func (r Finder) nearestNumbered(ctx context.Context, c replay.Checkpoint, p places, at event.Moment, back bool) (event.Moment, error) {
	held, _, _, err := r.holding(ctx, c, p, p.moments())
	if err != nil {
		return event.NoMoment, err
	}
	held = c.Number.Choose(held)
	i := sort.Search(len(held), func(i int) bool { return held[i] > at })
	if back {
		i = sort.Search(len(held), func(i int) bool { return held[i] >= at }) - 1
	}
	if i < 0 || i >= len(held) {
		return event.NoMoment, nil
	}
	return held[i], nil
}

// nearest finds the nearest moment at which a checkpoint holds, if it is nearer than best; else
// NoMoment.
func (r Finder) nearest(ctx context.Context, c replay.Checkpoint, p places, at event.Moment, back bool, best event.Moment) (event.Moment, error) {
	type walk struct {
		at   func(i int) event.Moment
		i, n int
	}
	step := 1
	if back {
		step = -1
	}
	var walks []*walk
	begin := func(n int, get func(int) event.Moment) {
		i := sort.Search(n, func(i int) bool { return get(i) > at })
		if back {
			i = sort.Search(n, func(i int) bool { return get(i) >= at }) - 1
		}
		walks = append(walks, &walk{get, i, n})
	}
	for _, l := range p.lists {
		begin(l.Len(), l.At)
	}
	begin(len(p.known), func(i int) event.Moment { return p.known[i] })
	for n := 0; ; n++ {
		if n%1024 == 0 && ctx.Err() != nil {
			return event.NoMoment, ctx.Err()
		}
		var next *walk
		for _, w := range walks {
			if w.i >= 0 && w.i < w.n && (next == nil || (w.at(w.i) < next.at(next.i)) != back) {
				next = w
			}
		}
		if next == nil {
			return event.NoMoment, nil
		}
		m := next.at(next.i)
		next.i += step
		if best != event.NoMoment && (m >= best) != back {
			return event.NoMoment, nil
		}
		if holds, err := r.holdsAt(ctx, c, p, m); err == nil && holds {
			return m, nil
		}
	}
}

// Density implements replay.Finder.
func (r Finder) Density(ctx context.Context, c replay.Checkpoint, spans int) ([]int, error) {
	hits, err := r.Hits(ctx, c, replay.Page{Count: math.MaxInt32})
	if err != nil {
		return nil, err
	}
	counts := make([]int, max(spans, 1))
	for _, m := range hits.Page {
		counts[int64(m)*int64(len(counts))/int64(r.T.Len())]++
	}
	return counts, nil
}
