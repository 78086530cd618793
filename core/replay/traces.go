package replay

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"wraithology/core/event"
	"wraithology/core/execlog"
	"wraithology/core/timeline"
)

// ErrNoTraces says that evidence has no traces, or not the one that is asked for.
var ErrNoTraces = errors.New("no such trace")

// ErrAmbiguous says that an ID is the beginning of several; it is an ErrNoTraces too.
var ErrAmbiguous = errors.New("more than one trace begins so; write more of its ID")

// ambiguous is the ID.
type ambiguous string

func (a ambiguous) Error() string        { return fmt.Sprintf("%s: %v", string(a), ErrAmbiguous) }
func (a ambiguous) Is(target error) bool { return target == ErrAmbiguous || target == ErrNoTraces }

// Trace is a trace of the evidence: the calls that belong together across services.
// It is known by its root's service and operation.
type Trace struct {
	ID         string // in hexadecimal digits
	Service    string
	Operation  string
	Started    time.Time
	Duration   time.Duration
	Spans      int
	Errors     int    // spans that ended in an error
	Status     string // "unset", "ok", "error": an error if any of its spans is
	Root       event.CallID
	Moment     event.Moment // its first
	End        event.Moment // its last
	RootMoment event.Moment
}

// Traces is a page of traces, the newest first. Undecided counts those for which
// the condition had no answer, and Trouble says why for the first of them.
type Traces struct {
	Total     int
	Page      []Trace
	Undecided int
	Trouble   error
}

// Span is a call of a trace. Critical is how much of the trace's duration nothing
// but it explains: the path back from the end over whatever ended last.
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

// Link is what a span says that it has to do with: a span of this or another trace.
type Link struct {
	TraceID string
	SpanID  string
}

// Tracer is evidence that has traces.
type Tracer interface {
	// Traces lists the traces for which a condition holds; nil for all.
	Traces(ctx context.Context, when Condition, page Page) (Traces, error)
	// TraceOf finds a trace by its ID or the beginning of it.
	TraceOf(id string) (Trace, error)
	// TraceAt finds the trace of the call that a thread is in at a moment.
	TraceAt(ctx context.Context, at event.Moment, thread event.ThreadID) (Trace, error)
	// Spans lists the spans of a trace, each one's children after it.
	Spans(ctx context.Context, id string) ([]Span, error)
}

// AsTracer returns the traces of evidence, if it has any.
func AsTracer(r Recording) (Tracer, bool) {
	t, ok := r.(*logRecording)
	if !ok || t.t.Traces() == 0 {
		return nil, false
	}
	return t, true
}

var statusNames = [...]string{timeline.StatusUnset: "unset", timeline.StatusOK: "ok", timeline.StatusError: "error"}

func (r *logRecording) trace(i int) Trace {
	x := r.t.TraceAt(i)
	t := Trace{ID: hex.EncodeToString(x.ID[:]), Started: time.Unix(0, x.Started).UTC(), Duration: time.Duration(x.Duration), Spans: int(x.Spans), Errors: int(x.Errors),
		Status: statusNames[min(int(x.Status), len(statusNames)-1)], Root: x.Root, Moment: x.First, End: x.Last}
	if x.Root != event.NoCall {
		f := r.t.FunctionOf(x.Root)
		t.Service, t.Operation = r.outerText(f, "service"), r.outerText(f, "operation")
		t.RootMoment = r.t.Call(x.Root).Enter
	}
	return t
}

// outerText returns a text that holds for all calls of a function.
func (r *logRecording) outerText(f *event.Function, name string) string {
	for _, x := range f.Outer {
		if x.Name == name {
			if v, err := execlog.DecodeValues(x.Data, 1, r.t.Types(0)); err == nil {
				return v[0].Text
			}
		}
	}
	return ""
}

// pieceOfTraces is how many traces a condition is evaluated for in one go.
const pieceOfTraces = 4096

