package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[WritesRequest, Writes]("writes", "The writes of a variable, field or element, oldest first")

// WritesRequest asks for the writes of the value at a path.
type WritesRequest struct {
	Place
	Path  string `json:"path" required:"true" maxLength:"2000" arg:"1" doc:"path of the variable, field or element"`
	Last  bool   `json:"last" doc:"only the write of the value at this moment"`
	From  int    `json:"from" minimum:"0" doc:"number of writes to skip"`
	Count int    `json:"count" minimum:"1" maximum:"100000" default:"50" flag:"first" doc:"number of writes"`
}

// Writes are writes of a variable, field or element, oldest first.
type Writes struct {
	Total  int     `json:"total"`
	Writes []Write `json:"writes"`
}

// Write is one write. Old is null if the value before it is not known.
type Write struct {
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	Old      *string        `json:"old"`
	New      string         `json:"new"`
	Source   string         `json:"source,omitempty"` // the line of the source text
}

// Negative implements Negative: there is no write.
func (w Writes) Negative() bool { return w.Total == 0 }

func (q WritesRequest) answer(ctx context.Context, s *Subject) (Writes, error) {
	out := Writes{Writes: []Write{}}
	r, err := history(s, "write to list")
	if err != nil {
		return out, err
	}
	p, err := q.resolve(s)
	if err != nil {
		return out, err
	}
	if q.Last {
		w, found, err := r.LastWrite(ctx, q.Path, p.Moment, p.Thread, p.Frame)
		if err == nil && found {
			out.Total, out.Writes = 1, append(out.Writes, writeOf(s, w))
		}
		return out, err
	}
	list, err := r.Writes(ctx, q.Path, p.Moment, p.Thread, p.Frame, replay.Page{From: q.From, Count: q.Count})
	if err != nil {
		return out, err
	}
	out.Total = list.Total
	for _, w := range list.Page {
		out.Writes = append(out.Writes, writeOf(s, w))
	}
	return out, nil
}

func writeOf(s *Subject, w replay.Write) Write {
	return Write{Moment: w.Moment, Thread: w.Thread, Function: w.Function, File: w.File, Line: w.Line, Old: optionalText(w.Old), New: valueText(w.New), Source: s.sourceLine(w.File, w.Line)}
}
