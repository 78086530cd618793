package ask

import (
	"cmp"
	"context"
	"math"
	"slices"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

var _ = declare[HitsRequest, Hits]("hits", "The hits of a checkpoint, with values at each")

// HitsRequest asks for a page of the hits of a checkpoint.
type HitsRequest struct {
	Place
	CheckpointOn
	Show    []string `json:"show" maxItems:"16" maxLength:"2000" doc:"expression to evaluate at each hit; may be repeated"`
	Slowest bool     `json:"slowest" doc:"list the slowest calls first"`
	From    int      `json:"from" minimum:"0" doc:"number of hits to skip"`
	Count   int      `json:"count" minimum:"0" maximum:"100000" default:"20" flag:"first" doc:"number of hits"`
}

// Hits are the moments at which a checkpoint holds. Undecided counts the moments at which the
// condition could not be evaluated; Trouble is the reason at the first of them.
type Hits struct {
	Total     int    `json:"total"`
	Hits      []Hit  `json:"hits"`
	Undecided int    `json:"undecided"`
	Trouble   string `json:"trouble"`
}

// Negative implements Negative: there is no hit.
func (h Hits) Negative() bool { return h.Total == 0 }

func (q HitsRequest) answer(ctx context.Context, s *Subject) (Hits, error) {
	out := Hits{Hits: []Hit{}}
	r, err := finder(s, "hit to list")
	if err != nil {
		return out, err
	}
	c, err := q.Checkpoint(s.Recording, q.Place)
	if err != nil {
		return out, err
	}
	show, err := parseAll(q.Show)
	if err != nil {
		return out, err
	}
	page := replay.Page{From: q.From, Count: q.Count}
	if q.Slowest {
		page = replay.Page{Count: math.MaxInt32}
	}
	hits, err := r.Hits(ctx, c, page)
	if err != nil {
		return out, err
	}
	if q.Slowest {
		if hits.Page, err = slowest(ctx, r, hits.Page, replay.Page{From: q.From, Count: q.Count}); err != nil {
			return out, err
		}
	}
	out.Total, out.Undecided = hits.Total, hits.Undecided
	if hits.Trouble != nil {
		out.Trouble = hits.Trouble.Error()
	}
	kind, err := find.Named(c.Kind)
	if err != nil {
		return out, err
	}
	changes, err := q.changes(ctx, s, c)
	if err != nil {
		return out, err
	}
	for _, m := range hits.Page {
		h, err := hitAt(ctx, s.Recording, m)
		if err != nil {
			return out, err
		}
		h.Source = s.sourceLine(h.File, h.Line)
		if w, ok := changes[m]; ok {
			text := valueText(w.New)
			h.Old, h.New = optionalText(w.Old), &text
		}
		if kind.Says {
			h.Text = r.Text(m)
		}
		for i, x := range show {
			shown := Shown{Expression: q.Show[i]}
			if got, err := x.Ask(ctx, s.Recording, m, h.Thread, 0); err != nil {
				if ctx.Err() != nil {
					return out, ctx.Err()
				}
				shown.Error = err.Error()
			} else {
				shown.Value, shown.Type = got.Text(), got.Type
			}
			h.Shown = append(h.Shown, shown)
		}
		out.Hits = append(out.Hits, h)
	}
	return out, nil
}

// changes returns the writes of the path of a checkpoint on writes, by moment.
func (q HitsRequest) changes(ctx context.Context, s *Subject, c replay.Checkpoint) (map[event.Moment]replay.Write, error) {
	r, ok := s.Recording.(replay.History)
	if !ok || c.Kind != "write" {
		return nil, nil
	}
	list, err := r.Writes(ctx, c.About, c.At, c.PathThread, c.Frame, replay.Page{Count: mostChanges})
	if err != nil {
		return nil, err
	}
	out := map[event.Moment]replay.Write{}
	for _, w := range list.Page {
		out[w.Moment] = w
	}
	return out, nil
}

// mostChanges limits the writes that are compared for a list of hits.
const mostChanges = 100_000

// slowest returns a page of moments, slowest calls first.
func slowest(ctx context.Context, r replay.Stepper, moments []event.Moment, page replay.Page) ([]event.Moment, error) {
	took := make(map[event.Moment]time.Duration, len(moments))
	for i, m := range moments {
		if i%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		call, _, err := r.Timing(m)
		if err != nil {
			return nil, err
		}
		took[m] = call
	}
	slices.SortStableFunc(moments, func(a, b event.Moment) int { return cmp.Compare(took[b], took[a]) })
	from, to := page.Cut(len(moments))
	return moments[from:to], nil
}
