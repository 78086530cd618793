package state

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Variables implements replay.Recording.
func (r *Log) Variables(ctx context.Context, at event.Moment, t event.ThreadID, frame int) ([]replay.Variable, error) {
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return nil, err
	}
	f := r.T.FunctionOf(c)
	var out []replay.Variable
	for i, v := range f.Variables {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if r.Visible(v, c, at) {
			if x := r.VariableOf(v, event.VariableID(i), f, c, at); r.Recorded() || x.Value.State == event.Known {
				out = append(out, x)
			}
		}
	}
	out = append(out, r.Outer(c, at)...)
	rank := map[event.Scope]int{event.Parameter: 0, event.Return: 1, event.Local: 2, event.Global: 3}
	slices.SortStableFunc(out, func(a, b replay.Variable) int { return rank[a.Scope] - rank[b.Scope] })
	return hideShadowed(out), nil
}

// Variable implements replay.Recording.
func (r *Log) Variable(_ context.Context, at event.Moment, t event.ThreadID, frame int, name string) (replay.Variable, bool, error) {
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return replay.Variable{}, false, err
	}
	return r.CallVariable(c, at, name)
}

// CallVariable returns the variable with a name in a call at a moment. In evidence without a
// recorder, a name of the function without a value in the call is null.
func (r *Log) CallVariable(c event.CallID, at event.Moment, name string) (replay.Variable, bool, error) {
	f := r.T.FunctionOf(c)
	for i := len(f.Variables) - 1; i >= 0; i-- {
		if v := f.Variables[i]; v.Name == name && r.Visible(v, c, at) {
			x := r.VariableOf(v, event.VariableID(i), f, c, at)
			if !r.Recorded() && x.Value.State != event.Known {
				x.Value.Value = event.Value{Type: PlainText, State: event.Known, Nil: true}
			}
			return x, true, nil
		}
	}
	for _, v := range r.Outer(c, at) {
		if v.Name == name {
			return v, true, nil
		}
	}
	if !r.Recorded() && r.AnyFunctionHas(name) { // a field that other records have
		return replay.Variable{Name: name, Scope: event.Local, Written: event.NoMoment, Value: replay.Value{Value: event.Value{Type: PlainText, State: event.Known, Nil: true}}}, true, nil
	}
	if i := globalNamed(f, name); i >= 0 && r.Recorded() {
		return r.VariableOf(f.Variables[i], event.VariableID(i), f, c, at), true, nil
	}
	return replay.Variable{}, false, nil
}

// globalNamed returns the index of a package's variable that is named without the package, or -1.
func globalNamed(f *event.Function, name string) int {
	return slices.IndexFunc(f.Variables, func(v event.Variable) bool {
		return v.Scope == event.Global && strings.HasSuffix(v.Name, "."+name)
	})
}

// allNames gathers the names of all variables of all functions.
func (r *Log) allNames() map[string]bool {
	all := map[string]bool{}
	for _, f := range r.T.Functions {
		for _, v := range f.Variables {
			all[v.Name] = true
		}
		for _, v := range f.Outer {
			all[v.Name] = true
		}
	}
	for i := range r.T.Processes {
		for _, v := range r.T.Processes[i].Outer {
			all[v.Name] = true
		}
	}
	return all
}

// FrameCall returns the call of a frame.
func (r *Log) FrameCall(at event.Moment, t event.ThreadID, frame int) (event.CallID, error) {
	if err := r.Check(at); err != nil {
		return 0, err
	}
	if err := r.CheckThread(t); err != nil {
		return 0, err
	}
	c := r.CallAt(t, at)
	inner := 0
	if frame > 0 {
		inner = len(r.TracebackFrames(at, t)) // which see what their call sees
	}
	for i := inner; c != event.NoCall; i++ {
		if i >= frame {
			return c, nil
		}
		if c = r.T.Call(c).Parent; c == event.NoCall {
			return 0, fmt.Errorf("frame %d of thread %d at moment %d: %w; its stack has frames 0 to %d", frame, t, at, fault.NoFrame, i)
		}
	}
	return 0, fmt.Errorf("frame %d of thread %d at moment %d: %w; no own code runs there at that moment", frame, t, at, fault.NoFrame)
}