// Traces implements Tracer.
func (r *logRecording) Traces(ctx context.Context, when Condition, page Page) (Traces, error) {
	n := r.t.Traces()
	var out Traces
	if when == nil {
		out.Total = n
		from, to := page.Cut(n)
		for i := from; i < to; i++ {
			out.Page = append(out.Page, r.trace(n-1-i))
		}
		return out, nil
	}
	type piece struct {
		held      []int
		undecided int
		trouble   error
	}
	pieces := make([]piece, (n+pieceOfTraces-1)/pieceOfTraces)
	next := make(chan int)
	var done sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(pieces)) {
		done.Go(func() {
			for p := range next {
				x := &pieces[p]
				s := &traceScope{logRecording: r}
				for i := p * pieceOfTraces; i < min((p+1)*pieceOfTraces, n) && ctx.Err() == nil; i++ {
					holds, err := r.traceHolds(ctx, s, n-1-i, when)
					switch {
					case err != nil:
						x.trouble = cmp.Or(x.trouble, err)
						x.undecided++
					case holds:
						x.held = append(x.held, n-1-i)
					}
				}
			}
		})
	}
	for i := range pieces {
		if ctx.Err() != nil {
			break
		}
		next <- i
		if i == 0 && len(pieces) > 1 && r.noSuchName(ctx, when) != nil {
			break // it will not be found in the others either
		}
	}
	close(next)
	done.Wait()
	if err := ctx.Err(); err != nil {
		return out, fmt.Errorf("list the traces: %w", err)
	}
	var held []int
	for _, x := range pieces {
		held = append(held, x.held...)
		out.Undecided += x.undecided
		out.Trouble = cmp.Or(out.Trouble, x.trouble)
	}
	if len(held) == 0 && out.Trouble != nil {
		return out, out.Trouble
	}
	out.Total = len(held)
	from, to := page.Cut(len(held))
	for _, i := range held[from:to] {
		out.Page = append(out.Page, r.trace(i))
	}
	return out, nil
}

// noSuchName asks a condition once, and returns an error where it names what no
// span has.
func (r *logRecording) noSuchName(ctx context.Context, when Condition) error {
	s := &traceScope{logRecording: r}
	_, _ = r.traceHolds(ctx, s, 0, when) // only what it looked for counts
	if s.missed {
		return ErrNoName
	}
	return nil
}

func (r *logRecording) traceHolds(ctx context.Context, s *traceScope, i int, when Condition) (bool, error) {
	s.i, s.info = i, r.t.TraceAt(i)
	if s.info.Root == event.NoCall {
		return false, nil
	}
	return when.Holds(ctx, s, s.info.First, r.t.Call(s.info.Root).Thread)
}

// traceScope is where the names of a condition over traces are looked up: what is
// said of the trace itself, then the values of its root, then those of its other spans.
type traceScope struct {
	*logRecording
	i      int
	info   timeline.TraceInfo
	missed bool
}

var (
	plainText     = &event.Type{ID: 1, Name: "string", Form: event.Text}
	plainInt      = &event.Type{ID: 2, Name: "int", Form: event.Int, Size: 8}
	plainDuration = &event.Type{ID: 8, Name: event.DurationType, Form: event.Int, Size: 8}
	plainTime     = &event.Type{ID: 9, Name: event.TimestampType, Form: event.Int, Size: 8}
)

// traceNames are the names of what is said of a trace itself.
var traceNames = []string{"traceID", "service", "operation", "status", "duration", "spans", "errors", "started"}

func (s *traceScope) own(name string) (v event.Value, ok bool) {
	v.State, v.Type, ok = event.Known, plainText, true
	switch name {
	case "status":
		v.Text = statusNames[min(int(s.info.Status), len(statusNames)-1)]
	case "duration":
		v.Type, v.Int = plainDuration, s.info.Duration
	case "spans":
		v.Type, v.Int = plainInt, int64(s.info.Spans)
	case "errors":
		v.Type, v.Int = plainInt, int64(s.info.Errors)
	case "started":
		v.Type, v.Int = plainTime, s.info.Started
	case "traceID":
		v.Text = hex.EncodeToString(s.info.ID[:])
	case "service", "operation":
		v.Text = s.outerText(s.t.FunctionOf(s.info.Root), name)
	default:
		ok = false
	}
	return v, ok
}

