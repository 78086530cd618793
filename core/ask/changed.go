package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[ChangedRequest, Changed]("changed", "What differs from the frame's previous moment")

// ChangedRequest asks for the changes in a frame.
type ChangedRequest struct{ Place }

// Changed lists the differences from the frame's previous moment.
type Changed struct {
	Moment   event.Moment `json:"moment"`
	Previous event.Moment `json:"previous"`
	Changes  []Change     `json:"changes"`
	Returned []Returned   `json:"returned"`
}

// Change is a variable whose value differs. Old is null if it had no value before.
type Change struct {
	Name string  `json:"name"`
	Old  *string `json:"old"`
	New  string  `json:"new"`
}

// Returned is a call that returned between the two moments, with its results.
type Returned struct {
	Function string       `json:"function"`
	Moment   event.Moment `json:"moment"`
	Values   []string     `json:"values"`
}

func (q ChangedRequest) answer(ctx context.Context, s *Subject) (Changed, error) {
	p, err := q.resolve(s)
	out := Changed{Moment: p.Moment, Previous: event.NoMoment, Changes: []Change{}, Returned: []Returned{}}
	if err != nil {
		return out, err
	}
	r, ok := s.Recording.(replay.History)
	if !ok {
		return out, nil // evidence of one moment has no previous moment
	}
	c, err := r.Changed(ctx, p.Moment, p.Thread, p.Frame)
	if err != nil {
		return out, err
	}
	out.Previous = c.Previous
	for _, x := range c.Changes {
		out.Changes = append(out.Changes, Change{Name: x.Name, Old: optionalText(x.Old), New: valueText(x.New)})
	}
	out.Returned, err = returnedAt(ctx, r, p)
	return out, err
}

func returnedAt(ctx context.Context, r replay.History, p Place) ([]Returned, error) {
	out := []Returned{}
	list, err := r.Returned(ctx, p.Moment, p.Thread, p.Frame)
	for _, x := range list {
		y := Returned{Function: x.Function, Moment: x.At, Values: []string{}}
		for _, v := range x.Values {
			y.Values = append(y.Values, valueText(v))
		}
		out = append(out, y)
	}
	return out, err
}
