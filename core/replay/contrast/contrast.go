package contrast

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/trace"
	"wraithology/core/timeline"
)

// Contraster implements replay.Contraster.
type Contraster struct{ find.Finder }

// piece is the number of things of one unit of work.
const piece = 2048

// Contrast implements replay.Contraster.
func (r Contraster) Contrast(ctx context.Context, q replay.ContrastQuery) (replay.Contrast, error) {
	switch {
	case q.Pairs != nil:
		return r.pairs(ctx, q)
	case r.T.Traces() > 0 && q.Calls == "":
		return r.traces(ctx, q)
	case r.Recorded() || q.Calls != "":
		return r.calls(ctx, q)
	}
	return r.records(ctx, q)
}

// over gathers the features of n things, in pieces at the same time.
func over(ctx context.Context, n int, things func(ctx context.Context, f *features, from, to int) (undecided int, trouble error, err error)) (all *features, out replay.Contrast, err error) {
	all = newFeatures()
	var mu sync.Mutex
	err = guard.Each(ctx, (n+piece-1)/piece, func(ctx context.Context, p int) error {
		f := newFeatures()
		undecided, trouble, err := things(ctx, f, p*piece, min((p+1)*piece, n))
		if err != nil {
			return err
		}
		mu.Lock()
		defer mu.Unlock()
		all.merge(f)
		out.Undecided += undecided
		if out.Trouble == nil {
			out.Trouble = trouble
		}
		return nil
	})
	return all, out, err
}

// answer completes an answer.
func answer(f *features, out replay.Contrast, q replay.ContrastQuery) (replay.Contrast, error) {
	out.With, out.Without, out.Cut = f.n, f.m, out.Cut || f.full
	if f.n == 0 && out.Trouble != nil {
		return out, out.Trouble
	}
	if f.n == 0 || f.m == 0 {
		return out, nil
	}
	all := f.differences(q.But)
	out.Total = len(all)
	from, to := q.Page.Cut(len(all))
	out.Differences = all[from:to]
	for group := range f.many {
		out.Left = append(out.Left, group[slices.Index([]byte(group), 0)+1:])
	}
	slices.Sort(out.Left)
	return out, nil
}

// traces compares traces: the attributes of their spans and events, their operations, durations and messages.
func (r Contraster) traces(ctx context.Context, q replay.ContrastQuery) (replay.Contrast, error) {
	tracer := trace.Reader{Log: r.Log}
	f, out, err := over(ctx, r.T.Traces(), func(ctx context.Context, f *features, from, to int) (undecided int, trouble error, err error) {
		decide := tracer.Decider(q.When)
		for i := from; i < to; i++ {
			if err := ctx.Err(); err != nil {
				return undecided, trouble, err
			}
			holds, err := decide(ctx, i)
			if err != nil {
				undecided, trouble = undecided+1, err
				continue
			}
			f.next(holds)
			info := r.T.TraceAt(i)
			f.measure("duration", "", float64(info.Duration))
			list := r.T.TraceCalls(i)
			for k := range list.Len() {
				r.span(f, event.CallID(list.At(k)))
			}
		}
		return undecided, trouble, nil
	})
	if err != nil {
		return out, fmt.Errorf("compare the traces: %w", err)
	}
	out.Of = "trace"
	return answer(f, out, q)
}

// facts are values of spans that are not attributes.
var facts = []string{"traceID", "spanID", "parentSpanID", "duration", "selfTime", "links", "status", "startTime", "statusMessage", "kind", "traceState"}

// span adds the features of a span.
func (r Contraster) span(f *features, c event.CallID) {
	call := r.T.Call(c)
	name := r.FunctionName(c)
	f.set(key{what: "operation", name: name})
	if call.Leave != event.NoMoment {
		f.measure("duration", name, float64(r.T.Time(call.Leave)-r.T.Time(call.Enter)))
	}
	function := r.T.FunctionOf(c)
	e := r.T.Event(call.Enter)
	values, err := event.DecodeValues(e.Data, e.Args, r.T.Types(call.Process))
	if err == nil {
		for i, id := range function.Parameters {
			if i < len(values) && int(id) < len(function.Variables) {
				if n := function.Variables[id].Name; n == "selfTime" {
					f.measure("duration", name+", own time", float64(values[i].Int))
				} else if !slices.Contains(facts, n) {
					f.value(n, values[i])
				}
			}
		}
	}
	lines := r.T.CallLines(c)
	const most = 256
	for i := range min(lines.Len(), most) {
		m := lines.At(i)
		if k := r.T.Kind(m); k != event.Message && k != event.Error {
			continue
		}
		if values := r.T.Site(m).Values; len(values) > 0 && int(values[0]) < len(function.Variables) && function.Variables[values[0]].Name == "error" {
			continue // not sent: it stands for the status
		}
		f.set(key{what: "message", name: template(r.Text(m))})
	}
}