// Scalar is Variable for what is simple.
func (s *traceScope) Scalar(_ event.Moment, name string) (event.Value, bool) {
	if v, ok := s.own(name); ok {
		return v, true
	}
	v, ok := s.attribute(name)
	return v.Value, ok && !v.Nil
}

// attribute finds the first value of a name among the spans.
func (s *traceScope) attribute(name string) (Value, bool) {
	v, ok, err := s.callVariable(s.info.Root, s.info.Last, name)
	if err == nil && ok && !v.Value.Nil {
		return v.Value, true
	}
	list := s.t.TraceCalls(s.i)
	const most = 1 << 12
	for i := range min(list.Len(), most) {
		c := event.CallID(list.At(i))
		if x, has, err := s.callVariable(c, s.info.Last, name); err == nil && has {
			if !x.Value.Nil {
				return x.Value, true
			}
			ok = true
		}
	}
	return Value{Value: event.Value{Type: plainText, State: event.Known, Nil: true}}, ok
}

// Variable implements Recording.
func (s *traceScope) Variable(_ context.Context, _ event.Moment, _ event.ThreadID, _ int, name string) (Variable, bool, error) {
	if v, ok := s.own(name); ok {
		return Variable{Name: name, Scope: event.Local, Type: v.Type.Name, Value: Value{Value: v}, Written: event.NoMoment}, true, nil
	}
	v, ok := s.attribute(name)
	if !ok && !s.anyFunctionHas(name) {
		s.missed = s.missed || !strings.Contains(name, ".")
		return Variable{}, false, nil
	}
	return Variable{Name: name, Scope: event.Local, Value: v, Written: event.NoMoment}, true, nil
}

// Variables implements Recording.
func (s *traceScope) Variables(ctx context.Context, _ event.Moment, t event.ThreadID, _ int) ([]Variable, error) {
	var out []Variable
	for _, name := range traceNames {
		v, _ := s.own(name)
		out = append(out, Variable{Name: name, Scope: event.Local, Type: v.Type.Name, Value: Value{Value: v}, Written: event.NoMoment})
	}
	list, err := s.logRecording.Variables(ctx, s.t.Call(s.info.Root).Enter, t, 0)
	return append(out, list...), err
}

// anyFunctionHas reports whether any function has a variable of a name.
func (r *logRecording) anyFunctionHas(name string) bool {
	return r.names()[name]
}

// TraceOf implements Tracer.
func (r *logRecording) TraceOf(id string) (Trace, error) {
	i, err := r.findTrace(id)
	if err != nil {
		return Trace{}, err
	}
	return r.trace(i), nil
}

// findTrace finds a trace by its ID or the beginning of it.
func (r *logRecording) findTrace(id string) (int, error) {
	id = strings.ToLower(strings.TrimSpace(id))
	whole, err := hex.DecodeString(id)
	found := -1
	for i := range r.t.Traces() {
		x := r.t.TraceAt(i)
		switch {
		case err == nil && len(whole) == len(x.ID):
			if !bytes.Equal(whole, x.ID[:]) {
				continue
			}
			return i, nil
		case id == "" || !strings.HasPrefix(hex.EncodeToString(x.ID[:]), id):
			continue
		}
		if found >= 0 {
			return 0, ambiguous(id)
		}
		found = i
	}
	if found < 0 {
		return 0, fmt.Errorf("%s: %w in the evidence", id, ErrNoTraces)
	}
	return found, nil
}

