package timeline

import "wraithology/core/event"

// TraceInfo is a trace of the timeline. Root is its root call, First and Last are its first and
// last moment.
type TraceInfo struct {
	Trace
	Root  event.CallID
	First event.Moment
	Last  event.Moment
}

// Traces returns the number of traces. They are numbered from 0 in order of their first moments.
func (t *Timeline) Traces() int { return t.traces.len() }

// TraceAt returns a trace.
func (t *Timeline) TraceAt(i int) TraceInfo {
	r := t.traces.ref(i)
	return TraceInfo{Trace: Trace{ID: r.id, Started: r.started, Duration: r.duration, Spans: r.spans, Errors: r.errors, Status: TraceStatus(r.status)},
		Root: event.CallID(r.root), First: event.Moment(r.moment), Last: event.Moment(r.end)}
}

// TraceCalls lists the numbers of a trace's calls in order of their beginnings.
func (t *Timeline) TraceCalls(i int) List { return t.list(t.traces.ref(i).calls) }
