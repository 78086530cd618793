package replay

import (
	"context"
	"sort"
	"time"

	"wraithology/core/event"
)

// Change is a name whose value differs from the previous moment of its frame.
// Old is nil where the name had no value.
type Change struct {
	Name string
	Old  *Value
	New  Value
}

// Changes compare a frame at a moment with the line that its call reached before,
// or with its beginning.
type Changes struct {
	Moment, Previous event.Moment
	Changes          []Change
}

// Bounds of what is compared.
const (
	maxChangedDepth = 3
	maxChangedWidth = 64
	maxChanges      = 500
)

// Changed implements Replay.
func (r *logRecording) Changed(ctx context.Context, at event.Moment, t event.ThreadID, frame int) (Changes, error) {
	c, err := r.frameCall(at, t, frame)
	if err != nil {
		return Changes{}, err
	}
	out := Changes{Moment: at, Previous: r.previous(c, at)}
	now, err := r.Variables(ctx, at, t, frame)
	if err != nil {
		return out, err
	}
	f := r.t.FunctionOf(c)
	for _, v := range now {
		if v.Value.State != event.Known {
			continue
		}
		old := Value{Value: event.Value{State: event.Unassigned}}
		for i := len(f.Variables) - 1; i >= 0; i-- {
			if x := f.Variables[i]; x.Name == v.Name && r.visible(x, c, at) {
				if r.visible(x, c, out.Previous) {
					old = r.variable(x, event.VariableID(i), f, c, out.Previous).Value
				}
				break
			}
		}
		out.compare(v.Name, old, v.Value, 0)
		if err := ctx.Err(); err != nil {
			return out, err
		}
	}
	return out, nil
}

// previous returns the line moment of a call before a moment's own, else the
// call's beginning.
func (r *logRecording) previous(c event.CallID, at event.Moment) event.Moment {
	list := r.t.CallLines(c)
	i := list.Before(at)
	if i >= 0 && list.At(i) == at {
		i--
	}
	if i < 0 {
		return r.t.Call(c).Enter
	}
	return list.At(i)
}

func (c *Changes) compare(name string, old, now Value, depth int) {
	if now.State != event.Known || len(c.Changes) >= maxChanges {
		return
	}
	if old.State != event.Known {
		c.Changes = append(c.Changes, Change{Name: name, New: now})
		return
	}
	a, b := old.settled(), now.settled()
	same := old.Type == now.Type && identity(old.Value) == identity(now.Value)
	composite := b.Form() == event.Struct || b.Form() == event.Array || b.Form() == event.Slice || b.Form() == event.Map
	if !composite || depth >= maxChangedDepth {
		if !same || old.Text() != now.Text() {
			c.Changes = append(c.Changes, Change{name, &old, now})
		}
		return
	}
	if a.Type != b.Type || a.Count() != b.Count() {
		c.Changes = append(c.Changes, Change{name, &old, now})
		return
	}
	page := Page{Count: maxChangedWidth}
	before, _ := a.Children(page)
	after, _ := b.Children(page)
	known := map[string]Value{}
	for _, x := range before {
		known[x.Name] = x.Value
	}
	dot := ""
	if b.Form() == event.Struct {
		dot = "."
	}
	if len(after) == 0 && !same { // a time, or empty lists at other places
		if old.Text() != now.Text() {
			c.Changes = append(c.Changes, Change{name, &old, now})
		}
		return
	}
	for _, x := range after {
		was, ok := known[x.Name]
		if !ok {
			was = Value{Value: event.Value{State: event.Unassigned}}
		}
		c.compare(name+dot+x.Name, was, x.Value, depth+1)
	}
}

// Returned is a call that has returned, and what it returned, in order.
type Returned struct {
	Function string
	At       event.Moment
	Values   []Value
}

const maxReturned = 64

// Returned implements Replay. At the moment at which a call returns, it is that
// call's own results.
func (r *logRecording) Returned(_ context.Context, at event.Moment, t event.ThreadID, frame int) ([]Returned, error) {
	c, err := r.frameCall(at, t, frame)
	if err != nil {
		return nil, err
	}
	if r.t.Kind(at) == event.Leave && r.t.CallOf(at) == c {
		return []Returned{r.returnedBy(c)}, nil
	}
	var out []Returned
	for _, child := range r.callsBetween(c, r.previous(c, at), at) {
		if left := r.t.Call(child).Leave; left != event.NoMoment && left <= at && r.t.Kind(left) == event.Leave && len(out) < maxReturned {
			if x := r.returnedBy(child); len(x.Values) > 0 {
				out = append(out, x)
			}
		}
	}
	return out, nil
}

