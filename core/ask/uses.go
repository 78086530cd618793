package ask

import (
	"context"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[UsesRequest, Uses]("uses", "The calls that used an object: it was passed to them, or they returned, stored or changed it")

// UsesRequest asks which calls used the object at a path from a frame.
type UsesRequest struct {
	Place
	Of    string `json:"of" required:"true" maxLength:"2000" arg:"1" doc:"path of the object"`
	From  int    `json:"from" minimum:"0" doc:"number of calls to skip"`
	Count int    `json:"count" minimum:"1" maximum:"100000" default:"60" flag:"first" doc:"number of calls"`
}

// Uses are the calls that used an object, in the order of their entries. Calls that only read it through another object are not
// known. Unexamined counts places that were not followed, because there are too many.
type Uses struct {
	Total      int   `json:"total"`
	Calls      []Use `json:"calls"`
	Unexamined int   `json:"unexamined"`
}

// Use is a call that used an object. Moment is its entry, First that of the first use. Parameter is the name by which the object was
// passed; it is empty if it was not. What are the words of a story, Times is the number of things that happened. Asked is set for
// the call of the frame that was asked about.
type Use struct {
	Moment    event.Moment   `json:"moment"`
	Thread    event.ThreadID `json:"thread"`
	Function  string         `json:"function"`
	File      string         `json:"file"`
	Line      int            `json:"line"`
	First     event.Moment   `json:"first"`
	Parameter string         `json:"parameter"`
	What      []string       `json:"what"`
	Times     int            `json:"times"`
	Asked     bool           `json:"asked"`
}

// Negative implements Negative: no call used it.
func (u Uses) Negative() bool { return u.Total == 0 }

// usualLimit is longer than for other questions: it looks at all that was recorded.
func (q UsesRequest) usualLimit() time.Duration { return 30 * time.Second }

func (q UsesRequest) answer(ctx context.Context, s *Subject) (Uses, error) {
	out := Uses{Calls: []Use{}}
	r, err := capability[replay.Teller](s, noHistory("call that used it"))
	if err != nil {
		return out, err
	}
	p, err := q.resolve(s)
	if err != nil {
		return out, err
	}
	uses, err := r.UsesOfObject(ctx, q.Of, p.Moment, p.Thread, p.Frame, replay.Page{From: q.From, Count: q.Count})
	if err != nil {
		return out, err
	}
	out.Total, out.Unexamined = uses.Total, uses.Unexamined
	for _, u := range uses.Page {
		x := Use{Moment: u.Moment, Thread: u.Thread, Function: u.Function, File: u.File, Line: u.Line, First: u.First, Parameter: u.Parameter, What: []string{}, Times: u.Times, Asked: u.Asked}
		for _, w := range u.What {
			x.What = append(x.What, string(w))
		}
		out.Calls = append(out.Calls, x)
	}
	return out, nil
}
