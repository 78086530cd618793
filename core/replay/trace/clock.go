package trace

import (
	"context"
	"sort"
	"strings"
	"time"

	"wraithology/core/event"
)

// InstantOf implements replay.Clock.
func (r Reader) InstantOf(at event.Moment) (time.Time, error) {
	if err := r.Check(at); err != nil {
		return time.Time{}, err
	}
	started := r.Info().Started
	if started.IsZero() {
		return started, nil // the evidence has no times
	}
	return started.Add(time.Duration(r.T.Time(at))), nil
}

// MomentAt implements replay.Clock.
func (r Reader) MomentAt(t time.Time) event.Moment {
	started := r.Info().Started
	if started.IsZero() {
		return 0
	}
	since := t.Sub(started)
	i := sort.Search(int(r.T.Len()), func(i int) bool { return time.Duration(r.T.Time(event.Moment(i))) > since })
	return max(event.Moment(i)-1, 0)
}

// TraceOn implements replay.Clock.
func (r Reader) TraceOn(_ context.Context, at event.Moment) string {
	if r.Check(at) != nil {
		return ""
	}
	if r.Recorded() {
		return r.T.Header.TraceID
	}
	c := r.T.CallOf(at)
	if c == event.NoCall {
		return ""
	}
	if id := r.TextOf(c, "traceID"); id != "" {
		return id
	}
	if v, ok, err := r.CallVariable(c, at, "traceparent"); ok && err == nil && v.Value.Form() == event.Text && !v.Value.Nil {
		if parts := strings.Split(v.Value.Value.Text, "-"); len(parts) >= 3 && len(parts[1]) == traceDigits { // W3C Trace Context, section 3.2
			return parts[1]
		}
	}
	for _, name := range []string{"traceID", "trace_id", "traceId", "trace.id", "otelTraceID"} {
		if v, ok, err := r.CallVariable(c, at, name); ok && err == nil && v.Value.Form() == event.Text && !v.Value.Nil {
			return v.Value.Value.Text
		}
	}
	return ""
}

// MomentOfTrace implements replay.Clock.
func (r Reader) MomentOfTrace(_ context.Context, trace string, t time.Time) (event.Moment, bool) {
	if trace == "" {
		return 0, false
	}
	at := r.MomentAt(t)
	if r.Recorded() {
		return at, strings.EqualFold(r.T.Header.TraceID, trace)
	}
	if x, err := r.TraceOf(trace); err == nil {
		return min(max(at, x.Moment), x.End), true
	}
	id, ok := r.threadOfTrace(trace)
	if !ok && len(trace) == traceDigits {
		return r.naming(trace, at)
	}
	if !ok {
		return 0, false
	}
	first, last := r.T.Span(id)
	if m := r.T.OnThread(id, at); m != event.NoMoment {
		return min(max(m, first), last), true
	}
	return first, true
}

// naming returns the record that contains the ID of a trace and is nearest to a moment.
func (r Reader) naming(trace string, at event.Moment) (nearest event.Moment, ok bool) {
	for _, m := range r.T.Containing(0, r.T.Len(), [][]byte{[]byte(strings.ToLower(trace))}) {
		if !ok || max(m-at, at-m) < max(nearest-at, at-nearest) {
			nearest, ok = m, true
		}
	}
	return nearest, ok
}

// threadOfTrace finds the thread with the lines of a trace in a log.
func (r Reader) threadOfTrace(trace string) (event.ThreadID, bool) {
	for id := event.ThreadID(1); int(id) <= r.T.Threads(); id++ {
		if _, name, ok := strings.Cut(r.T.ThreadInfo(id).Name, " "); ok && strings.EqualFold(name, trace) {
			return id, true
		}
	}
	return 0, false
}
