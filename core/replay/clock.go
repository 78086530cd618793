package replay

import (
	"context"
	"sort"
	"strings"
	"time"

	"wraithology/core/event"
)

// Clocked is evidence that says what time of day it was at its moments.
type Clocked interface {
	// InstantOf returns the time of day of a moment.
	InstantOf(at event.Moment) (time.Time, error)
	// MomentAt returns the last moment that is not after a time of day; the first one
	// where all are.
	MomentAt(t time.Time) event.Moment
	// MomentOfTrace returns the moment nearest to a time of day among those that
	// belong to a trace, and whether there is one.
	MomentOfTrace(ctx context.Context, trace string, t time.Time) (event.Moment, bool)
	// TraceOn returns the ID of the trace that a moment belongs to, or nothing.
	TraceOn(ctx context.Context, at event.Moment) string
}

// AsClocked returns the clock of evidence, if it has one.
func AsClocked(r Recording) (Clocked, bool) {
	c, ok := r.(*logRecording)
	if !ok || c.t.Len() == 0 || c.Info().Started.IsZero() {
		return nil, false
	}
	return c, true
}

// InstantOf implements Clocked.
func (r *logRecording) InstantOf(at event.Moment) (time.Time, error) {
	if err := r.check(at); err != nil {
		return time.Time{}, err
	}
	return r.Info().Started.Add(time.Duration(r.t.Time(at))), nil
}

// MomentAt implements Clocked.
func (r *logRecording) MomentAt(t time.Time) event.Moment {
	since := t.Sub(r.Info().Started)
	i := sort.Search(int(r.t.Len()), func(i int) bool { return time.Duration(r.t.Time(event.Moment(i))) > since })
	return max(event.Moment(i)-1, 0)
}

// TraceOn implements Clocked.
func (r *logRecording) TraceOn(_ context.Context, at event.Moment) string {
	if r.check(at) != nil {
		return ""
	}
	if r.recorded() {
		return r.t.Header.TraceID
	}
	c := r.t.CallOf(at)
	if c == event.NoCall {
		return ""
	}
	if id := r.textOf(c, "traceID"); id != "" {
		return id
	}
	for _, name := range []string{"traceID", "trace_id", "traceId", "trace.id", "otelTraceID"} {
		if v, ok, err := r.callVariable(c, at, name); ok && err == nil && v.Value.Form() == event.Text && !v.Value.Nil {
			return v.Value.Value.Text
		}
	}
	return ""
}

// MomentOfTrace implements Clocked.
func (r *logRecording) MomentOfTrace(_ context.Context, trace string, t time.Time) (event.Moment, bool) {
	if trace == "" {
		return 0, false
	}
	at := r.MomentAt(t)
	if r.recorded() {
		return at, strings.EqualFold(r.t.Header.TraceID, trace)
	}
	if x, err := r.TraceOf(trace); err == nil {
		return min(max(at, x.Moment), x.End), true
	}
	id, ok := r.threadOfTrace(trace)
	if !ok {
		return 0, false
	}
	first, last := r.t.Span(id)
	if m := r.t.OnThread(id, at); m != event.NoMoment {
		return min(max(m, first), last), true
	}
	return first, true
}

// threadOfTrace finds the thread that the lines of a trace are in a log.
func (r *logRecording) threadOfTrace(trace string) (event.ThreadID, bool) {
	for id := event.ThreadID(1); int(id) <= r.t.Threads(); id++ {
		if _, name, ok := strings.Cut(r.t.ThreadInfo(id).Name, " "); ok && strings.EqualFold(name, trace) {
			return id, true
		}
	}
	return 0, false
}
