package replay

import (
	"context"
	"fmt"
	"slices"

	"wraithology/core/event"
	"wraithology/core/execlog"
)

// Variables implements Recording.
func (r *logRecording) Variables(ctx context.Context, at event.Moment, t event.ThreadID, frame int) ([]Variable, error) {
	c, err := r.frameCall(at, t, frame)
	if err != nil {
		return nil, err
	}
	f := r.t.FunctionOf(c)
	var out []Variable
	for i, v := range f.Variables {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if r.visible(v, c, at) {
			if x := r.variable(v, event.VariableID(i), f, c, at); r.recorded() || x.Value.State == event.Known {
				out = append(out, x)
			}
		}
	}
	out = append(out, r.outer(c, at)...)
	rank := map[event.Scope]int{event.Parameter: 0, event.Return: 1, event.Local: 2, event.Global: 3}
	slices.SortStableFunc(out, func(a, b Variable) int { return rank[a.Scope] - rank[b.Scope] })
	return hideShadowed(out), nil
}

// Variable implements Recording.
func (r *logRecording) Variable(_ context.Context, at event.Moment, t event.ThreadID, frame int, name string) (Variable, bool, error) {
	c, err := r.frameCall(at, t, frame)
	if err != nil {
		return Variable{}, false, err
	}
	return r.callVariable(c, at, name)
}

// callVariable returns the variable that a name means in a call at a moment. Of what
// no recorder made, a name that the function has and the call does not means null.
func (r *logRecording) callVariable(c event.CallID, at event.Moment, name string) (Variable, bool, error) {
	f := r.t.FunctionOf(c)
	for i := len(f.Variables) - 1; i >= 0; i-- {
		if v := f.Variables[i]; v.Name == name && r.visible(v, c, at) {
			x := r.variable(v, event.VariableID(i), f, c, at)
			if !r.recorded() && x.Value.State != event.Known {
				x.Value.Value = event.Value{Type: plainText, State: event.Known, Nil: true}
			}
			return x, true, nil
		}
	}
	for _, v := range r.outer(c, at) {
		if v.Name == name {
			return v, true, nil
		}
	}
	return Variable{}, false, nil
}

// allNames gathers the names of all variables of all functions.
func (r *logRecording) allNames() map[string]bool {
	all := map[string]bool{}
	for _, f := range r.t.Functions {
		for _, v := range f.Variables {
			all[v.Name] = true
		}
		for _, v := range f.Outer {
			all[v.Name] = true
		}
	}
	for i := range r.t.Processes {
		for _, v := range r.t.Processes[i].Outer {
			all[v.Name] = true
		}
	}
	return all
}

// frameCall returns the call of a frame.
func (r *logRecording) frameCall(at event.Moment, t event.ThreadID, frame int) (event.CallID, error) {
	if err := r.check(at); err != nil {
		return 0, err
	}
	if err := r.checkThread(t); err != nil {
		return 0, err
	}
	c := r.callAt(t, at)
	inner := 0
	if frame > 0 {
		inner = len(r.thrown(at, t)) // which see what their call sees
	}
	for i := inner; c != event.NoCall; i++ {
		if i >= frame {
			return c, nil
		}
		if c = r.t.Call(c).Parent; c == event.NoCall {
			return 0, fmt.Errorf("frame %d of thread %d at moment %d: %w; its stack has frames 0 to %d", frame, t, at, ErrNoFrame, i)
		}
	}
	return 0, fmt.Errorf("frame %d of thread %d at moment %d: %w; no own code runs there at that moment", frame, t, at, ErrNoFrame)
}

// hideShadowed leaves, of the names that mean several variables here, the one
// that was declared last.
func hideShadowed(list []Variable) []Variable {
	last := map[string]int{}
	for i, v := range list {
		if v.Scope != event.Global {
			last[v.Name] = i
		}
	}
	var out []Variable
	for i, v := range list {
		if v.Scope == event.Global || last[v.Name] == i {
			out = append(out, v)
		}
	}
	return out
}

// visible reports whether a variable can be named on the line that the call has
// reached. Results without a name are there once the call has returned.
func (r *logRecording) visible(v event.Variable, c event.CallID, at event.Moment) bool {
	switch {
	case v.Scope == event.Parameter || v.Scope == event.Global:
		return true
	case !r.recorded():
		return true
	case v.Scope == event.Return && at != event.NoMoment && r.t.Call(c).Leave == at:
		return true
	case v.Line > v.EndLine:
		return false
	}
	line := r.lineOf(c, at)
	return line >= v.Line && line <= v.EndLine
}

