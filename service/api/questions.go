package api

import (
	"context"
	"fmt"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/client"
	"wraithology/core/answer"
	"wraithology/core/event"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// PlaceInput is a place in evidence; what is left off means what it means in a locator.
type PlaceInput struct {
	EvidenceInput
	Moment int64  `query:"moment" minimum:"-1" default:"-1"`
	Thread uint32 `query:"thread"`
	Frame  int    `query:"frame" minimum:"0"`
}

func (a *api) at(ctx context.Context, in PlaceInput) (replay.Replay, event.Moment, event.ThreadID, error) {
	r, _, err := a.recording(ctx, in.Case, in.Evidence)
	if err != nil {
		return nil, 0, 0, err
	}
	m, t, err := answer.Resolve(r, event.Moment(in.Moment), event.ThreadID(in.Thread))
	return r, m, t, err
}

const evidencePath = "/api/cases/{case}/evidence/{evidence}/"

func (a *api) questionRoutes(h huma.API) {
	route(h, a, "GET", evidencePath+"peek", "peek", "What it is, how it ended, where, and what is missing", func(ctx context.Context, in *EvidenceInput) (*body[answer.Peek], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		p, err := answer.PeekAt(ctx, r)
		return &body[answer.Peek]{p}, err
	})
	route(h, a, "GET", evidencePath+"stack", "stack", "The stack at a moment, of one thread or all", func(ctx context.Context, in *struct {
		PlaceInput
		All bool `query:"all"`
	}) (*body[answer.Stack], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		one := t
		if in.All {
			one = 0
		}
		s, err := answer.StackAt(ctx, r, m, one, t)
		return &body[answer.Stack]{s}, err
	})
	route(h, a, "GET", evidencePath+"values", "values", "The values of a frame", func(ctx context.Context, in *struct {
		PlaceInput
		Levels int    `query:"levels" minimum:"0" maximum:"6"`
		Width  int    `query:"width" minimum:"0" maximum:"200" default:"16"`
		Format string `query:"format" enum:"decimal,hex,binary,character,bytes,nanoseconds,time" default:"decimal" doc:"of whole numbers"`
	}) (*body[answer.Values], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		v, err := answer.ValuesAt(ctx, r, m, t, in.Frame, answer.Depth{Levels: in.Levels, Width: in.Width, Format: replay.Format(in.Format)})
		return &body[answer.Values]{v}, err
	})
	route(h, a, "GET", evidencePath+"parts", "parts", "A page of the parts of a value", func(ctx context.Context, in *struct {
		PlaceInput
		Path  []string `query:"path,explode" required:"true" maxItems:"32" doc:"a variable's name, then the names of parts, each as an answer gave it"`
		From  int      `query:"from" minimum:"0"`
		Count int      `query:"count" minimum:"1" maximum:"500" default:"50"`
	}) (*body[answer.Variable], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		v, err := answer.PartsAt(ctx, r, m, t, in.Frame, in.Path, replay.Page{From: in.From, Count: in.Count})
		return &body[answer.Variable]{v}, err
	})
	route(h, a, "GET", evidencePath+"ask", "ask", "Evaluate an expression in a frame", func(ctx context.Context, in *struct {
		PlaceInput
		Expression string `query:"expression" required:"true" maxLength:"2000"`
	}) (*body[answer.Ask], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		q, err := question.Parse(in.Expression)
		if err != nil {
			return nil, err
		}
		got, err := q.Ask(ctx, r, m, t, in.Frame)
		return &body[answer.Ask]{answer.Ask(got)}, err
	})
	route(h, a, "GET", evidencePath+"hits", "hits", "The hits of a checkpoint, with values at each", func(ctx context.Context, in *struct {
		PlaceInput
		CheckpointOn
		Show    []string `query:"show,explode" maxItems:"16" doc:"expressions to evaluate at each hit"`
		Slowest bool     `query:"slowest" doc:"those first whose calls took longest"`
		From    int      `query:"from" minimum:"0"`
		Count   int      `query:"count" minimum:"0" maximum:"1000" default:"20"`
	}) (*body[answer.Hits], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		q := in.query()
		q.Show, q.Slowest, q.From, q.Count = in.Show, in.Slowest, in.From, in.Count
		out, err := answer.HitsOf(ctx, r, q, event.Moment(in.Moment), event.ThreadID(in.Thread), in.Frame)
		return &body[answer.Hits]{out}, err
	})
	route(h, a, "GET", evidencePath+"density", "density", "How a checkpoint's hits lie over the recording", func(ctx context.Context, in *struct {
		PlaceInput
		CheckpointOn
		Spans int `query:"spans" minimum:"1" maximum:"2000" default:"400"`
	}) (*body[client.Density], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		c, err := in.query().Checkpoint(r, event.Moment(in.Moment), event.ThreadID(in.Thread), in.Frame)
		if err != nil {
			return nil, err
		}
		counts, err := r.Density(ctx, c, in.Spans)
		return &body[client.Density]{client.Density{Moments: r.Info().Moments, Counts: counts}}, err
	})
	route(h, a, "GET", evidencePath+"step", "step", "Step from a place, forward or back", func(ctx context.Context, in *struct {
		PlaceInput
		Way        string `query:"way" required:"true" enum:"into,over,out,line,to,head"`
		Back       bool   `query:"back"`
		Count      int    `query:"count" minimum:"1" maximum:"100000" default:"1"`
		Everything bool   `query:"everything" doc:"also end in foreign code"`
		AnyThread  bool   `query:"anyThread" doc:"also end on another thread"`
		File       string `query:"file" doc:"for the way to"`
		Line       int    `query:"line" minimum:"0"`
		Outer      int    `query:"outer" minimum:"0" maximum:"1000" doc:"for the way head: how many calls further out"`
		Stop       bool   `query:"stop" default:"true" doc:"end at the enabled checkpoints of the case"`
	}) (*body[answer.Step], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		var stops []answer.Stop
		if in.Stop && (in.Way == string(replay.Over) || in.Way == string(replay.Out)) {
			if stops, err = a.stops(ctx, in.Case, in.Evidence, r); err != nil {
				return nil, err
			}
		}
		step := replay.Step{Way: replay.Way(in.Way), Back: in.Back, Everything: in.Everything, AnyThread: in.AnyThread, File: in.File, Line: in.Line, Outer: in.Outer}
		s, err := answer.StepFrom(ctx, r, m, t, step, in.Count, stops)
		return &body[answer.Step]{s}, err
	})
	route(h, a, "GET", evidencePath+"run", "run", "Go to the next or previous hit of a checkpoint, or of any enabled checkpoint of the case", func(ctx context.Context, in *struct {
		PlaceInput
		CheckpointOn
		Back bool `query:"back"`
	}) (*body[answer.Step], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		stops, err := a.stops(ctx, in.Case, in.Evidence, r)
		if q := in.query(); err == nil && !reflect.DeepEqual(q, answer.CheckpointQuery{}) {
			stops = []answer.Stop{{Name: q.String()}}
			stops[0].Checkpoint, err = q.Checkpoint(r, m, t, in.Frame)
		}
		if err != nil {
			return nil, err
		}
		s, found, err := answer.RunFrom(ctx, r, m, in.Back, stops)
		if err == nil && !found && len(stops) == 1 && stops[0].Name == in.query().String() {
			// Where the place itself is wrong, say so rather than that there is no hit.
			_, err = r.Hits(ctx, stops[0].Checkpoint, replay.Page{})
		}
		if err == nil && !found {
			where := "after"
			if in.Back {
				where = "before"
			}
			err = notFound(fmt.Sprintf("no enabled checkpoint has a hit %s moment %d", where, m))
		}
		return &body[answer.Step]{s}, err
	})
	route(h, a, "GET", evidencePath+"writes", "writes", "What was written to a variable, field or element", func(ctx context.Context, in *struct {
		PathInput
		Last  bool `query:"last" doc:"only the write that gave the value at the moment"`
		From  int  `query:"from" minimum:"0"`
		Count int  `query:"count" minimum:"1" maximum:"1000" default:"50"`
	}) (*body[answer.Writes], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		out, err := answer.WritesTo(ctx, r, in.Path, m, t, in.Frame, in.Last, replay.Page{From: in.From, Count: in.Count})
		return &body[answer.Writes]{out}, err
	})
	route(h, a, "GET", evidencePath+"origin", "origin", "The writes that a value came from, as a tree", func(ctx context.Context, in *struct {
		PathInput
		Depth int `query:"depth" minimum:"1" maximum:"64" default:"8"`
	}) (*body[answer.Origin], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		out, err := answer.OriginOf(ctx, r, in.Path, m, t, in.Frame, in.Depth)
		return &body[answer.Origin]{out}, err
	})
	route(h, a, "POST", evidencePath+"ledger", "ledger", "A table: rows are moments, columns are expressions", func(ctx context.Context, in *struct {
		PlaceInput
		Body answer.LedgerQuery
	}) (*body[answer.Ledger], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		const most = 5000
		in.Body.Count = min(in.Body.Count, most)
		out, err := answer.LedgerAt(ctx, r, in.Body, m, t, in.Frame)
		return &body[answer.Ledger]{out}, err
	})
	route(h, a, "GET", evidencePath+"search", "search", "Find a value among all that were recorded", func(ctx context.Context, in *struct {
		PlaceInput
		Text   string `query:"text" maxLength:"2000"`
		Type   string `query:"type" maxLength:"500"`
		Object string `query:"object" maxLength:"500" doc:"a path; the object that it leads to from the place"`
		From   int    `query:"from" minimum:"0"`
		Count  int    `query:"count" minimum:"0" maximum:"1000" default:"20"`
	}) (*body[answer.Search], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		q := answer.SearchQuery{Text: in.Text, Type: in.Type, Object: in.Object, From: in.From, Count: in.Count}
		out, err := answer.SearchFor(ctx, r, q, event.Moment(in.Moment), event.ThreadID(in.Thread), in.Frame)
		return &body[answer.Search]{out}, err
	})
	route(h, a, "GET", evidencePath+"changed", "changed", "What differs from the frame's previous moment", func(ctx context.Context, in *PlaceInput) (*body[answer.Changed], error) {
		r, m, t, err := a.at(ctx, *in)
		if err != nil {
			return nil, err
		}
		out, err := answer.ChangedAt(ctx, r, m, t, in.Frame)
		return &body[answer.Changed]{out}, err
	})
	route(h, a, "GET", evidencePath+"meanwhile", "meanwhile", "What each thread did between two moments", func(ctx context.Context, in *struct {
		EvidenceInput
		From int64 `query:"from" minimum:"0"`
		To   int64 `query:"to" minimum:"0"`
	}) (*body[answer.Meanwhile], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		out, err := answer.MeanwhileBetween(ctx, r, event.Moment(in.From), event.Moment(in.To))
		return &body[answer.Meanwhile]{out}, err
	})
	route(h, a, "GET", evidencePath+"source", "source", "The text of a source file", func(ctx context.Context, in *struct {
		EvidenceInput
		File string `query:"file" required:"true"`
	}) (*body[client.Source], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		text, err := r.Source(in.File)
		if err != nil {
			return nil, err
		}
		return &body[client.Source]{client.Source{File: in.File, Text: text, Lines: r.Lines(in.File)}}, nil
	})
	route(h, a, "GET", evidencePath+"lanes", "lanes", "What each thread did over a stretch of moments", func(ctx context.Context, in *struct {
		EvidenceInput
		From  int64 `query:"from" minimum:"0"`
		To    int64 `query:"to" minimum:"0" doc:"0 for the end"`
		Spans int   `query:"spans" minimum:"1" maximum:"2000" default:"400"`
	}) (*body[client.Lanes], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		moments := r.Info().Moments
		if in.To == 0 || in.To > moments {
			in.To = moments
		}
		lanes, err := r.Activity(ctx, event.Moment(in.From), event.Moment(in.To), in.Spans)
		if err != nil {
			return nil, err
		}
		out := client.Lanes{From: in.From, To: in.To, Lanes: []client.Lane{}}
		for _, l := range lanes {
			out.Lanes = append(out.Lanes, client.Lane{Thread: answer.ThreadID(l.Thread), Name: l.Name, Counts: l.Counts, Depths: l.Depths})
		}
		return &body[client.Lanes]{out}, nil
	})
}

// PathInput is a place, and a variable, field or element as it is reached there.
type PathInput struct {
	PlaceInput
	Path string `query:"path" required:"true" minLength:"1" maxLength:"500"`
}

// CheckpointOn says in a query what a checkpoint is on.
type CheckpointOn struct {
	File     string `query:"file"`
	Line     int    `query:"line" minimum:"0"`
	Enter    string `query:"enter" doc:"a function that is entered"`
	Return   string `query:"return" doc:"a function that returns"`
	Error    string `query:"error" doc:"an error or panic that has this text in it; * for any"`
	Write    string `query:"write" doc:"a path, as it is reached from the place, that is written to"`
	Output   string `query:"output" doc:"an output that has this text in it; * for any"`
	When     string `query:"when" maxLength:"2000"`
	Nth      string `query:"nth" maxLength:"64" doc:"5, every 100, last, or last before 4711"`
	OnThread uint32 `query:"onThread"`
}

func (c CheckpointOn) query() answer.CheckpointQuery {
	return answer.CheckpointQuery{File: c.File, Line: c.Line, Enter: c.Enter, Return: c.Return, Error: c.Error, Write: c.Write, Output: c.Output, When: c.When, Nth: c.Nth, OnThread: c.OnThread}
}

// stops are the enabled checkpoints of a case at which replay halts. One that
// does not fit this recording is passed over.
func (a *api) stops(ctx context.Context, caseName, evidence string, r replay.Replay) ([]answer.Stop, error) {
	c, err := a.caseFor(ctx, caseName, mayLook)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.CheckpointsOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	var stops []answer.Stop
	for _, x := range list {
		if !x.Enabled || x.Listing || x.Evidence != "" && x.Evidence != evidence {
			continue
		}
		point, err := queryOf(r, x).Checkpoint(r, event.Moment(x.Moment), event.ThreadID(x.Thread), x.Frame)
		if err != nil {
			continue
		}
		stops = append(stops, answer.Stop{Name: fmt.Sprintf("checkpoint %d", x.ID), Checkpoint: point})
	}
	return stops, nil
}
