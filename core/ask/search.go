package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

var _ = declare[SearchRequest, Search]("search", "A value among all that were recorded")

// SearchRequest asks where a value was recorded: a text or number, a type, or with Object the
// object at a path.
type SearchRequest struct {
	Place
	Text   string `json:"text" maxLength:"2000" flag:"-" doc:"text that a value contains, or number that it equals"`
	Type   string `json:"type" maxLength:"500" doc:"values of this type only"`
	Object string `json:"object" maxLength:"2000" flag:"-" doc:"path; references to the object that it leads to"`
	From   int    `json:"from" minimum:"0" doc:"number of places to skip"`
	Count  int    `json:"count" minimum:"0" maximum:"100000" default:"20" flag:"first" doc:"number of places"`
}

// Search are the places where a value was found.
type Search struct {
	Total int     `json:"total"`
	Found []Found `json:"found"`
}

// Found is one place.
type Found struct {
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	Name     string         `json:"name"`
	Value    string         `json:"value"`
	Source   string         `json:"source,omitempty"` // the line of the source text
}

// Negative implements Negative: the value was not found.
func (s Search) Negative() bool { return s.Total == 0 }

func (q SearchRequest) answer(ctx context.Context, s *Subject) (Search, error) {
	out := Search{Found: []Found{}}
	if q.Text == "" && q.Type == "" && q.Object == "" {
		return out, fault.InvalidRequest.New("name a text or number, a type, or an object", "missing search: a text or number, a type, or an object")
	}
	r, err := finder(s, "recorded value to search")
	if err != nil {
		return out, err
	}
	search := replay.NewSearch(q.Text, q.Type)
	if q.Object != "" {
		p, err := q.resolve(s)
		if err != nil {
			return out, err
		}
		if search.Object, search.Process, err = r.ObjectAt(ctx, q.Object, p.Moment, p.Thread, p.Frame); err != nil {
			return out, err
		}
	}
	found, err := r.Search(ctx, search, replay.Page{From: q.From, Count: q.Count})
	if err != nil {
		return out, err
	}
	out.Total = found.Total
	for _, f := range found.Page {
		out.Found = append(out.Found, Found{Moment: f.Moment, Thread: f.Thread, Function: f.Function, File: f.File, Line: f.Line, Name: f.Name, Value: valueText(f.Value), Source: s.sourceLine(f.File, f.Line)})
	}
	return out, nil
}