func (r *logRecording) variable(v event.Variable, id event.VariableID, f *event.Function, c event.CallID, at event.Moment) Variable {
	process := r.t.Call(c).Process
	out := Variable{Name: v.Name, Scope: v.Scope, Type: v.Type, Written: r.t.LastWrite(c, id, at)}
	out.Value = Value{Value: event.Value{State: event.Unassigned}, Memory: r.memoryAt(process, at, 0)}
	since := r.t.Call(c).Enter
	if v.Scope == event.Global && out.Written == event.NoMoment {
		out.Written, since = r.t.Global(process, v.Name), 0
		if out.Written == event.NoMoment || out.Written > at {
			out.Written, out.Value.State = event.NoMoment, event.Unrecorded
			return out
		}
	}
	if out.Written == event.NoMoment || v.Scope == event.Local && r.recorded() && r.stale(v, c, out.Written, at) {
		out.Written = event.NoMoment
		return out
	}
	value, err := r.written(out.Written, id, f, since, at)
	if err != nil {
		value = event.Value{State: event.Unrecorded}
	}
	out.Value.Value = value
	if value.Type != nil && out.Type == "" {
		out.Type = value.Type.Name
	}
	return out
}

// maxStaleLines bounds how far back a scope's beginning is looked for.
const maxStaleLines = 4096

// stale reports whether a local's value is left from an earlier pass through its
// scope: on the line that declares it, the value counts only if it was written
// after the scope was entered.
func (r *logRecording) stale(v event.Variable, c event.CallID, written, at event.Moment) bool {
	if r.lineOf(c, at) != v.Line {
		return false
	}
	lines := r.t.CallLines(c)
	i := lines.Before(at)
	for n := 0; i >= 0 && n < maxStaleLines; n++ {
		m := lines.At(i)
		if m < written {
			return false
		}
		if line := r.t.Site(m).Line; line < v.Line || line > v.EndLine {
			return true
		}
		i--
	}
	return false
}

// written returns a variable's value from the event that gave it.
func (r *logRecording) written(m event.Moment, id event.VariableID, f *event.Function, since, at event.Moment) (event.Value, error) {
	e := r.t.Event(m)
	types := r.t.Types(r.t.Process(m))
	if e.Kind == event.Cell {
		ty, _ := execlog.TypeOf(e.Data)
		t := types(ty)
		if t == nil {
			return event.Value{State: event.Unrecorded}, nil
		}
		return r.memoryAt(r.t.Process(m), at, since).Load(e.Address, t), nil
	}
	i := 0
	switch e.Kind {
	case event.Enter:
		i = slices.Index(f.Parameters, id)
	case event.Leave:
		i = slices.Index(f.Results, id)
	case event.Fields, event.Message, event.Error:
		i = slices.Index(r.t.Site(m).Values, id)
	}
	return execlog.DecodeNth(e.Data, e.Args, i, types)
}

// Scalar returns the value of a variable of the innermost frame where it is a
// number, a text or a truth value that nothing else can refer to. It is Variable
// for conditions, which ask very often.
func (r *logRecording) Scalar(at event.Moment, name string) (event.Value, bool) {
	if at < 0 || at >= r.t.Len() {
		return event.Value{}, false
	}
	c := r.t.CallOf(at)
	if c == event.NoCall {
		return event.Value{}, false
	}
	f := r.t.FunctionOf(c)
	for i := len(f.Variables) - 1; i >= 0; i-- {
		v := &f.Variables[i]
		if v.Name != name || !r.visible(*v, c, at) {
			continue
		}
		id := event.VariableID(i)
		m := r.t.LastWrite(c, id, at)
		if m == event.NoMoment || v.Scope == event.Global || r.t.Kind(m) == event.Cell || v.Scope == event.Local && r.recorded() && r.stale(*v, c, m, at) {
			return event.Value{}, false
		}
		value, err := r.written(m, id, f, 0, at)
		if err != nil {
			return event.Value{}, false
		}
		switch value.Form() {
		case event.Bool, event.Int, event.Uint, event.Float, event.Text:
			return value, value.State == event.Known
		}
		return event.Value{}, false
	}
	return event.Value{}, false
}