// hideShadowed removes shadowed variables: among those with the same name, the last declared one
// remains.
func hideShadowed(list []replay.Variable) []replay.Variable {
	last := map[string]int{}
	for i, v := range list {
		if v.Scope != event.Global {
			last[v.Name] = i
		}
	}
	var out []replay.Variable
	for i, v := range list {
		if v.Scope == event.Global || last[v.Name] == i {
			out = append(out, v)
		}
	}
	return out
}

// Visible reports whether a variable can be named on the call's current line. Unnamed results can
// be named after the return.
func (r *Log) Visible(v event.Variable, c event.CallID, at event.Moment) bool {
	switch {
	case v.Scope == event.Parameter || v.Scope == event.Global:
		return true
	case !r.Recorded():
		return true
	case v.Scope == event.Return && at != event.NoMoment && r.T.Call(c).Leave == at:
		return true
	case v.Line > v.EndLine:
		return false
	}
	line := r.lineOf(c, at)
	return line >= v.Line && line <= v.EndLine
}

// VariableOf returns a variable at a moment of a call. f is the function that declares it: that of the call, or for a package variable any
// that names it.
func (r *Log) VariableOf(v event.Variable, id event.VariableID, f *event.Function, c event.CallID, at event.Moment) replay.Variable {
	written := event.NoMoment
	if f.Name == r.T.FunctionOf(c).Name { // the writes of a call have the numbers of its function
		written = r.lastWrite(c, id, at)
	}
	return r.variableWritten(v, id, f, c, at, written)
}

// variableWritten returns a variable with the value of the write at a moment.
func (r *Log) variableWritten(v event.Variable, id event.VariableID, f *event.Function, c event.CallID, at, written event.Moment) replay.Variable {
	process := r.T.Call(c).Process
	out := replay.Variable{Name: v.Name, Scope: v.Scope, Type: v.Type, Written: written}
	out.Value = replay.Value{Value: event.Value{State: event.Unassigned}, Memory: r.MemoryAt(process, at, 0)}
	since := r.T.Call(c).Enter
	if v.Scope == event.Global && out.Written == event.NoMoment {
		out.Written, since = r.T.Global(process, v.Name), 0
		if out.Written == event.NoMoment || out.Written > at {
			out.Written, out.Value.State = event.NoMoment, event.Unrecorded
			return out
		}
	}
	if out.Written == event.NoMoment {
		out.Value.Value = r.neverWritten(v, id, c)
		return out
	}
	if v.Scope == event.Local && r.Recorded() && r.stale(v, c, out.Written, at) {
		out.Written = event.NoMoment
		return out
	}
	value, err := r.ValueWritten(out.Written, id, f, since, at)
	if err != nil {
		value = event.Value{State: event.Unrecorded}
	}
	out.Value.Value = value
	if m, ok := out.Value.Memory.(Memory); ok && leads(value) && f.Name == r.T.FunctionOf(c).Name {
		if m.unused = r.unusedSince(v, id, c, out.Written, at); m.unused != nil {
			out.Value.Memory = m
		}
	}
	if value.Type != nil && out.Type == "" {
		out.Type = value.Type.Name
	}
	return out
}

// leads reports whether a value can lead to other memory.
func leads(v event.Value) bool {
	switch v.Form() {
	case event.Pointer, event.Slice, event.Map, event.Interface, event.Struct, event.Array:
		return v.State == event.Known && !v.Nil
	}
	return false
}

// neverWritten returns the value of a variable of which the log has no write in a call. It is unassigned if the log has
// all writes; a named result then has its zero value from the beginning (The Go Programming Language Specification,
// section Return statements).
func (r *Log) neverWritten(v event.Variable, id event.VariableID, c event.CallID) event.Value {
	switch {
	case !r.Recorded():
	case r.T.Kind(r.T.Call(c).Enter) == event.Open:
		return event.Value{State: event.Unrecorded, Text: "the call began before the events that were kept"}
	case !r.hasWrites():
		return event.Value{State: event.Unrecorded, Text: "the values of variables were not recorded"}
	case v.Scope == event.Return && v.Line <= v.EndLine:
		if zero, ok := r.zeroResult(id, c); ok {
			return zero
		}
		if t := predeclared[v.Type]; t != nil {
			return event.Value{Type: t, State: event.Known, Nil: t.Form == event.Interface}
		}
	}
	return event.Value{State: event.Unassigned}
}

