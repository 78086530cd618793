// Package runtimetrace imports execution traces of the Go runtime, including those of the flight
// recorder. Goroutines are threads. The runtime records stacks only at some events: between two
// stacks, the calls that differ count as left and entered. Regions and tasks are calls too.
package runtimetrace

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"golang.org/x/exp/trace"

	"wraithology/core/event"
	"wraithology/core/intake"
	"wraithology/core/traceback"
)

// kindName is the name of the kind.
const kindName = "runtime-trace"

// ErrNoTrace means that a file is not a readable execution trace.
var ErrNoTrace = errors.New("not a readable execution trace of the Go runtime")

// Is reports whether a file begins like an execution trace.
func Is(sample []byte) bool {
	return bytes.HasPrefix(sample, []byte("go 1.")) && bytes.Contains(sample[:min(len(sample), 16)], []byte(" trace\x00"))
}

// importer carries out one import.
type importer struct {
	tables     *intake.Tables
	events     *intake.Events
	goroutines map[trace.GoID]*goroutine
	tasks      map[trace.TaskID]*call
	ranges     map[string]*call
	metrics    *call
	order      uint64
	strand     uint32
	offset     int64 // of the wall clock from the trace's
	clock      bool
	now        int64
	raw        []byte
	ev         intake.Event
}

// goroutine is a goroutine with its last known stack, outermost frame first.
type goroutine struct {
	strand  uint32
	thread  event.Thread
	stack   []frame
	waiting bool
	last    int64
	begun   bool
}

// frame is an open call. Regions are frames that are on no stack of the runtime.
type frame struct {
	function *intake.Function
	line     int
	region   string
}

// call is a call on a thread of its own.
type call struct {
	strand   uint32
	function *intake.Function
}

// Build makes the timeline of an execution trace.
func Build(ctx context.Context, in intake.Input) error {
	i := &importer{tables: intake.NewTables(kindName, "goroutine", in), events: intake.NewEvents(in.Temporary), goroutines: map[trace.GoID]*goroutine{},
		tasks: map[trace.TaskID]*call{}, ranges: map[string]*call{}}
	defer i.events.Close()
	h := &i.tables.Header
	h.Language, h.Program = "go", "a Go program"
	i.tables.Process("", func() event.Process { return event.Process{Program: "goroutine"} })
	if err := i.read(ctx, in); err != nil {
		return err
	}
	if len(i.goroutines) == 0 {
		i.tables.Gap("the trace has no goroutines", "it ended before the program started")
	}
	if !i.clock {
		i.tables.Gap("the trace has no time of day", "it was written by Go before 1.25: set its offset from the case's other evidence by hand")
	}
	return i.events.Build(ctx, i.tables, in)
}

func (i *importer) read(ctx context.Context, in intake.Input) (err error) {
	counter := &counted{r: io.NewSectionReader(in.File, 0, in.Size)}
	defer func() {
		// The reader can panic on damaged bytes.
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v", ErrNoTrace, p)
		}
	}()
	r, err := trace.NewReader(counter)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoTrace, err)
	}
	for n := 0; ; n++ {
		if n%(1<<12) == 0 {
			if err := ctx.Err(); err != nil {
				return err
			}
			in.Report(0.7 * float64(counter.n) / float64(max(in.Size, 1)))
		}
		e, err := r.ReadEvent()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			if len(i.goroutines) == 0 {
				return fmt.Errorf("%w: %w", ErrNoTrace, err)
			}
			i.tables.Gap(fmt.Sprintf("the trace cannot be read beyond byte %d: %s", counter.n, err), "the program ended while it was written, or the copy is damaged; what comes before is here")
			return nil
		}
		if err := i.take(&e); err != nil {
			return err
		}
	}
}

// counted counts what is read.
type counted struct {
	r io.Reader
	n int64
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	return n, err
}

func (i *importer) take(e *trace.Event) error {
	if e.Kind() == trace.EventSync {
		if s := e.Sync().ClockSnapshot; s != nil && !i.clock {
			i.offset, i.clock = s.Wall.UnixNano()-int64(s.Trace), true
		}
		if !i.clock {
			return nil
		}
	}
	i.now = int64(e.Time()) + i.offset
	switch e.Kind() {
	case trace.EventStateTransition:
		return i.transition(e)
	case trace.EventStackSample:
		if g := i.goroutine(e.Goroutine()); g != nil {
			return i.at(g, e.Stack())
		}
	case trace.EventRegionBegin, trace.EventRegionEnd:
		return i.region(e)
	case trace.EventTaskBegin, trace.EventTaskEnd:
		return i.task(e)
	case trace.EventLog:
		return i.log(e)
	case trace.EventRangeBegin, trace.EventRangeActive, trace.EventRangeEnd:
		return i.span(e)
	case trace.EventMetric:
		return i.metric(e.Metric())
	}
	return nil
}

