package replay

import (
	"context"
	"time"

	"wraithology/core/event"
)

// Trace is a trace of the evidence: calls that belong together across services. It has the service
// and operation of its root.
type Trace struct {
	ID         string // in hexadecimal digits
	Service    string
	Operation  string
	Started    time.Time
	Duration   time.Duration
	Spans      int
	Errors     int    // spans that ended in an error
	Status     string // "unset", "ok", "error": an error if any span has one
	Root       event.CallID
	Moment     event.Moment // its first
	End        event.Moment // its last
	RootMoment event.Moment
}

// Traces is a page of traces, newest first. Undecided counts the traces for which the condition
// could not be evaluated; Trouble is the reason for the first of them.
type Traces struct {
	Total     int
	Page      []Trace
	Undecided int
	Trouble   error
}

// Span is a call of a trace. Critical is its share of the trace's critical path.
type Span struct {
	Call      event.CallID
	SpanID    string
	ParentID  string
	Service   string
	Operation string
	Thread    event.ThreadID
	Moment    event.Moment
	End       event.Moment
	Start     time.Duration // since the trace's start
	Duration  time.Duration
	Self      time.Duration
	Critical  time.Duration
	Status    string
	Message   string
	Depth     int
	Links     []Link
}

// Link is a link of a span to a span of this or another trace.
type Link struct {
	TraceID    string
	SpanID     string
	Attributes []LinkAttribute
}

// LinkAttribute is an attribute of a link.
type LinkAttribute struct {
	Name  string
	Value Value
}

// Tracer is evidence that has traces.
type Tracer interface {
	// Traces lists the traces for which a condition holds; nil for all.
	Traces(ctx context.Context, when Condition, page Page) (Traces, error)
	// TraceOf finds a trace by its ID or a prefix of it.
	TraceOf(id string) (Trace, error)
	// TraceAt returns the trace of a thread's call at a moment.
	TraceAt(ctx context.Context, at event.Moment, thread event.ThreadID) (Trace, error)
	// Spans lists the spans of a trace. The children of a span follow it.
	Spans(ctx context.Context, id string) ([]Span, error)
}