// hasWrites reports whether the log has the writes of variables: those of the less detailed levels have none.
func (r *Log) hasWrites() bool {
	level, _, _ := strings.Cut(r.T.Header.Detail, ",")
	return level != "calls" && level != "lines"
}

// predeclared are types that a log may lack, because no value of them was recorded.
var predeclared = map[string]*event.Type{
	"error":  {Name: "error", Form: event.Interface, Size: 16},
	"bool":   {Name: "bool", Form: event.Bool, Size: 1},
	"int":    {Name: "int", Form: event.Int, Size: 8},
	"string": {Name: "string", Form: event.Text, Size: 16},
}

// maxTyped limits the calls of a function that are examined for the type of a result.
const maxTyped = 100

// zeroResult returns the zero value of a call's result. The log has types with values only, so the type is that of
// a value that a call of the function returned. ok is false if none did.
func (r *Log) zeroResult(id event.VariableID, c event.CallID) (zero event.Value, ok bool) {
	call := r.T.Call(c)
	f := r.T.FunctionOf(c)
	enters := r.T.Enters(call.Function)
	for i := range min(enters.Len(), maxTyped) {
		other := r.T.Call(r.T.CallOf(enters.At(i)))
		if other.Leave == event.NoMoment || other.Process != call.Process {
			continue
		}
		value, err := r.ValueWritten(other.Leave, id, f, 0, other.Leave)
		if err == nil && value.Type != nil {
			return event.Zero(value.Type, r.T.Types(call.Process))
		}
	}
	return event.Value{}, false
}

// maxStaleLines limits how far back the beginning of a scope is searched.
const maxStaleLines = 4096

// stale reports whether a local's value is from an earlier pass through its scope: on the line of
// its declaration, the value counts only if it was written after the scope was entered.
func (r *Log) stale(v event.Variable, c event.CallID, written, at event.Moment) bool {
	if r.lineOf(c, at) != v.Line {
		return false
	}
	lines := r.T.CallLines(c)
	i := lines.Before(at)
	for n := 0; i >= 0 && n < maxStaleLines; n++ {
		m := lines.At(i)
		if m < written {
			return false
		}
		if line := r.T.Site(m).Line; line < v.Line || line > v.EndLine {
			return true
		}
		i--
	}
	return false
}

// ValueWritten returns the value of a variable in the event that wrote it.
func (r *Log) ValueWritten(m event.Moment, id event.VariableID, f *event.Function, since, at event.Moment) (event.Value, error) {
	e := r.T.Event(m)
	types := r.T.Types(r.T.Process(m))
	if e.Kind == event.Cell {
		ty, _ := event.TypeOf(e.Data)
		t := types(ty)
		if t == nil {
			return event.Value{State: event.Unrecorded}, nil
		}
		return r.MemoryAt(r.T.Process(m), at, since).Load(e.Address, t), nil
	}
	i := 0
	switch e.Kind {
	case event.Enter:
		i = slices.Index(f.Parameters, id)
	case event.Leave:
		i = slices.Index(f.Results, id)
	case event.Fields, event.Message, event.Error:
		i = slices.Index(r.T.Site(m).Values, id)
	}
	return event.DecodeNth(e.Data, e.Args, i, types)
}

// Scalar returns the value of a variable of the innermost frame, if it is a number, text or boolean
// that nothing else can refer to. It is a fast Variable for conditions.
func (r *Log) Scalar(at event.Moment, name string) (event.Value, bool) {
	if at < 0 || at >= r.T.Len() {
		return event.Value{}, false
	}
	c := r.T.CallOf(at)
	if c == event.NoCall {
		return event.Value{}, false
	}
	f := r.T.FunctionOf(c)
	for i := len(f.Variables) - 1; i >= 0; i-- {
		v := &f.Variables[i]
		if v.Name != name || !r.Visible(*v, c, at) {
			continue
		}
		id := event.VariableID(i)
		m := r.lastWrite(c, id, at)
		if m == event.NoMoment || v.Scope == event.Global || r.T.Kind(m) == event.Cell || v.Scope == event.Local && r.Recorded() && r.stale(*v, c, m, at) {
			return event.Value{}, false
		}
		value, err := r.ValueWritten(m, id, f, 0, at)
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