// add adds an event of a strand.
func (i *importer) add(strand uint32, ends bool, raw []byte) error {
	i.order++
	i.ev = intake.Event{Time: i.now, Trace: uint32(i.order >> 32), Order: uint32(i.order), Strand: strand, Ends: ends, Raw: raw}
	return i.events.Add(&i.ev)
}

// goroutine returns a goroutine; nil for none.
func (i *importer) goroutine(id trace.GoID) *goroutine {
	if id == trace.NoGoroutine {
		return nil
	}
	g := i.goroutines[id]
	if g == nil {
		i.strand++
		g = &goroutine{strand: i.strand, thread: event.Thread{Number: uint64(id), Name: "goroutine " + strconv.FormatInt(int64(id), 10)}}
		i.goroutines[id] = g
		i.events.Strand(g.strand, g.thread)
	}
	return g
}

func (i *importer) transition(e *trace.Event) error {
	t := e.StateTransition()
	if t.Resource.Kind != trace.ResourceGoroutine {
		return nil
	}
	g := i.goroutine(t.Resource.Goroutine())
	from, to := t.Goroutine()
	by := i.goroutine(e.Goroutine())
	if from == trace.GoNotExist && by != nil {
		place := ""
		for f := range e.Stack().Frames() {
			place = fmt.Sprintf("%s at %s:%d", f.Func, f.File, f.Line)
			break
		}
		g.thread.Creator = place
		i.events.Strand(g.strand, g.thread)
	}
	if by != nil && by != g && e.Stack() != trace.NoStack {
		if err := i.at(by, e.Stack()); err != nil {
			return err
		}
	}
	if t.Stack != trace.NoStack {
		if err := i.at(g, t.Stack); err != nil {
			return err
		}
	}
	if err := i.begin(g); err != nil {
		return err
	}
	address := g.thread.Number + 1
	switch to {
	case trace.GoWaiting, trace.GoSyscall, trace.GoRunnable:
		op := opOf(to, t.Reason)
		if from == trace.GoWaiting && to == trace.GoRunnable && by != nil && by != g {
			if err := i.begin(by); err != nil {
				return err
			}
			if err := i.add(by.strand, false, event.AppendWaiting(i.raw[:0], event.Release, event.OpWake, address)); err != nil {
				return err
			}
		}
		g.waiting = true
		return i.add(g.strand, false, event.AppendWaiting(i.raw[:0], event.Wait, op, address))
	case trace.GoRunning:
		if g.waiting {
			g.waiting = false
			return i.add(g.strand, false, event.AppendWaiting(i.raw[:0], event.Pass, event.OpTurn, address))
		}
	case trace.GoNotExist:
		return i.leaveAll(g, true)
	}
	return nil
}

// opOf returns the operation of a wait reason of the runtime.
func opOf(to trace.GoState, reason string) event.Op {
	switch {
	case to == trace.GoRunnable:
		return event.OpTurn
	case to == trace.GoSyscall:
		return event.OpSystemCall
	}
	for _, x := range []struct {
		word string
		op   event.Op
	}{{"chan receive", event.OpReceive}, {"chan send", event.OpSend}, {"select", event.OpSelect}, {"sync.(*Cond)", event.OpCondition}, {"sync", event.OpLock},
		{"sleep", event.OpSleep}, {"network", event.OpNetwork}} {
		if strings.Contains(reason, x.word) {
			return x.op
		}
	}
	return event.OpRuntime
}

// function returns the function of a frame.
func (i *importer) function(name, file string) *intake.Function {
	return i.tables.Function([]byte(name+"\x00"+file), func() event.Function {
		return event.Function{Name: intake.Clean(name), File: i.tables.File(intake.Clean(file)), Own: !traceback.Foreign("Go", name, file)}
	})
}

// begin makes sure that a goroutine has a call.
func (i *importer) begin(g *goroutine) error {
	g.last = i.now
	if len(g.stack) > 0 || g.begun {
		return nil
	}
	g.begun = true
	f := i.tables.Function([]byte("\x00unknown"), func() event.Function {
		return event.Function{Name: "(the trace does not say where)"}
	})
	return i.push(g, frame{function: f})
}

