package ask

import (
	"context"
	"errors"
	"fmt"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
)

var _ = declare[TracesRequest, Traces]("traces", "The traces of the evidence, newest first")

// TracesRequest asks for the traces for which When holds. When can use service, operation, status,
// duration, spans, errors, started, traceID and attributes.
type TracesRequest struct {
	When  string `json:"when" maxLength:"2000" doc:"condition on the trace"`
	From  int    `json:"from" minimum:"0" doc:"number of traces to skip"`
	Count int    `json:"count" minimum:"0" maximum:"100000" default:"20" flag:"first" doc:"number of traces"`
}

// Traces are traces, newest first. Undecided counts the traces for which the condition could not be
// evaluated.
type Traces struct {
	Total     int     `json:"total"`
	Traces    []Trace `json:"traces"`
	Undecided int     `json:"undecided,omitempty"`
	Trouble   string  `json:"trouble,omitempty"`
}

// Trace is one trace. Moment is its first and End its last moment. Evidence is set if traces of
// several pieces of evidence are listed together.
type Trace struct {
	TraceID    string       `json:"traceID"`
	Service    string       `json:"service"`
	Operation  string       `json:"operation"`
	Started    time.Time    `json:"started"`
	DurationNs int64        `json:"durationNs"`
	Spans      int          `json:"spans"`
	Errors     int          `json:"errors"`
	Status     string       `json:"status"`
	Moment     event.Moment `json:"moment"`
	End        event.Moment `json:"end"`
	Evidence   string       `json:"evidence,omitempty"`
}

// Negative implements Negative: there is no such trace.
func (t Traces) Negative() bool { return t.Total == 0 }

func traceOf(t replay.Trace) Trace {
	return Trace{TraceID: t.ID, Service: t.Service, Operation: t.Operation, Started: t.Started, DurationNs: int64(t.Duration), Spans: t.Spans, Errors: t.Errors, Status: t.Status,
		Moment: t.Moment, End: t.End}
}

func tracer(s *Subject) (replay.Tracer, error) {
	return capability[replay.Tracer](s, fmt.Errorf("%w: its kind is %s", fault.NoTraces, s.Recording.Info().Kind))
}

func (q TracesRequest) answer(ctx context.Context, s *Subject) (Traces, error) {
	out := Traces{Traces: []Trace{}}
	t, err := tracer(s)
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

// PartsOf finds the trace with an ID or a prefix of it in a recording, and adds it to a list with
// the name of its evidence. If there is none, the list stays as it is.
func PartsOf(r replay.Recording, evidence, id string, list *Traces) error {
	t, ok := r.(replay.Tracer)
	if !ok {
		return nil
	}
	x, err := t.TraceOf(id)
	if errors.Is(err, fault.NoTrace) {
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
