package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[OriginRequest, Origin]("origin", "The writes that a value came from, as a tree")

// OriginRequest asks for the origin of a value.
type OriginRequest struct {
	Place
	Path    string `json:"path" required:"true" maxLength:"2000" arg:"1" doc:"path of the value"`
	Depth   int    `json:"depth" minimum:"1" maximum:"64" default:"8" doc:"number of computations to follow back"`
	All     bool   `json:"all" doc:"all of the chain, not only the 40 lines that tell most"`
	Objects bool   `json:"objects" doc:"also follow how objects of other code, such as a request or a context, were passed on"`
}

// Origin is a value, the write that gave it, and the values that it was computed from. Note adds to
// kind and value. More says that the chain continues beyond the depth; Left counts the values that are left
// out here, because they would have made the chain too long.
type Origin struct {
	Name     string         `json:"name"`
	Value    string         `json:"value"`
	Kind     string         `json:"kind"`
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	Note     string         `json:"note"`
	More     bool           `json:"more"`
	Left     int            `json:"left,omitempty"`
	Asked    Asked          `json:"asked"`
	From     []Origin       `json:"from"`
}

// Asked is the place and path at which a value of a chain was read. A request for its origin
// continues the chain.
type Asked struct {
	Moment event.Moment   `json:"moment"`
	Thread event.ThreadID `json:"thread"`
	Frame  int            `json:"frame"`
	Path   string         `json:"path"`
}

// originLines is the usual maximum of lines of a chain.
const originLines = 40

func (q OriginRequest) answer(ctx context.Context, s *Subject) (Origin, error) {
	r, err := history(s, "write to explain a value by")
	if err != nil {
		return Origin{}, err
	}
	p, err := q.resolve(s)
	if err != nil {
		return Origin{}, err
	}
	how := replay.OriginOptions{Depth: q.Depth, Objects: q.Objects, Lines: originLines}
	if q.All {
		how.Lines = 0
	}
	o, err := r.Origin(ctx, q.Path, p.Moment, p.Thread, p.Frame, how)
	return originOf(o), err
}

func originOf(o replay.Origin) Origin {
	out := Origin{Name: o.Name, Kind: string(o.Kind), Moment: o.Moment, Thread: o.Thread, Function: o.Function, File: o.File, Line: o.Line, Note: o.Note, More: o.More, Left: o.Left, From: []Origin{},
		Asked: Asked{o.Asked.At, o.Asked.Thread, o.Asked.Frame, o.Asked.Path}}
	if o.Value.State == event.Known {
		out.Value = o.Value.Text()
	}
	for _, x := range o.From {
		out.From = append(out.From, originOf(x))
	}
	return out
}
