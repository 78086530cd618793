package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[LanesRequest, Lanes]("lanes", "What each thread did over a stretch of moments, in equal spans")

// LanesRequest asks for the activity of each thread.
type LanesRequest struct {
	From  event.Moment `json:"from" minimum:"0" doc:"first moment"`
	To    event.Moment `json:"to" minimum:"0" doc:"moment after the last; 0 for the end"`
	Spans int          `json:"spans" minimum:"1" maximum:"2000" default:"400" doc:"number of spans"`
}

// Lanes are the activity of all threads in a range of moments.
type Lanes struct {
	From  event.Moment `json:"from"`
	To    event.Moment `json:"to"`
	Lanes []Lane       `json:"lanes"`
}

// Lane is the activity of one thread: the number of moments and the maximum call depth in each
// interval.
type Lane struct {
	Thread event.ThreadID `json:"thread"`
	Name   string         `json:"name"`
	Counts []int          `json:"counts"`
	Depths []int          `json:"depths"`
}

// maxStillLanes limits the lanes of evidence of one moment.
const maxStillLanes = 200

func (q LanesRequest) answer(ctx context.Context, s *Subject) (Lanes, error) {
	moments := event.Moment(s.Recording.Info().Moments)
	if q.To == 0 || q.To > moments {
		q.To = moments
	}
	out := Lanes{From: q.From, To: q.To, Lanes: []Lane{}}
	if r, ok := s.Recording.(replay.Stepper); ok {
		lanes, err := r.Activity(ctx, q.From, q.To, q.Spans)
		for _, l := range lanes {
			out.Lanes = append(out.Lanes, Lane(l))
		}
		return out, err
	}
	threads, err := s.Recording.Threads(ctx, q.From)
	for i, t := range threads {
		if i == maxStillLanes {
			break
		}
		l := Lane{Thread: t.ID, Name: t.Name, Counts: make([]int, q.Spans), Depths: make([]int, q.Spans)}
		l.Counts[0] = 1
		out.Lanes = append(out.Lanes, l)
	}
	return out, err
}
