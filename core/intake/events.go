package intake

import (
	"container/heap"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/mask"
	"wraithology/core/ordered"
	"wraithology/core/timeline"
)

// Input is evidence whose timeline is built in a folder. Data that does not fit in memory is stored
// in the folder Temporary.
type Input struct {
	File    *os.File
	Size    int64
	Written time.Time // when the evidence was last written
	Damage  string    // what is wrong with the file itself, or nothing
	// LongestText is how many bytes of a text are kept; 0 for DefaultLongest.
	LongestText int
	Folder      string
	Lasting     bool
	Temporary   string
	Mask        *mask.Mask // what is secret; nil for nothing
	Progress    func(done float64)
}

// Report reports which share is done, from 0 to 1.
func (in Input) Report(done float64) {
	if in.Progress != nil {
		in.Progress(done)
	}
}

// Event is an event for a timeline, encoded by the Append functions of event. Events are ordered by
// Time, in nanoseconds since 1970, then by Trace, then by Order.
type Event struct {
	Time  int64
	Trace uint32 // 0 for none
	Order uint32
	// Strand is a sequence of calls on one thread. Pooled strands share threads: when one ends, the
	// next one of its process uses its thread.
	Strand  uint32
	Process uint16
	Pooled  bool
	Ends    bool // the strand is over with this event
	// Undated events have no time of their own: Time is that of the event before, or Unknown.
	Undated bool
	Span    bool // an Enter or Leave that begins or ends a span of the trace
	Root    bool // the trace is known by this call
	Caller  uint32
	Link    uint32 // the key by which calls of other strands name this call as their caller, 0 for none
	Linked  uint32 // how many will
	Begins  *timeline.Trace
	Raw     []byte
}

// Unknown is the time of undated events before the first one with a time. They are shown at the time of
// the first one.
const Unknown = math.MinInt64

// Events collects events and feeds them to a timeline in order.
type Events struct {
	sorter *ordered.Sorter
	buf    []byte
	named  map[uint32]event.Thread
	First  int64 // the earliest time
	Last   int64
}

// NewEvents returns an empty collection. Events that do not fit in memory are stored in a folder.
func NewEvents(dir string) *Events {
	return &Events{sorter: ordered.New(dir, ordered.Piece), named: map[uint32]event.Thread{}, First: math.MaxInt64, Last: math.MinInt64}
}

// Close gives back what is held.
func (e *Events) Close() error { return e.sorter.Close() }

// Strand sets the thread of a strand that is not pooled.
func (e *Events) Strand(strand uint32, t event.Thread) { e.named[strand] = t }

const (
	flagPooled = 1 << iota
	flagEnds
	flagSpan
	flagRoot
	flagCaller
	flagLink
	flagBegins
	flagUndated
)

// Add adds an event.
func (e *Events) Add(x *Event) error {
	if x.Time != Unknown {
		e.First, e.Last = min(e.First, x.Time), max(e.Last, x.Time)
	}
	flags := byte(0)
	for _, f := range [...]struct {
		is   bool
		flag byte
	}{{x.Pooled, flagPooled}, {x.Ends, flagEnds}, {x.Span, flagSpan}, {x.Root, flagRoot}, {x.Caller != 0, flagCaller}, {x.Link != 0, flagLink}, {x.Begins != nil, flagBegins}, {x.Undated, flagUndated}} {
		if f.is {
			flags |= f.flag
		}
	}
	b := append(e.buf[:0], flags)
	b = binary.AppendUvarint(b, uint64(x.Process))
	b = binary.AppendUvarint(b, uint64(x.Strand))
	if x.Caller != 0 {
		b = binary.AppendUvarint(b, uint64(x.Caller))
	}
	if x.Link != 0 {
		b = binary.AppendUvarint(b, uint64(x.Link))
		b = binary.AppendUvarint(b, uint64(x.Linked))
	}
	if t := x.Begins; t != nil {
		b = append(b, t.ID[:]...)
		b = binary.AppendVarint(b, t.Started)
		b = binary.AppendVarint(b, t.Duration)
		b = binary.AppendUvarint(b, uint64(t.Spans))
		b = binary.AppendUvarint(b, uint64(t.Errors))
		b = binary.AppendUvarint(b, uint64(t.Status))
	}
	b = append(b, x.Raw...)
	e.buf = b
	return e.sorter.Add(ordered.Key{High: uint64(x.Time) ^ 1<<63, Low: uint64(x.Trace)<<32 | uint64(x.Order)}, b)
}

