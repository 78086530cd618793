package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[ThreadsRequest, Groups]("threads", "All threads, grouped by equal stacks")

// ThreadsRequest asks for the threads at a moment.
type ThreadsRequest struct{ Place }

// Groups are the threads at a moment, grouped by what they do and where.
type Groups struct {
	Moment event.Moment `json:"moment"`
	Total  int          `json:"total"` // number of threads
	Groups []Group      `json:"groups"`
}

// Group is the threads with one stack. Threads lists at most maxGroupThreads of them; Count is
// their number.
type Group struct {
	Count   int              `json:"count"`
	Kind    string           `json:"kind"`
	State   string           `json:"state"`
	Waits   string           `json:"waits"` // the reason why the first of them waits
	Threads []event.ThreadID `json:"threads"`
	Frames  []Frame          `json:"frames"`
}

const (
	maxGroupThreads = 100
	maxGroups       = 500
)

func (q ThreadsRequest) answer(ctx context.Context, s *Subject) (Groups, error) {
	p, err := q.resolve(s)
	out := Groups{Moment: p.Moment, Groups: []Group{}}
	if err != nil {
		return out, err
	}
	list, err := replay.Groups(ctx, s.Recording, p.Moment)
	if err != nil {
		return out, err
	}
	for _, g := range list {
		out.Total += len(g.Threads)
		if len(out.Groups) == maxGroups {
			continue
		}
		x := Group{Count: len(g.Threads), Kind: g.Kind, State: g.State, Threads: append([]event.ThreadID{}, g.Threads[:min(len(g.Threads), maxGroupThreads)]...), Frames: []Frame{}}
		frames, err := s.Recording.Frames(ctx, p.Moment, g.Threads[0])
		if err != nil {
			return out, err
		}
		for _, f := range foldFrames(frames, maxFrames) {
			x.Frames = append(x.Frames, frameOf(f))
		}
		if x.Waits, err = replay.WaitsFor(ctx, s.Recording, p.Moment, g.Threads[0]); err != nil {
			return out, err
		}
		out.Groups = append(out.Groups, x)
	}
	return out, nil
}