func (r *logRecording) returnedBy(c event.CallID) Returned {
	left := r.t.Call(c).Leave
	out := Returned{Function: r.functionName(c), At: left}
	values, err := r.t.Values(left)
	if err != nil {
		return out
	}
	memory := r.memoryAt(r.t.Call(c).Process, left, 0)
	for _, v := range values {
		out.Values = append(out.Values, Value{Value: v, Memory: memory})
	}
	return out
}

// maxCallsBetween bounds the calls that are looked at for one line.
const maxCallsBetween = 4096

// callsBetween lists the calls that a call made itself between two moments.
func (r *logRecording) callsBetween(c event.CallID, from, to event.Moment) []event.CallID {
	list := r.t.ThreadCalls(r.t.Call(c).Thread)
	var out []event.CallID
	after := func(m event.Moment) int {
		return sort.Search(list.Len(), func(i int) bool { return r.t.Call(event.CallID(list.At(i))).Enter > m })
	}
	for i, n := after(from), 0; i < list.Len() && n < maxCallsBetween; n++ {
		child := event.CallID(list.At(i))
		call := r.t.Call(child)
		if call.Enter > to {
			break
		}
		if call.Parent == c {
			out = append(out, child)
		}
		if call.Leave == event.NoMoment {
			break
		}
		i = max(after(call.Leave), i+1)
	}
	return out
}

// Timing implements Replay.
func (r *logRecording) Timing(at event.Moment) (call, step time.Duration, err error) {
	if err := r.check(at); err != nil {
		return 0, 0, err
	}
	call, step = -1, -1
	c := r.t.CallOf(at)
	if c == event.NoCall {
		return call, step, nil
	}
	x := r.t.Call(c)
	next := x.Leave
	if x.Leave != event.NoMoment {
		call = time.Duration(r.t.Time(x.Leave) - r.t.Time(x.Enter))
	}
	lines := r.t.CallLines(c)
	if i := lines.After(at); i < lines.Len() {
		next = lines.At(i)
	}
	if next != event.NoMoment && next >= at {
		step = time.Duration(r.t.Time(next) - r.t.Time(at))
	}
	return call, step, nil
}

// Doing is what a thread did between two moments: how many moments it had, and
// its first and last place there.
type Doing struct {
	Thread      Thread
	Moments     int64
	First, Last Place
}

// Meanwhile implements Replay.
func (r *logRecording) Meanwhile(ctx context.Context, from, to event.Moment) ([]Doing, error) {
	if from > to {
		from, to = to, from
	}
	if err := r.check(from); err != nil {
		return nil, err
	}
	if err := r.check(to); err != nil {
		return nil, err
	}
	threads, err := r.Threads(ctx, to)
	if err != nil {
		return nil, err
	}
	var out []Doing
	for _, th := range threads {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		first, last := r.t.Next(th.ID, from-1), r.t.OnThread(th.ID, to)
		if first == event.NoMoment || first > to {
			continue
		}
		d := Doing{Thread: th, Moments: r.t.CountOn(th.ID, first, last)}
		if d.First, err = r.Place(first); err == nil {
			d.Last, err = r.Place(last)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}

// CallLines implements Replay.
func (r *logRecording) CallLines(_ context.Context, at event.Moment, t event.ThreadID, frame int, page Page) (Hits, error) {
	c, err := r.frameCall(at, t, frame)
	if err != nil {
		return Hits{}, err
	}
	list := r.t.CallLines(c)
	hits := Hits{Total: list.Len()}
	from, to := page.Cut(list.Len())
	for i := from; i < to; i++ {
		hits.Page = append(hits.Page, list.At(i))
	}
	return hits, nil
}

// ValueBefore implements Replay.
func (r *logRecording) ValueBefore(_ context.Context, path string, at event.Moment, t event.ThreadID, frame int) (Value, error) {
	p, err := ParsePath(path)
	if err != nil {
		return Value{}, err
	}
	c, err := r.frameCall(at, t, frame)
	if err != nil {
		return Value{}, err
	}
	_, v, err := scope{r, c, r.previous(c, at)}.locate(p, nil)
	return v, err
}
