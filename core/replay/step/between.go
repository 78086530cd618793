package step

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Timing implements replay.Stepper.
func (r Stepper) Timing(at event.Moment) (call, step time.Duration, err error) {
	if err := r.Check(at); err != nil {
		return 0, 0, err
	}
	call, step = -1, -1
	c := r.T.CallOf(at)
	if c == event.NoCall {
		return call, step, nil
	}
	x := r.T.Call(c)
	next := x.Leave
	if x.Leave != event.NoMoment {
		call = time.Duration(r.T.Time(x.Leave) - r.T.Time(x.Enter))
	}
	lines := r.T.CallLines(c)
	if i := lines.After(at); i < lines.Len() {
		next = lines.At(i)
	}
	if next != event.NoMoment && next >= at {
		step = time.Duration(r.T.Time(next) - r.T.Time(at))
	}
	return call, step, nil
}

// Meanwhile implements replay.Stepper.
func (r Stepper) Meanwhile(ctx context.Context, from, to event.Moment) ([]replay.Doing, error) {
	if from > to {
		from, to = to, from
	}
	if err := r.Check(from); err != nil {
		return nil, err
	}
	if err := r.Check(to); err != nil {
		return nil, err
	}
	threads, err := r.Threads(ctx, to)
	if err != nil {
		return nil, err
	}
	if threads, err = r.withEnded(ctx, threads, from, to); err != nil {
		return nil, err
	}
	var out []replay.Doing
	for _, th := range threads {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		first, last := r.T.Next(th.ID, from-1), r.T.OnThread(th.ID, to)
		if first == event.NoMoment || first > to {
			continue
		}
		d := replay.Doing{Thread: th, Moments: r.T.CountOn(th.ID, first, last)}
		if d.First, err = r.Place(first); err == nil {
			d.Last, err = r.Place(last)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}

// withEnded adds the threads that ended between two moments, in the order of their numbers.
func (r Stepper) withEnded(ctx context.Context, threads []replay.Thread, from, to event.Moment) ([]replay.Thread, error) {
	if !r.Recorded() {
		return threads, nil // their threads stand for what services did at once, and do not end
	}
	listed := map[event.ThreadID]bool{}
	for _, th := range threads {
		listed[th.ID] = true
	}
	for id := event.ThreadID(1); int(id) <= r.T.Threads(); id++ {
		if id%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if first, last := r.T.Span(id); !listed[id] && first <= to && last >= from {
			th := r.T.ThreadInfo(id)
			threads = append(threads, replay.Thread{ID: id, Name: r.ThreadName(th), Kind: "goroutine", State: "ended", Creator: th.Creator})
		}
	}
	slices.SortFunc(threads, func(a, b replay.Thread) int { return cmp.Compare(a.ID, b.ID) })
	return threads, nil
}

// CallLines implements replay.Stepper.
func (r Stepper) CallLines(_ context.Context, at event.Moment, t event.ThreadID, frame int, page replay.Page) (replay.Hits, error) {
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return replay.Hits{}, err
	}
	list := r.T.CallLines(c)
	hits := replay.Hits{Total: list.Len()}
	from, to := page.Cut(list.Len())
	for i := from; i < to; i++ {
		hits.Page = append(hits.Page, list.At(i))
	}
	return hits, nil
}

// Activity implements replay.Stepper. It samples the moments of each interval, so that its cost
// does not grow with the recording.
func (r Stepper) Activity(ctx context.Context, from, to event.Moment, spans int) ([]replay.Lane, error) {
	n := r.T.Len()
	from, to = max(from, 0), min(to, n)
	if n == 0 || from >= to || spans < 1 {
		return nil, fmt.Errorf("moments %d to %d in %d spans: %w", from, to, spans, fault.OutOfRange)
	}
	const maxSpans, sampled = 2000, 64
	spans = min(spans, maxSpans, int(to-from))
	lanes := map[event.ThreadID]*replay.Lane{}
	var order []event.ThreadID
	for s := range spans {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		begin := from + (to-from)*event.Moment(s)/event.Moment(spans)
		end := from + (to-from)*event.Moment(s+1)/event.Moment(spans)
		stride := max((end-begin)/sampled, 1)
		for m := begin; m < end; m += stride {
			t := r.T.Thread(m)
			lane := lanes[t]
			if lane == nil {
				lane = &replay.Lane{Thread: t, Counts: make([]int, spans), Depths: make([]int, spans)}
				lanes[t] = lane
				order = append(order, t)
			}
			lane.Counts[s] += int(stride)
			depth := 0
			for c := r.T.CallOf(m); c != event.NoCall && depth < 256; c = r.T.Call(c).Parent {
				depth++
			}
			lane.Depths[s] = max(lane.Depths[s], depth)
		}
	}
	out := make([]replay.Lane, 0, len(order))
	for _, t := range order {
		lane := lanes[t]
		th := r.T.ThreadInfo(t)
		if lane.Name = r.ReportedName(th); r.Recorded() {
			lane.Name = r.ThreadName(th)
		}
		out = append(out, *lane)
	}
	return out, nil
}