// value adds a value of a name. Numbers are compared by size too.
func (f *features) value(name string, v event.Value) {
	if v.State != event.Known || v.Nil {
		return
	}
	for v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.Items[0]
	}
	switch v.Form() {
	case event.Text:
		const longest = 200
		if len(v.Text) > longest || v.Whole > 0 {
			return
		}
		f.set(key{"attribute", name, v.Text})
	case event.Bool:
		f.set(key{"attribute", name, map[bool]string{true: "true", false: "false"}[v.Uint != 0]})
	case event.Int:
		f.number(name, v, float64(v.Int))
	case event.Uint:
		f.number(name, v, float64(v.Uint))
	case event.Float:
		f.number(name, v, v.Float)
	}
}

func (f *features) number(name string, v event.Value, x float64) {
	if v.Type.Name == event.DurationType {
		f.measure("duration", name, x)
		return
	}
	f.set(key{"attribute", name, replay.Value{Value: v}.Text()})
	f.measure("attribute", name, x)
}

// before is how many messages before a record count as preceding ones.
const before = 10

// records compares the records of a log: their fields, and the messages before them on the same thread.
func (r Contraster) records(ctx context.Context, q replay.ContrastQuery) (replay.Contrast, error) {
	moments := merged(r.T.Notable(event.Message), r.T.Notable(event.Error))
	f, out, err := over(ctx, len(moments), func(ctx context.Context, f *features, from, to int) (undecided int, trouble error, err error) {
		type recent struct {
			list []string
			next int
		}
		last := map[event.ThreadID]*recent{}
		for i := max(0, from-before*before); i < to; i++ { // the first ones only for what precedes
			if err := ctx.Err(); err != nil {
				return undecided, trouble, err
			}
			m := moments[i]
			t := r.T.Thread(m)
			l := last[t]
			if l == nil {
				l = &recent{list: make([]string, 0, before)}
				last[t] = l
			}
			said := template(r.FirstText(m, ""))
			if i >= from {
				holds, err := q.When.Holds(ctx, q.On, m, t)
				if err != nil {
					undecided, trouble = undecided+1, err
				} else {
					f.next(holds)
					r.fields(f, m)
					f.set(key{what: "message", name: said})
					for _, x := range l.list {
						f.set(key{what: "message", name: "before: " + x})
					}
				}
			}
			if len(l.list) < before {
				l.list = append(l.list, said)
			} else {
				l.list[l.next%before] = said
				l.next++
			}
		}
		return undecided, trouble, nil
	})
	if err != nil {
		return out, fmt.Errorf("compare the records: %w", err)
	}
	out.Of = "record"
	return answer(f, out, q)
}

// merged merges two ascending lists of moments.
func merged(a, b timeline.List) (out []event.Moment) {
	out = make([]event.Moment, 0, a.Len()+b.Len())
	i, k := 0, 0
	for i < a.Len() || k < b.Len() {
		if k == b.Len() || i < a.Len() && a.At(i) < b.At(k) {
			out = append(out, a.At(i))
			i++
		} else {
			out = append(out, b.At(k))
			k++
		}
	}
	return out
}

// fields adds the fields of a record. The first one is its message.
func (r Contraster) fields(f *features, m event.Moment) {
	c := r.T.CallOf(m)
	if c == event.NoCall {
		return
	}
	function := r.T.FunctionOf(c)
	f.set(key{"attribute", "in", function.Name})
	values, err := r.T.Values(m)
	if err != nil {
		return
	}
	for i, id := range r.T.Site(m).Values {
		if i > 0 && i < len(values) && int(id) < len(function.Variables) {
			f.value(function.Variables[id].Name, values[i])
		}
	}
}

// calls compares the calls of a function when they return: arguments, results, the functions that they call, and how long
// they take.
func (r Contraster) calls(ctx context.Context, q replay.ContrastQuery) (replay.Contrast, error) {
	if q.Calls == "" {
		return replay.Contrast{}, fault.InvalidRequest.New("for example --calls Assign --when 'berth == nil'", "a recording is compared by the calls of a function")
	}
	hits, err := r.Hits(ctx, replay.Checkpoint{Kind: "return", About: q.Calls}, replay.Page{Count: maxCalls})
	if err != nil {
		return replay.Contrast{}, err
	}
	f, out, err := over(ctx, len(hits.Page), func(ctx context.Context, f *features, from, to int) (undecided int, trouble error, err error) {
		for _, m := range hits.Page[from:to] {
			if err := ctx.Err(); err != nil {
				return undecided, trouble, err
			}
			holds, err := q.When.Holds(ctx, q.On, m, r.T.Thread(m))
			if err != nil {
				undecided, trouble = undecided+1, err
				continue
			}
			f.next(holds)
			if err := r.call(ctx, f, "", r.T.CallOf(m), m); err != nil {
				return undecided, trouble, err
			}
		}
		return undecided, trouble, nil
	})
	if err != nil {
		return out, fmt.Errorf("compare the calls: %w", err)
	}
	out.Of, out.Cut = "call", hits.Total > len(hits.Page)
	return answer(f, out, q)
}