// decode reads what Add wrote.
func (x *Event) decode(k ordered.Key, b []byte, trace *timeline.Trace) {
	*x = Event{Time: int64(k.High ^ 1<<63), Trace: uint32(k.Low >> 32), Order: uint32(k.Low)}
	flags := b[0]
	b = b[1:]
	next := func() uint64 {
		n, size := binary.Uvarint(b)
		b = b[size:]
		return n
	}
	signed := func() int64 {
		n, size := binary.Varint(b)
		b = b[size:]
		return n
	}
	x.Pooled, x.Ends, x.Span, x.Root, x.Undated = flags&flagPooled != 0, flags&flagEnds != 0, flags&flagSpan != 0, flags&flagRoot != 0, flags&flagUndated != 0
	x.Process, x.Strand = uint16(next()), uint32(next())
	if flags&flagCaller != 0 {
		x.Caller = uint32(next())
	}
	if flags&flagLink != 0 {
		x.Link, x.Linked = uint32(next()), uint32(next())
	}
	if flags&flagBegins != 0 {
		copy(trace.ID[:], b)
		b = b[len(trace.ID):]
		trace.Started, trace.Duration = signed(), signed()
		trace.Spans, trace.Errors, trace.Status = uint32(next()), uint32(next()), timeline.TraceStatus(next())
		x.Begins = trace
	}
	x.Raw = b
}

// Build completes the tables and feeds all events to a timeline.
func (e *Events) Build(ctx context.Context, t *Tables, in Input) error {
	started := e.First
	if e.First > e.Last {
		e.First, e.Last, started = 0, 0, event.UnknownStart
	}
	if span := uint64(e.Last) - uint64(e.First); span > math.MaxInt64 {
		return fmt.Errorf("the times of the evidence span more than 292 years: %w", fault.OutOfRange)
	}
	for i := range t.Processes {
		t.Processes[i].Started = started
	}
	t.Seal()
	feed, err := timeline.NewFeed(timeline.Source{Tables: t.Tables, File: in.File, Size: in.Size, Mask: in.Mask}, in.Folder, in.Lasting)
	if err != nil {
		return err
	}
	f := feeder{e: e, feed: feed, threads: map[uint32]laneOf{}, idle: map[uint16]*lanes{}, links: map[uint32]link{}}
	if err := e.sorter.Each(ctx, f.take); err != nil {
		feed.Abandon()
		return fmt.Errorf("sort the events: %w", err)
	}
	return feed.Finish(ctx)
}

// feeder feeds sorted events and assigns threads to strands.
type feeder struct {
	e       *Events
	feed    *timeline.Feed
	threads map[uint32]laneOf // by strand
	idle    map[uint16]*lanes // by process
	links   map[uint32]link
	trace   timeline.Trace
}

type laneOf struct {
	thread event.ThreadID
	number int
}

// lanes are the threads of a process.
type lanes struct {
	free []laneOf
	n    int
}

func (l *lanes) Len() int           { return len(l.free) }
func (l *lanes) Less(i, j int) bool { return l.free[i].number < l.free[j].number }
func (l *lanes) Swap(i, j int)      { l.free[i], l.free[j] = l.free[j], l.free[i] }
func (l *lanes) Push(x any)         { l.free = append(l.free, x.(laneOf)) }
func (l *lanes) Pop() any {
	x := l.free[len(l.free)-1]
	l.free = l.free[:len(l.free)-1]
	return x
}

type link struct {
	call event.CallID
	left uint32
}

func (f *feeder) take(k ordered.Key, record []byte) error {
	var x Event
	x.decode(k, record, &f.trace)
	if x.Time == Unknown {
		x.Time = f.e.First
	}
	if x.Undated {
		x.Raw[0] |= event.Estimated
	}
	if x.Begins != nil {
		f.feed.BeginTrace(x.Trace, *x.Begins)
	}
	lane, ok := f.threads[x.Strand]
	if !ok {
		lane = f.begin(&x)
		f.threads[x.Strand] = lane
	}
	caller := event.NoCall
	if x.Caller != 0 {
		if l, ok := f.links[x.Caller]; ok {
			caller = l.call
			if l.left--; l.left == 0 {
				delete(f.links, x.Caller)
			} else {
				f.links[x.Caller] = l
			}
		}
	}
	m, call, err := f.feed.Add(lane.thread, x.Time-f.e.First, x.Raw, caller)
	if err != nil {
		return err
	}
	if x.Link != 0 {
		f.links[x.Link] = link{call, x.Linked}
	}
	if x.Span {
		if event.Kind(x.Raw[0]) == event.Enter {
			f.feed.SpanBegins(x.Trace, call, x.Root)
		} else {
			f.feed.SpanEnds(x.Trace, m)
		}
	}
	if x.Ends {
		delete(f.threads, x.Strand)
		if x.Pooled {
			heap.Push(f.idle[x.Process], lane)
		}
	}
	return nil
}

// begin gives a strand its thread.
func (f *feeder) begin(x *Event) laneOf {
	if !x.Pooled {
		t := f.e.named[x.Strand]
		t.Process, t.Started = x.Process, x.Time-f.e.First
		return laneOf{thread: f.feed.Thread(t)}
	}
	l := f.idle[x.Process]
	if l == nil {
		l = &lanes{}
		f.idle[x.Process] = l
	}
	if len(l.free) > 0 {
		return heap.Pop(l).(laneOf)
	}
	l.n++
	return laneOf{f.feed.Thread(event.Thread{Process: x.Process, Number: uint64(l.n), Started: x.Time - f.e.First}), l.n}
}