func (i *importer) push(g *goroutine, f frame) error {
	g.stack = append(g.stack, f)
	if err := i.add(g.strand, false, event.AppendEvent(i.raw[:0], event.Enter, uint32(f.function.ID), 0)); err != nil || f.line == 0 {
		return err
	}
	return i.line(g, f)
}

func (i *importer) line(g *goroutine, f frame) error {
	site := i.tables.Site(f.function, 0, f.line, nil)
	return i.add(g.strand, false, event.AppendPlain(i.raw[:0], event.Line, uint32(site)))
}

func (i *importer) pop(g *goroutine, ends bool) error {
	g.stack = g.stack[:len(g.stack)-1]
	return i.add(g.strand, ends, event.AppendEvent(i.raw[:0], event.Leave, 0, 0))
}

// at changes a goroutine's stack: the frames in common with the one before stay.
func (i *importer) at(g *goroutine, s trace.Stack) error {
	if s == trace.NoStack {
		return nil
	}
	g.begun, g.last = true, i.now
	var want []frame
	for f := range s.Frames() {
		want = append(want, frame{function: i.function(f.Func, f.File), line: int(min(f.Line, math.MaxInt32))})
	}
	common, depth, moved := 0, 0, -1 // of the runtime's frames, and of all
	for depth < len(g.stack) && (g.stack[depth].region != "" || common < len(want)) {
		have := &g.stack[depth]
		if have.region == "" {
			w := want[len(want)-1-common]
			if have.function != w.function {
				break
			}
			common++
			if have.line != w.line {
				have.line, moved = w.line, depth
				depth++
				for depth < len(g.stack) && g.stack[depth].region != "" { // a region that began in it is still open
					depth++
				}
				break
			}
		}
		depth++
	}
	var regions []frame
	for len(g.stack) > depth {
		if last := g.stack[len(g.stack)-1]; last.region != "" {
			regions = append(regions, last)
		}
		if err := i.pop(g, false); err != nil {
			return err
		}
	}
	if moved >= 0 {
		if err := i.lineAt(g, moved); err != nil {
			return err
		}
	}
	for k := len(regions) - 1; k >= 0; k-- {
		if err := i.push(g, regions[k]); err != nil {
			return err
		}
	}
	for ; common < len(want); common++ {
		if err := i.push(g, want[len(want)-1-common]); err != nil {
			return err
		}
	}
	return nil
}

// lineAt records that a frame has reached another line, also the frame around a region.
func (i *importer) lineAt(g *goroutine, depth int) error {
	around := depth+1 < len(g.stack)
	if around {
		if err := i.add(g.strand, false, event.AppendPlain(i.raw[:0], event.Resume, uint32(depth+1))); err != nil {
			return err
		}
	}
	if err := i.line(g, g.stack[depth]); err != nil || !around {
		return err
	}
	return i.add(g.strand, false, event.AppendPlain(i.raw[:0], event.Resume, uint32(len(g.stack))))
}

func (i *importer) leaveAll(g *goroutine, ends bool) error {
	for len(g.stack) > 0 {
		if err := i.pop(g, ends && len(g.stack) == 1); err != nil {
			return err
		}
	}
	return nil
}

// region opens or ends a call for a region.
func (i *importer) region(e *trace.Event) error {
	g := i.goroutine(e.Goroutine())
	if g == nil {
		return nil
	}
	if err := i.at(g, e.Stack()); err != nil {
		return err
	}
	r := e.Region()
	if e.Kind() == trace.EventRegionBegin {
		f := i.tables.Function([]byte("\x00region\x00"+r.Type), func() event.Function {
			return event.Function{Name: "region " + intake.Clean(r.Type), Own: true}
		})
		g.stack = append(g.stack, frame{function: f, region: r.Type})
		id, position, _ := f.Parameter([]byte("task"))
		if position != 0 || id != 0 || r.Task == trace.NoTask || r.Task == trace.BackgroundTask {
			return i.add(g.strand, false, event.AppendEvent(i.raw[:0], event.Enter, uint32(f.ID), 0))
		}
		return i.add(g.strand, false, event.AppendInt(event.AppendEvent(i.raw[:0], event.Enter, uint32(f.ID), 1), intake.Int, int64(r.Task)))
	}
	for k := len(g.stack) - 1; k >= 0; k-- {
		if g.stack[k].region != r.Type {
			continue
		}
		inner := append([]frame(nil), g.stack[k+1:]...)
		for len(g.stack) > k {
			if err := i.pop(g, false); err != nil {
				return err
			}
		}
		for _, f := range inner {
			if err := i.push(g, f); err != nil {
				return err
			}
		}
		return nil
	}
	return nil // it began before the trace did
}

