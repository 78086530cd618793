package ask

import (
	"context"

	"wraithology/core/event"
)

var _ = declare[TraceRequest, Spans]("trace", "The spans of a trace, by its ID or by a moment in it")

// TraceRequest asks for the spans of a trace, named by its ID or, where that is empty, by
// a moment and a thread that is in it then.
type TraceRequest struct {
	Place
	ID string `json:"id" maxLength:"32" doc:"ID of the trace, or its beginning"`
}

// Spans are the spans of a trace, each one's children after it.
type Spans struct {
	Trace Trace  `json:"trace"`
	Spans []Span `json:"spans"`
}

// Span is one of them. StartNs counts from the trace's start; CriticalNs is its share in
// the trace's critical path.
type Span struct {
	SpanID        string         `json:"spanID"`
	ParentSpanID  string         `json:"parentSpanID"`
	Service       string         `json:"service"`
	Operation     string         `json:"operation"`
	Thread        event.ThreadID `json:"thread"`
	Moment        event.Moment   `json:"moment"`
	End           event.Moment   `json:"end"`
	StartNs       int64          `json:"startNs"`
	DurationNs    int64          `json:"durationNs"`
	SelfNs        int64          `json:"selfNs"`
	CriticalNs    int64          `json:"criticalNs"`
	Status        string         `json:"status"`
	StatusMessage string         `json:"statusMessage"`
	Depth         int            `json:"depth"`
	Links         []Link         `json:"links,omitempty"`
}

// Link is a span of this or another trace that a span is linked to.
type Link struct {
	TraceID string `json:"traceID"`
	SpanID  string `json:"spanID"`
}

func (q TraceRequest) answer(ctx context.Context, s *Subject) (Spans, error) {
	out := Spans{Spans: []Span{}}
	t, err := tracer(s)
	if err != nil {
		return out, err
	}
	trace, err := t.TraceOf(q.ID)
	if q.ID == "" {
		p, placeErr := q.resolve(s)
		if placeErr != nil {
			return out, placeErr
		}
		trace, err = t.TraceAt(ctx, p.Moment, p.Thread)
	}
	if err != nil {
		return out, err
	}
	out.Trace = traceOf(trace)
	spans, err := t.Spans(ctx, trace.ID)
	for _, x := range spans {
		var links []Link
		for _, l := range x.Links {
			links = append(links, Link(l))
		}
		out.Spans = append(out.Spans, Span{SpanID: x.SpanID, ParentSpanID: x.ParentID, Service: x.Service, Operation: x.Operation, Thread: x.Thread, Moment: x.Moment,
			End: x.End, StartNs: int64(x.Start), DurationNs: int64(x.Duration), SelfNs: int64(x.Self), CriticalNs: int64(x.Critical), Status: x.Status, StatusMessage: x.Message, Depth: x.Depth, Links: links})
	}
	return out, err
}
