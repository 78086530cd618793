// Package trace finds traces with their spans, messages, and times of day in a timeline.
package trace

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
	"wraithology/core/timeline"
)

// Reader reads the traces, messages and the time of day of a timeline.
type Reader struct{ *state.Log }

// Messages reads messages alone, of a timeline without traces or a time of day.
type Messages struct{ reader Reader }

// MessagesOf returns the messages of a timeline.
func MessagesOf(log *state.Log) Messages { return Messages{Reader{log}} }

// MessagesAround implements replay.Messages.
func (m Messages) MessagesAround(at event.Moment, of replay.MessageFilter, before, after int) ([]event.Moment, error) {
	return m.reader.MessagesAround(at, of, before, after)
}

// Clock reads the time of day alone, of a timeline without traces.
type Clock struct{ reader Reader }

// ClockOf returns the clock of a timeline.
func ClockOf(log *state.Log) Clock { return Clock{Reader{log}} }

// InstantOf implements replay.Clock.
func (c Clock) InstantOf(at event.Moment) (time.Time, error) { return c.reader.InstantOf(at) }

// MomentAt implements replay.Clock.
func (c Clock) MomentAt(t time.Time) event.Moment { return c.reader.MomentAt(t) }

// MomentOfTrace implements replay.Clock.
func (c Clock) MomentOfTrace(ctx context.Context, trace string, t time.Time) (event.Moment, bool) {
	return c.reader.MomentOfTrace(ctx, trace, t)
}

// TraceOn implements replay.Clock.
func (c Clock) TraceOn(ctx context.Context, at event.Moment) string { return c.reader.TraceOn(ctx, at) }

var statusNames = [...]string{timeline.StatusUnset: "unset", timeline.StatusOK: "ok", timeline.StatusError: "error"}

func (r Reader) trace(i int) replay.Trace {
	x := r.T.TraceAt(i)
	t := replay.Trace{ID: hex.EncodeToString(x.ID[:]), Started: time.Unix(0, x.Started).UTC(), Duration: time.Duration(x.Duration), Spans: int(x.Spans), Errors: int(x.Errors),
		Status: statusNames[min(int(x.Status), len(statusNames)-1)], Root: x.Root, Moment: x.First, End: x.Last}
	if x.Root != event.NoCall {
		f := r.T.FunctionOf(x.Root)
		t.Service, t.Operation = r.OuterText(f, "service"), r.OuterText(f, "operation")
		t.RootMoment = r.T.Call(x.Root).Enter
	}
	return t
}

// pieceOfTraces is the number of traces of one unit of work.
const pieceOfTraces = 4096

