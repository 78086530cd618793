package timeline

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"wraithology/core/event"
)

// Feed builds a timeline of events that are already in order, for any kind of evidence.
type Feed struct {
	b       *builder
	dir     string
	partial string
	threads []*cursor
	traces  map[uint32]*openTrace
	full    bool
}

type openTrace struct {
	record traceRecord
	index  uint32
	calls  growing
	left   uint32 // spans that have not ended
}

// NewFeed begins a timeline in the folder dir, which must not exist, with complete tables. Finish
// or Abandon ends it.
func NewFeed(source Source, dir string, lasting bool) (*Feed, error) {
	partial, err := os.MkdirTemp(filepath.Dir(dir), "."+filepath.Base(dir)+".partial-*")
	if err != nil {
		return nil, fmt.Errorf("create the timeline's folder: %w", err)
	}
	b, err := newBuilder(source, partial, lasting, nil)
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(partial))
	}
	return &Feed{b: b, dir: dir, partial: partial, traces: map[uint32]*openTrace{}}, nil
}

// Thread adds a thread. It must have an event before the feed ends.
func (f *Feed) Thread(t event.Thread) event.ThreadID {
	c := &cursor{current: -1, caller: event.NoCall, process: t.Process}
	f.b.thread(c, t)
	f.threads = append(f.threads, c)
	return c.thread
}

// Add adds the encoded event raw at a time in nanoseconds since the start, and returns its moment
// and call. caller is the caller of an outermost call on another thread; event.NoCall for none.
// Events beyond the limits of a timeline are dropped, and the loss is recorded.
func (f *Feed) Add(thread event.ThreadID, time int64, raw []byte, caller event.CallID) (event.Moment, event.CallID, error) {
	if f.full {
		return event.NoMoment, event.NoCall, nil
	}
	if f.b.kinds.n >= maxMoments || f.b.words.n >= maxWords {
		f.full = true
		f.b.losses = append(f.b.losses, event.Loss{What: "the evidence has too many moments; later ones are missing"})
		return event.NoMoment, event.NoCall, nil
	}
	e, _, err := event.EventAt(raw)
	if err != nil {
		return event.NoMoment, event.NoCall, fmt.Errorf("take an event: %w", err)
	}
	c := f.threads[thread-1]
	e.Time = time
	c.e, c.raw, c.caller = e, raw, caller
	m := event.Moment(f.b.kinds.n)
	f.b.take(c)
	call := event.NoCall
	if e.Kind == event.Enter {
		call = c.stack[len(c.stack)-1].id
	}
	return m, call, nil
}

// Trace is a trace of the feed: calls that belong together across threads. Started is wall clock,
// in nanoseconds since 1970. Spans is the number of calls.
type Trace struct {
	ID       [16]byte
	Started  int64
	Duration int64
	Spans    uint32
	Errors   uint32
	Status   TraceStatus
}

// TraceStatus is how a trace ended.
type TraceStatus uint32

// The statuses. The numbers are OpenTelemetry's status codes.
const (
	StatusUnset TraceStatus = 0
	StatusOK    TraceStatus = 1
	StatusError TraceStatus = 2
)

// BeginTrace begins a trace. key identifies it until its last span has ended. Traces must begin in
// the order of their first moments.
func (f *Feed) BeginTrace(key uint32, t Trace) {
	o := &openTrace{index: f.b.traces.begin(), left: t.Spans}
	o.record = traceRecord{id: t.ID, started: t.Started, duration: t.Duration, spans: t.Spans, errors: t.Errors, status: uint32(t.Status), moment: uint32(f.b.kinds.n), root: uint32(event.NoCall)}
	f.traces[key] = o
}

// SpanBegins adds a call to a trace. root marks the root of the trace.
func (f *Feed) SpanBegins(key uint32, call event.CallID, root bool) {
	o := f.traces[key]
	if o == nil || call == event.NoCall {
		return
	}
	f.b.words.add(&o.calls, uint32(call))
	if root || o.record.root == uint32(event.NoCall) {
		o.record.root = uint32(call)
	}
}

// SpanEnds ends a call of a trace at a moment.
func (f *Feed) SpanEnds(key uint32, m event.Moment) {
	o := f.traces[key]
	if o == nil {
		return
	}
	if m != event.NoMoment {
		o.record.end = uint32(m)
	}
	if o.left--; o.left == 0 {
		f.endTrace(key, o)
	}
}

func (f *Feed) endTrace(key uint32, o *openTrace) {
	o.record.calls = f.b.words.end(&o.calls)
	f.b.traces.end(o.index, o.record)
	delete(f.traces, key)
}

// Finish ends the timeline and puts it in its place.
func (f *Feed) Finish(ctx context.Context) error {
	defer os.RemoveAll(f.partial)
	if err := ctx.Err(); err != nil {
		f.b.abandon()
		return err
	}
	for _, c := range f.threads {
		f.b.endThread(c)
	}
	for key, o := range f.traces {
		f.endTrace(key, o)
	}
	if err := f.b.finish(); err != nil {
		return err
	}
	return f.b.place(f.partial, f.dir)
}

// Abandon leaves nothing behind.
func (f *Feed) Abandon() {
	f.b.abandon()
	_ = os.RemoveAll(f.partial) // the rest is removed with the folder of timelines
}
