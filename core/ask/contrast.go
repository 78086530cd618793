package ask

import (
	"context"
	"time"

	"wraithology/core/question"
	"wraithology/core/replay"
)

var _ = declare[ContrastRequest, Contrast]("contrast", "What separates the traces, records or calls for which a condition holds from the others")

// ContrastRequest asks what separates the traces of an event trace, the records of a log, or the calls of a function, for
// which When holds.
type ContrastRequest struct {
	When  string `json:"when" required:"true" maxLength:"2000" doc:"condition on a trace, a record, or a call when it returns"`
	Calls string `json:"calls,omitempty" maxLength:"500" doc:"compare the calls of this function"`
	From  int    `json:"from" minimum:"0" doc:"number of differences to skip"`
	Count int    `json:"count" minimum:"1" maximum:"1000" default:"20" flag:"first" doc:"number of differences"`
}

// Contrast lists differences, the greatest first. They are tested for significance; names in the condition are left out,
// because they separate by definition, and so are names with too many values (Left).
type Contrast struct {
	Of          string       `json:"of"` // trace, record, call
	With        int          `json:"with"`
	Without     int          `json:"without"`
	Total       int          `json:"total"`
	Differences []Separation `json:"differences"`
	Left        []string     `json:"left,omitempty"`
	Undecided   int          `json:"undecided,omitempty"`
	Trouble     string       `json:"trouble,omitempty"`
	Cut         bool         `json:"cut,omitempty"`
}

// Separation is a feature. With of the matching ones have it, and Without of the others; Score is the difference of the
// shares, from 0 to 1.
type Separation struct {
	What    string  `json:"what" enum:"attribute,operation,missing,duration,message"`
	Name    string  `json:"name"`
	Value   string  `json:"value"`
	With    int     `json:"with"`
	Without int     `json:"without"`
	Score   float64 `json:"score"`
}

// Negative implements Negative: nothing separates them.
func (c Contrast) Negative() bool { return c.Total == 0 }

// usualLimit is longer than for other questions: it goes through all of the evidence.
func (q ContrastRequest) usualLimit() time.Duration { return time.Minute }

func (q ContrastRequest) answer(ctx context.Context, s *Subject) (Contrast, error) {
	out := Contrast{Differences: []Separation{}}
	r, err := capability[replay.Contraster](s, noHistory("difference to find"))
	if err != nil {
		return out, err
	}
	when, err := question.Parse(q.When)
	if err != nil {
		return out, err
	}
	got, err := r.Contrast(ctx, replay.ContrastQuery{When: when, On: s.Recording, Calls: q.Calls, But: when.Names(), Page: replay.Page{From: q.From, Count: q.Count}})
	if err != nil {
		return out, err
	}
	out.Of, out.With, out.Without, out.Total, out.Left, out.Undecided, out.Cut = got.Of, got.With, got.Without, got.Total, got.Left, got.Undecided, got.Cut
	if got.Trouble != nil {
		out.Trouble = got.Trouble.Error()
	}
	for _, d := range got.Differences {
		out.Differences = append(out.Differences, Separation(d))
	}
	return out, nil
}