// Traces implements replay.Tracer.
func (r Reader) Traces(ctx context.Context, when replay.Condition, page replay.Page) (replay.Traces, error) {
	n := r.T.Traces()
	var out replay.Traces
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
	hold := func(ctx context.Context, p int) error {
		x := &pieces[p]
		decide := r.Decider(when)
		for i := p * pieceOfTraces; i < min((p+1)*pieceOfTraces, n); i++ {
			holds, err := decide(ctx, n-1-i)
			switch {
			case ctx.Err() != nil:
				return ctx.Err()
			case err != nil:
				x.trouble = cmp.Or(x.trouble, err)
				x.undecided++
			case holds:
				x.held = append(x.held, n-1-i)
			}
		}
		return nil
	}
	many := len(pieces)
	if many > 1 && r.noSuchName(ctx, when) != nil {
		many = 1 // it will not be found in the others either
	}
	if err := guard.Each(ctx, many, hold); err != nil {
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

// noSuchName evaluates a condition once and returns an error if it uses a name that no span has.
func (r Reader) noSuchName(ctx context.Context, when replay.Condition) error {
	s := &traceScope{Reader: r}
	_, _ = r.traceHolds(ctx, s, 0, when) // only what it looked for counts
	if s.missed {
		return fault.NoName
	}
	return nil
}

// Decider returns a function that reports whether a condition holds for a trace: for the trace as a whole, or for any one
// of its spans. The function is not for concurrent use.
func (r Reader) Decider(when replay.Condition) func(ctx context.Context, i int) (bool, error) {
	s := &traceScope{Reader: r}
	return func(ctx context.Context, i int) (bool, error) { return r.traceHolds(ctx, s, i, when) }
}

func (r Reader) traceHolds(ctx context.Context, s *traceScope, i int, when replay.Condition) (bool, error) {
	s.i, s.info, s.span = i, r.T.TraceAt(i), event.NoCall
	if s.info.Root == event.NoCall {
		return false, nil
	}
	holds, trouble := when.Holds(ctx, s, s.info.First, r.T.Call(s.info.Root).Thread)
	list := r.T.TraceCalls(i)
	decided := trouble == nil
	if list.Len() == 1 { // the trace as a whole says the same as its only span
		return holds, trouble
	}
	for k := 0; !holds && k < list.Len() && ctx.Err() == nil; k++ {
		s.span = event.CallID(list.At(k))
		var err error
		if holds, err = when.Holds(ctx, s, s.info.First, r.T.Call(s.span).Thread); err == nil {
			decided = true
		}
	}
	if holds || decided {
		trouble = nil
	}
	return holds, trouble
}

// traceScope resolves the names in a condition on a trace: for the trace as a whole, names of the trace and then values of
// its root; for one of its spans, names of the span, its values, and those of the last of its events that has the name.
type traceScope struct {
	Reader
	i      int
	info   timeline.TraceInfo
	span   event.CallID // NoCall for the trace as a whole
	missed bool
}

var plainInt = &event.Type{ID: 2, Name: "int", Form: event.Int, Size: 8}

var plainDuration = &event.Type{ID: 8, Name: event.DurationType, Form: event.Int, Size: 8}

var plainTime = &event.Type{ID: 9, Name: event.TimestampType, Form: event.Int, Size: 8}

// traceNames are the names of a trace's own values.
var traceNames = []string{"traceID", "service", "operation", "status", "duration", "spans", "errors", "started"}

func (s *traceScope) own(name string) (v event.Value, ok bool) {
	v.State, v.Type, ok = event.Known, state.PlainText, true
	of := s.span
	if of == event.NoCall {
		of = s.info.Root
	}
	switch name {
	case "status":
		if s.span != event.NoCall {
			v.Text = s.TextOf(of, "status")
			break
		}
		v.Text = statusNames[min(int(s.info.Status), len(statusNames)-1)]
	case "duration":
		v.Type, v.Int = plainDuration, s.info.Duration
		if call := s.T.Call(of); s.span != event.NoCall && call.Leave != event.NoMoment {
			v.Int = s.T.Time(call.Leave) - s.T.Time(call.Enter)
		}
	case "spans":
		v.Type, v.Int = plainInt, int64(s.info.Spans)
	case "errors":
		v.Type, v.Int = plainInt, int64(s.info.Errors)
	case "started":
		v.Type, v.Int = plainTime, s.info.Started
	case "traceID":
		v.Text = hex.EncodeToString(s.info.ID[:])
	case "service", "operation":
		v.Text = s.OuterText(s.T.FunctionOf(of), name)
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

// attribute finds a value of the span, or of the last of its events that has the name.
func (s *traceScope) attribute(name string) (replay.Value, bool) {
	of := s.span
	if of == event.NoCall {
		of = s.info.Root
	}
	v, ok, err := s.CallVariable(of, s.info.Last, name)
	if err == nil && ok && !v.Value.Nil {
		return v.Value, true
	}
	if x, err := s.LatestOf(of, s.info.Last, name); err == nil {
		return x.Value, true
	}
	return replay.Value{Value: event.Value{Type: state.PlainText, State: event.Known, Nil: true}}, ok
}

// Variable implements replay.Recording.
func (s *traceScope) Variable(_ context.Context, _ event.Moment, _ event.ThreadID, _ int, name string) (replay.Variable, bool, error) {
	if v, ok := s.own(name); ok {
		return replay.Variable{Name: name, Scope: event.Local, Type: v.Type.Name, Value: replay.Value{Value: v}, Written: event.NoMoment}, true, nil
	}
	v, ok := s.attribute(name)
	if !ok && !s.AnyFunctionHas(name) {
		s.missed = s.missed || !strings.Contains(name, ".")
		return replay.Variable{}, false, nil
	}
	return replay.Variable{Name: name, Scope: event.Local, Value: v, Written: event.NoMoment}, true, nil
}

// Variables implements replay.Recording.
func (s *traceScope) Variables(ctx context.Context, _ event.Moment, t event.ThreadID, _ int) ([]replay.Variable, error) {
	var out []replay.Variable
	for _, name := range traceNames {
		v, _ := s.own(name)
		out = append(out, replay.Variable{Name: name, Scope: event.Local, Type: v.Type.Name, Value: replay.Value{Value: v}, Written: event.NoMoment})
	}
	list, err := s.Reader.Variables(ctx, s.T.Call(s.info.Root).Enter, t, 0)
	return append(out, list...), err
}

// TraceOf implements replay.Tracer.
func (r Reader) TraceOf(id string) (replay.Trace, error) {
	i, err := r.findTrace(id)
	if err != nil {
		return replay.Trace{}, err
	}
	return r.trace(i), nil
}

// findTrace finds a trace by its ID or a prefix of it.
func (r Reader) findTrace(id string) (int, error) {
	id = strings.ToLower(strings.TrimSpace(id))
	whole, err := hex.DecodeString(id)
	found := -1
	for i := range r.T.Traces() {
		x := r.T.TraceAt(i)
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
			return 0, fmt.Errorf("%s: %w: several traces have this prefix", id, fault.AmbiguousTrace)
		}
		found = i
	}
	if found < 0 {
		return 0, fmt.Errorf("%s: %w in the evidence", id, fault.NoTrace)
	}
	return found, nil
}

// TraceAt implements replay.Tracer.
func (r Reader) TraceAt(_ context.Context, at event.Moment, thread event.ThreadID) (replay.Trace, error) {
	if err := r.Check(at); err != nil {
		return replay.Trace{}, err
	}
	if err := r.CheckThread(thread); err != nil {
		return replay.Trace{}, err
	}
	if c := r.CallAt(thread, at); c != event.NoCall {
		if id := r.TextOf(c, "traceID"); id != "" {
			return r.TraceOf(id)
		}
	}
	return replay.Trace{}, fmt.Errorf("moment %d: %w: thread %d is in no span there", at, fault.NoTrace, thread)
}

// maxTraceSpans limits the listed spans of one trace.
const maxTraceSpans = 100_000

// Spans implements replay.Tracer.
func (r Reader) Spans(ctx context.Context, id string) ([]replay.Span, error) {
	i, err := r.findTrace(id)
	if err != nil {
		return nil, err
	}
	info := r.T.TraceAt(i)
	calls := r.T.TraceCalls(i)
	start := r.T.Time(info.First)
	var list []replay.Span
	index := map[event.CallID]int{}
	for k := range min(calls.Len(), maxTraceSpans) {
		if k%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		c := event.CallID(calls.At(k))
		x := r.T.Call(c)
		f := r.T.FunctionOf(c)
		s := replay.Span{Call: c, SpanID: r.TextOf(c, "spanID"), ParentID: r.TextOf(c, "parentSpanID"), Service: r.OuterText(f, "service"), Operation: r.OuterText(f, "operation"), Thread: x.Thread,
			Moment: x.Enter, End: x.Leave, Start: time.Duration(r.T.Time(x.Enter) - start), Status: r.TextOf(c, "status"), Message: r.TextOf(c, "statusMessage")}
		if x.Leave != event.NoMoment {
			s.Duration = time.Duration(r.T.Time(x.Leave) - r.T.Time(x.Enter))
		}
		if v, ok, err := r.CallVariable(c, x.Enter, "selfTime"); ok && err == nil {
			s.Self = time.Duration(v.Value.Int)
		}
		s.Links = r.links(c)
		index[c] = len(list)
		list = append(list, s)
	}
	children := make([][]int, len(list))
	var roots []int
	for k := range list {
		if p, ok := index[r.T.Call(list[k].Call).Parent]; ok {
			children[p] = append(children[p], k)
		} else {
			roots = append(roots, k)
		}
	}
	if len(roots) > 0 {
		critical(list, children, roots)
	}
	out := make([]replay.Span, 0, len(list))
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

// links returns the links of a span, with their attributes.
func (r Reader) links(c event.CallID) (out []replay.Link) {
	enter := r.T.Call(c).Enter
	v, ok, err := r.CallVariable(c, enter, "links")
	if err != nil || !ok {
		return nil
	}
	for n, x := range v.Value.Items {
		if x.Form() == event.Interface && len(x.Items) == 1 {
			x = x.Items[0]
		}
		trace, span, ok := strings.Cut(x.Text, "/")
		if !ok {
			continue
		}
		l := replay.Link{TraceID: trace, SpanID: span}
		prefix := LinkPrefix(n)
		for _, f := range r.T.FunctionOf(c).Variables {
			if name, of := strings.CutPrefix(f.Name, prefix); of {
				if a, ok, err := r.CallVariable(c, enter, f.Name); err == nil && ok && a.Value.State == event.Known && !a.Value.Nil {
					l.Attributes = append(l.Attributes, replay.LinkAttribute{Name: name, Value: a.Value})
				}
			}
		}
		out = append(out, l)
	}
	return out
}

// LinkPrefix is what the names of a link's attributes begin with; n counts the links of a span from 0.
func LinkPrefix(n int) string {
	if n == 0 {
		return "link."
	}
	return "link" + strconv.Itoa(n+1) + "."
}

// critical computes the critical path of a trace: from its end backward, the time after the last child's end belongs to
// the parent, the time before it to that child. A child may end after its parent, and other roots count as children of
// the first one, so that the path is as long as the trace.
func critical(list []replay.Span, children [][]int, roots []int) {
	root := roots[0]
	children[root] = append(children[root], roots[1:]...)
	ends := make([]time.Duration, len(list)) // of the span and all that it started
	for k := range ends {
		ends[k] = -1
	}
	var end func(k int) time.Duration
	end = func(k int) time.Duration {
		if ends[k] < 0 {
			ends[k] = list[k].Start + list[k].Duration
			for _, c := range children[k] {
				ends[k] = max(ends[k], end(c))
			}
		}
		return ends[k]
	}
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
	children[root] = children[root][:len(children[root])-len(roots)+1]
}

// CallsElsewhere lists the spans of other threads that a span has called, in order of their beginnings.
func (r Reader) CallsElsewhere(c event.CallID) (out []event.CallID) {
	id := r.TextOf(c, "traceID")
	if id == "" {
		return nil
	}
	i, err := r.findTrace(id)
	if err != nil {
		return nil
	}
	list := r.T.TraceCalls(i)
	for k := range list.Len() {
		child := event.CallID(list.At(k))
		if x := r.T.Call(child); x.Parent == c && x.Thread != r.T.Call(c).Thread {
			out = append(out, child)
		}
	}
	slices.SortFunc(out, func(a, b event.CallID) int { return cmp.Compare(r.T.Call(a).Enter, r.T.Call(b).Enter) })
	return out
}