// task opens or ends a call on a thread of its own.
func (i *importer) task(e *trace.Event) error {
	t := e.Task()
	if e.Kind() == trace.EventTaskEnd {
		c := i.tasks[t.ID]
		if c == nil {
			return nil
		}
		delete(i.tasks, t.ID)
		return i.add(c.strand, true, event.AppendEvent(i.raw[:0], event.Leave, 0, 0))
	}
	c := i.open("task "+intake.Clean(t.Type), fmt.Sprintf("task %d", t.ID))
	i.tasks[t.ID] = c
	raw := event.AppendEvent(i.raw[:0], event.Enter, uint32(c.function.ID), 2)
	for _, name := range []string{"task", "parent"} {
		c.function.Parameter([]byte(name))
	}
	raw = event.AppendInt(raw, intake.Int, int64(t.ID))
	if t.Parent == trace.NoTask || t.Parent == trace.BackgroundTask {
		raw = event.AppendUnknown(raw, intake.Int)
	} else {
		raw = event.AppendInt(raw, intake.Int, int64(t.Parent))
	}
	i.raw = raw
	return i.add(c.strand, false, raw)
}

// open makes a call on a thread of its own. Its Enter follows.
func (i *importer) open(name, thread string) *call {
	i.strand++
	i.events.Strand(i.strand, event.Thread{Name: thread})
	return &call{i.strand, i.tables.Function([]byte("\x00"+name), func() event.Function { return event.Function{Name: name, Own: true} })}
}

// values adds an event with values for variables of a function.
func (i *importer) values(strand uint32, f *intake.Function, k event.Kind, names []string, value func(n int, b []byte) []byte) error {
	var ids []event.VariableID
	var data []byte
	for n, name := range names {
		if id, ok := f.Variable([]byte(name)); ok {
			ids, data = append(ids, id), value(n, data)
		}
	}
	site := i.tables.Site(f, 0, 0, ids)
	i.raw = append(event.AppendEvent(i.raw[:0], k, uint32(site), len(ids)), data...)
	return i.add(strand, false, i.raw)
}

// log adds a message of the program to its goroutine and its task.
func (i *importer) log(e *trace.Event) error {
	g := i.goroutine(e.Goroutine())
	if g == nil {
		return nil
	}
	if err := i.at(g, e.Stack()); err != nil {
		return err
	}
	if err := i.begin(g); err != nil {
		return err
	}
	l := e.Log()
	message := func(n int, b []byte) []byte { return i.tables.AppendString(b, [...]string{l.Message, l.Category}[n]) }
	names := []string{"message", "category"}
	if c := i.tasks[l.Task]; c != nil {
		if err := i.values(c.strand, c.function, event.Fields, names, message); err != nil {
			return err
		}
	}
	return i.values(g.strand, g.stack[len(g.stack)-1].function, event.Message, names, message)
}

// span opens or ends a call for activity of the runtime, such as garbage collection.
func (i *importer) span(e *trace.Event) error {
	r := e.Range()
	if r.Scope.Kind != trace.ResourceNone {
		return nil
	}
	c := i.ranges[r.Name]
	if e.Kind() == trace.EventRangeEnd {
		if c == nil {
			return nil
		}
		delete(i.ranges, r.Name)
		return i.add(c.strand, true, event.AppendEvent(i.raw[:0], event.Leave, 0, 0))
	}
	if c != nil {
		return nil // each part of the trace repeats it
	}
	c = i.open("runtime "+intake.Clean(r.Name), "runtime "+intake.Clean(r.Name))
	i.ranges[r.Name] = c
	return i.add(c.strand, false, event.AppendEvent(i.raw[:0], event.Enter, uint32(c.function.ID), 0))
}

// metric adds a value of the runtime's own measurements.
func (i *importer) metric(m trace.Metric) error {
	if i.metrics == nil {
		i.metrics = i.open("runtime metrics", "runtime metrics")
		if err := i.add(i.metrics.strand, false, event.AppendEvent(i.raw[:0], event.Enter, uint32(i.metrics.function.ID), 0)); err != nil {
			return err
		}
	}
	return i.values(i.metrics.strand, i.metrics.function, event.Fields, []string{m.Name}, func(_ int, b []byte) []byte {
		if m.Value.Kind() == trace.ValueUint64 {
			return event.AppendInt(b, intake.Int, int64(min(m.Value.Uint64(), math.MaxInt64)))
		}
		return i.tables.AppendString(b, m.Value.String())
	})
}
