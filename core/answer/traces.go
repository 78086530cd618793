package answer

import (
	"context"
	"errors"
	"fmt"
	"time"

	"wraithology/core/event"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// Traces are traces of evidence, the newest first. Undecided counts those for
// which the condition had no answer.
type Traces struct {
	Total     int     `json:"total"`
	Traces    []Trace `json:"traces"`
	Undecided int     `json:"undecided,omitempty"`
	Trouble   string  `json:"trouble,omitempty"`
}

// Trace is one of them. Moment is its first and End its last moment; Evidence is
// set where traces of several evidence are listed together.
type Trace struct {
	TraceID    string    `json:"traceID"`
	Service    string    `json:"service"`
	Operation  string    `json:"operation"`
	Started    time.Time `json:"started"`
	DurationNs int64     `json:"durationNs"`
	Spans      int       `json:"spans"`
	Errors     int       `json:"errors"`
	Status     string    `json:"status"`
	Moment     int64     `json:"moment"`
	End        int64     `json:"end"`
	Evidence   string    `json:"evidence,omitempty"`
}

// TracesQuery says which traces are meant: those for which When holds, by service,
// operation, status, duration, spans, errors, started, traceID and attributes; and
// of these Count from From on.
type TracesQuery struct {
	When  string `json:"when,omitempty"`
	From  int    `json:"from,omitempty"`
	Count int    `json:"count,omitempty"`
}

// Spans are the spans of a trace, each one's children after it.
type Spans struct {
	Trace Trace  `json:"trace"`
	Spans []Span `json:"spans"`
}

// Span is one of them. StartNs counts from the trace's start; CriticalNs is its
// share in the trace's critical path.
type Span struct {
	SpanID        string `json:"spanID"`
	ParentSpanID  string `json:"parentSpanID"`
	Service       string `json:"service"`
	Operation     string `json:"operation"`
	Thread        string `json:"thread"`
	Moment        int64  `json:"moment"`
	End           int64  `json:"end"`
	StartNs       int64  `json:"startNs"`
	DurationNs    int64  `json:"durationNs"`
	SelfNs        int64  `json:"selfNs"`
	CriticalNs    int64  `json:"criticalNs"`
	Status        string `json:"status"`
	StatusMessage string `json:"statusMessage"`
	Depth         int    `json:"depth"`
	Links         []Link `json:"links,omitempty"`
}

// Link is what a span says that it has to do with: a span of this or another trace.
type Link struct {
	TraceID string `json:"traceID"`
	SpanID  string `json:"spanID"`
}

func traceOf(t replay.Trace) Trace {
	return Trace{TraceID: t.ID, Service: t.Service, Operation: t.Operation, Started: t.Started, DurationNs: int64(t.Duration), Spans: t.Spans, Errors: t.Errors, Status: t.Status,
		Moment: int64(t.Moment), End: int64(t.End)}
}

func tracer(r replay.Recording) (replay.Tracer, error) {
	t, ok := replay.AsTracer(r)
	if !ok {
		return nil, fmt.Errorf("%w: the evidence has none; it is of the kind %s", replay.ErrNoTraces, r.Info().Kind)
	}
	return t, nil
}

// TracesOf gives a page of the traces of evidence.
func TracesOf(ctx context.Context, r replay.Recording, q TracesQuery) (Traces, error) {
	out := Traces{Traces: []Trace{}}
	t, err := tracer(r)
	if err != nil {
		return out, err
	}
	var when replay.Condition
	if q.When != "" {
		if when, err = question.Parse(q.When); err != nil {
			return out, err
		}
	}
	found, err := t.Traces(ctx, when, replay.Page{From: q.From, Count: q.Count})
	if err != nil {
		return out, err
	}
	out.Total, out.Undecided = found.Total, found.Undecided
	if found.Trouble != nil {
		out.Trouble = found.Trouble.Error()
	}
	for _, x := range found.Page {
		out.Traces = append(out.Traces, traceOf(x))
	}
	return out, nil
}

// SpansOf gives the spans of a trace, named by its ID or, where that is empty, by a
// moment and a thread that is in it then.
func SpansOf(ctx context.Context, r replay.Recording, id string, at event.Moment, thread event.ThreadID) (Spans, error) {
	out := Spans{Spans: []Span{}}
	t, err := tracer(r)
	if err != nil {
		return out, err
	}
	trace, err := t.TraceOf(id)
	if id == "" {
		trace, err = t.TraceAt(ctx, at, thread)
	}
	if err != nil {
		return out, err
	}
	out.Trace = traceOf(trace)
	spans, err := t.Spans(ctx, trace.ID)
	for _, s := range spans {
		var links []Link
		for _, l := range s.Links {
			links = append(links, Link(l))
		}
		out.Spans = append(out.Spans, Span{SpanID: s.SpanID, ParentSpanID: s.ParentID, Service: s.Service, Operation: s.Operation, Thread: ThreadID(s.Thread), Moment: int64(s.Moment),
			End: int64(s.End), StartNs: int64(s.Start), DurationNs: int64(s.Duration), SelfNs: int64(s.Self), CriticalNs: int64(s.Critical), Status: s.Status, StatusMessage: s.Message, Depth: s.Depth, Links: links})
	}
	return out, err
}

// PiecesOf finds the traces whose ID is id, or begins so, in a recording; it adds
// them to a list, with the name of their evidence. That there is none is no error.
func PiecesOf(r replay.Recording, evidence, id string, list *Traces) error {
	t, ok := replay.AsTracer(r)
	if !ok {
		return nil
	}
	x, err := t.TraceOf(id)
	if errors.Is(err, replay.ErrNoTraces) && !errors.Is(err, replay.ErrAmbiguous) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("%s: %w", evidence, err)
	}
	found := traceOf(x)
	found.Evidence = evidence
	list.Traces = append(list.Traces, found)
	list.Total++
	return nil
}