// TraceAt implements Tracer.
func (r *logRecording) TraceAt(_ context.Context, at event.Moment, thread event.ThreadID) (Trace, error) {
	if err := r.check(at); err != nil {
		return Trace{}, err
	}
	if err := r.checkThread(thread); err != nil {
		return Trace{}, err
	}
	if c := r.callAt(thread, at); c != event.NoCall {
		if id := r.textOf(c, "traceID"); id != "" {
			return r.TraceOf(id)
		}
	}
	return Trace{}, fmt.Errorf("moment %d: %w: thread %d is in no span there", at, ErrNoTraces, thread)
}

// maxTraceSpans bounds the spans that are listed of one trace.
const maxTraceSpans = 100_000

// Spans implements Tracer.
func (r *logRecording) Spans(ctx context.Context, id string) ([]Span, error) {
	i, err := r.findTrace(id)
	if err != nil {
		return nil, err
	}
	info := r.t.TraceAt(i)
	calls := r.t.TraceCalls(i)
	start := r.t.Time(info.First)
	var list []Span
	index := map[event.CallID]int{}
	for k := range min(calls.Len(), maxTraceSpans) {
		if k%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		c := event.CallID(calls.At(k))
		x := r.t.Call(c)
		f := r.t.FunctionOf(c)
		s := Span{Call: c, SpanID: r.textOf(c, "spanID"), ParentID: r.textOf(c, "parentSpanID"), Service: r.outerText(f, "service"), Operation: r.outerText(f, "operation"), Thread: x.Thread,
			Moment: x.Enter, End: x.Leave, Start: time.Duration(r.t.Time(x.Enter) - start), Status: r.textOf(c, "status"), Message: r.textOf(c, "statusMessage")}
		if x.Leave != event.NoMoment {
			s.Duration = time.Duration(r.t.Time(x.Leave) - r.t.Time(x.Enter))
		}
		if v, ok, err := r.callVariable(c, x.Enter, "selfTime"); ok && err == nil {
			s.Self = time.Duration(v.Value.Int)
		}
		s.Links = r.links(c)
		index[c] = len(list)
		list = append(list, s)
	}
	children := make([][]int, len(list))
	var roots []int
	for k := range list {
		if p, ok := index[r.t.Call(list[k].Call).Parent]; ok {
			children[p] = append(children[p], k)
		} else {
			roots = append(roots, k)
		}
	}
	if len(roots) > 0 {
		critical(list, children, roots)
	}
	out := make([]Span, 0, len(list))
	var walk func(k, depth int)
	walk = func(k, depth int) {
		list[k].Depth = depth
		out = append(out, list[k])
		for _, c := range children[k] {
			walk(c, depth+1)
		}
	}
	for _, k := range roots {
		walk(k, 0)
	}
	return out, nil
}

// links returns the links of a span.
func (r *logRecording) links(c event.CallID) (out []Link) {
	v, ok, err := r.callVariable(c, r.t.Call(c).Enter, "links")
	if err != nil || !ok {
		return nil
	}
	for _, x := range v.Value.Items {
		if x.Form() == event.Interface && len(x.Items) == 1 {
			x = x.Items[0]
		}
		if trace, span, ok := strings.Cut(x.Text, "/"); ok {
			out = append(out, Link{trace, span})
		}
	}
	return out
}

// critical finds the critical path of a trace: from the end of the root back, the
// time until the child that ended last is the parent's own, then it is that child's.
func critical(list []Span, children [][]int, roots []int) {
	end := func(k int) time.Duration { return list[k].Start + list[k].Duration }
	root := roots[0]
	var walk func(k int, from, to time.Duration)
	walk = func(k int, from, to time.Duration) {
		byEnd := slices.Clone(children[k])
		slices.SortFunc(byEnd, func(a, b int) int { return cmp.Compare(end(b), end(a)) })
		at := to
		for _, c := range byEnd {
			if list[c].Start >= at || end(c) <= from {
				continue
			}
			ended := min(end(c), at)
			list[k].Critical += at - ended
			begun := max(list[c].Start, from)
			walk(c, begun, ended)
			at = begun
		}
		list[k].Critical += at - from
	}
	walk(root, list[root].Start, end(root))
}
