package ask

import (
	"context"

	"wraithology/core/event"
)

var _ = declare[MeanwhileRequest, Meanwhile]("meanwhile", "What each thread did between two moments")

// MeanwhileRequest asks for the activity between two moments.
type MeanwhileRequest struct {
	From event.Moment `json:"from" minimum:"0" flag:"-" doc:"first moment"`
	To   event.Moment `json:"to" minimum:"0" arg:"1" doc:"last moment"`
}

// Meanwhile is the activity of each thread between two moments.
type Meanwhile struct {
	From    event.Moment `json:"from"`
	To      event.Moment `json:"to"`
	Threads []Doing      `json:"threads"`
}

// Doing is the activity of one thread: its number of moments, its first and its last place.
type Doing struct {
	Thread  event.ThreadID `json:"thread"`
	Name    string         `json:"name"`
	State   string         `json:"state"`
	Moments int64          `json:"moments"`
	First   Hit            `json:"first"`
	Last    Hit            `json:"last"`
}

func (q MeanwhileRequest) answer(ctx context.Context, s *Subject) (Meanwhile, error) {
	out := Meanwhile{From: q.From, To: q.To, Threads: []Doing{}}
	r, err := finder(s, "meanwhile")
	if err != nil {
		return out, err
	}
	list, err := r.Meanwhile(ctx, q.From, q.To)
	if err != nil {
		return out, err
	}
	for _, d := range list {
		x := Doing{Thread: d.Thread.ID, Name: d.Thread.Name, State: d.Thread.State, Moments: d.Moments}
		if x.First, err = hitAt(ctx, s.Recording, d.First.Moment); err != nil {
			return out, err
		}
		if x.Last, err = hitAt(ctx, s.Recording, d.Last.Moment); err != nil {
			return out, err
		}
		out.Threads = append(out.Threads, x)
	}
	return out, nil
}