// pairs compares pairs of moments: the values of both frames, and of calls that return what they called.
func (r Contraster) pairs(ctx context.Context, q replay.ContrastQuery) (replay.Contrast, error) {
	list := q.Pairs[:min(len(q.Pairs), maxCalls)]
	f, out, err := over(ctx, len(list), func(ctx context.Context, f *features, from, to int) (int, error, error) {
		for _, p := range list[from:to] {
			f.next(p.Has)
			if err := r.hit(ctx, f, "", p.Left); err != nil {
				return 0, nil, err
			}
			if err := r.hit(ctx, f, "the other's ", p.Right); err != nil {
				return 0, nil, err
			}
		}
		return 0, nil, ctx.Err()
	})
	if err != nil {
		return out, fmt.Errorf("compare the pairs: %w", err)
	}
	out.Of, out.Cut = "pair", len(list) < len(q.Pairs)
	return answer(f, out, q)
}

// hit adds the features of a moment. prefix sets its names apart.
func (r Contraster) hit(ctx context.Context, f *features, prefix string, m event.Moment) error {
	if m == event.NoMoment {
		return nil
	}
	if c := r.T.CallOf(m); c != event.NoCall && r.T.Kind(m) == event.Leave {
		return r.call(ctx, f, prefix, c, m)
	}
	return r.variables(ctx, f, prefix, m)
}

// maxCalls limits the calls that are compared.
const maxCalls = 100_000

// call adds the features of a call that ended at left. prefix sets its names apart.
func (r Contraster) call(ctx context.Context, f *features, prefix string, c event.CallID, left event.Moment) error {
	call := r.T.Call(c)
	f.measure("duration", prefix, float64(r.T.Time(left)-r.T.Time(call.Enter)))
	for _, child := range r.CallsBetween(c, call.Enter, left) {
		f.set(key{what: "operation", name: prefix + r.FunctionName(child)})
	}
	if err := r.variables(ctx, f, prefix, left); err != nil {
		return err
	}
	lines := r.T.CallLines(c)
	for i := range lines.Len() {
		if i == maxLines {
			break
		}
		if site := r.T.Site(lines.At(i)); site.Line > 0 {
			f.set(key{what: "operation", name: fmt.Sprintf("%sline %d", prefix, site.Line)})
		}
	}
	return nil
}

// variables adds the values of a frame.
func (r Contraster) variables(ctx context.Context, f *features, prefix string, at event.Moment) error {
	list, err := r.Variables(ctx, at, r.T.Thread(at), 0)
	if err != nil {
		return err
	}
	for _, v := range list {
		if v.Scope != event.Global {
			r.parts(f, prefix+v.Name, v.Value, 0)
		}
	}
	return nil
}

// Bounds of what counts of a call.
const (
	maxLines    = 1024
	maxDepth    = 3
	maxElements = 16
)

// parts adds a value, or the fields of an object.
func (r Contraster) parts(f *features, name string, v replay.Value, depth int) {
	v = v.Settled()
	if v.State != event.Known {
		return
	}
	switch v.Form() {
	case event.Pointer, event.Interface:
		if v.Nil {
			f.set(key{"attribute", name, "nil"})
			return
		}
		f.set(key{"attribute", name, "not nil"})
		if depth < maxDepth {
			r.parts(f, name, v.Deref(), depth+1)
		}
	case event.Struct:
		if depth < maxDepth {
			for _, field := range v.Fields() {
				r.parts(f, name+"."+field, v.Field(field), depth+1)
			}
		}
	case event.Slice, event.Map, event.Array:
		f.measure("attribute", "size("+name+")", float64(v.Count()))
		if depth < maxDepth && v.Form() != event.Map {
			r.elements(f, name+"[]", v, depth+1)
		}
	default:
		f.value(name, v.Value)
	}
}

// elements adds the first elements of a list: a call has a value of them if one of the elements has it.
func (r Contraster) elements(f *features, name string, v replay.Value, depth int) {
	list, _ := v.Children(replay.Page{Count: maxElements})
	for _, x := range list {
		r.parts(f, name, x.Value, depth)
	}
}
