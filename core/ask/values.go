package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[ValuesRequest, Values]("values", "The values of a frame")

// ValuesRequest asks for the variables of a frame.
type ValuesRequest struct {
	Place
	Levels int    `json:"levels" minimum:"0" maximum:"16" flag:"depth" flagDefault:"1" doc:"levels of composite values to show"`
	Width  int    `json:"width" minimum:"0" maximum:"10000" default:"16" doc:"number of parts of a composite value that are shown"`
	Format string `json:"format" enum:"decimal,hex,binary,character,bytes,nanoseconds,time" doc:"format of whole numbers: decimal, hex, binary, character, bytes, nanoseconds or time"`
}

// Values are the variables of one frame.
type Values struct {
	Moment    event.Moment   `json:"moment"`
	Thread    event.ThreadID `json:"thread"`
	Frame     int            `json:"frame"`
	Variables []Variable     `json:"variables"`
	Returned  []Returned     `json:"returned"`
}

func (q ValuesRequest) answer(ctx context.Context, s *Subject) (Values, error) {
	p, err := q.resolve(s)
	if err != nil {
		return Values{}, err
	}
	out := Values{Moment: p.Moment, Thread: p.Thread, Frame: p.Frame, Returned: []Returned{}}
	if out.Variables, err = variablesAt(ctx, s, p, depth{q.Levels, q.Width, replay.Format(q.Format)}); err != nil {
		return out, err
	}
	if h, ok := s.Recording.(replay.History); ok {
		out.Returned, err = returnedAt(ctx, h, p)
	}
	return out, err
}
