package ask

import (
	"context"

	"wraithology/core/event"
)

var _ = declare[TraceRequest, Spans]("trace", "The spans of a trace, by its ID or by a moment in it")

// TraceRequest asks for the spans of a trace. ID names the trace; if it is empty, the trace is that
// of the thread at the moment.
type TraceRequest struct {
	Place
	ID string `json:"id" maxLength:"32" doc:"ID of the trace, or its beginning"`
}

// Spans are the spans of a trace. The children of a span follow it.
type Spans struct {
	Trace Trace  `json:"trace"`
	Spans []Span `json:"spans"`
}

// Span is one span. StartNs counts from the start of the trace. CriticalNs is its share of the
// trace's critical path.
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

// Link is a link from a span to a span of this or another trace.
type Link struct {
	TraceID string `json:"traceID"`
	SpanID  string `json:"spanID"`
	// Attributes are those of the link, with its trace state as traceState.
	Attributes map[string]string `json:"attributes,omitempty"`
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
			link := Link{TraceID: l.TraceID, SpanID: l.SpanID}
			for _, a := range l.Attributes {
				if link.Attributes == nil {
					link.Attributes = map[string]string{}
				}
				link.Attributes[a.Name] = valueText(a.Value)
			}
			links = append(links, link)
		}
		out.Spans = append(out.Spans, Span{SpanID: x.SpanID, ParentSpanID: x.ParentID, Service: x.Service, Operation: x.Operation, Thread: x.Thread, Moment: x.Moment,
			End: x.End, StartNs: int64(x.Start), DurationNs: int64(x.Duration), SelfNs: int64(x.Self), CriticalNs: int64(x.Critical), Status: x.Status, StatusMessage: x.Message, Depth: x.Depth, Links: links})
	}
	return out, err
}
