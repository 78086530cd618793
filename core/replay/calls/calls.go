// Package calls reads recorded calls as a whole: arguments, results, what they changed, and what they called.
package calls

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/state"
)

// Lister reads the calls of a timeline.
type Lister struct {
	find.Finder
	kept *state.Kept
}

// New returns a reader of calls.
func New(f find.Finder) Lister { return Lister{f, &state.Kept{}} }

// memory is that of a moment.
func (r Lister) memory(process uint16, at event.Moment) replay.Memory {
	return r.MemoryKept(process, at, r.kept)
}

// variable returns a variable of a call at a moment.
func (r Lister) variable(f *event.Function, id event.VariableID, c event.CallID, at event.Moment) replay.Variable {
	v := r.VariableOf(f.Variables[id], id, f, c, at)
	v.Value.Memory = r.memory(r.T.Call(c).Process, at)
	return v
}

// mostInner limits the inner calls of a call that are listed.
const mostInner = 100_000

// MadeCall implements replay.Calls.
func (r Lister) MadeCall(ctx context.Context, at event.Moment, t event.ThreadID, frame int) (replay.MadeCall, error) {
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return replay.MadeCall{}, err
	}
	return r.made(ctx, c)
}

// MadeCalls implements replay.Calls.
func (r Lister) MadeCalls(ctx context.Context, function string, page replay.Page) ([]replay.MadeCall, int, error) {
	hits, err := r.Hits(ctx, replay.Checkpoint{Kind: "enter", About: function}, page)
	if err != nil {
		return nil, 0, err
	}
	var list []replay.MadeCall
	for _, m := range hits.Page {
		x, err := r.made(ctx, r.T.CallOf(m))
		if err != nil {
			return nil, 0, err
		}
		list = append(list, x)
	}
	return list, hits.Total, nil
}

// made reads a call.
func (r Lister) made(ctx context.Context, c event.CallID) (out replay.MadeCall, err error) {
	if !r.Recorded() {
		return out, fmt.Errorf("%w: only an execution log has calls that can be made again", fault.NoHistory)
	}
	call := r.T.Call(c)
	f := r.T.FunctionOf(c)
	out = replay.MadeCall{Call: c, Function: *f, File: r.T.Files[f.File].Path, Thread: call.Thread, Enter: call.Enter, End: event.NoMoment, Outcome: r.outcome(c)}
	if out.Outcome != replay.IsUnfinished {
		out.End = call.Leave
	}
	for _, id := range f.Parameters {
		v := r.variable(f, id, c, call.Enter)
		out.Parameters = append(out.Parameters, v)
		if out.Outcome != replay.IsUnfinished {
			v.Value.Memory = r.memory(call.Process, out.End)
		}
		out.After = append(out.After, v)
	}
	switch out.Outcome {
	case replay.DidReturn:
		out.Results = r.results(c)
	case replay.DidPanic:
		out.Panic = r.panicText(c)
	}
	out.Reached = map[string]map[int]replay.LineRun{}
	r.reach(c, out.Reached)
	if out.Held, err = r.held(ctx, c); err != nil {
		return out, err
	}
	return out, r.inside(ctx, &out)
}

// held lists the locks that a call gives back without having taken them.
func (r Lister) held(ctx context.Context, c event.CallID) (list []replay.OuterLock, err error) {
	call := r.T.Call(c)
	type lock struct {
		address uint64
		read    bool
	}
	taken := map[lock]int{}
	n := 0
	for m := range r.T.Walk(call.Thread, call.Enter, false) {
		if n++; n%65536 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if m > call.Leave {
			break
		}
		kind := r.T.Kind(m)
		if kind != event.Wait && kind != event.Release {
			continue
		}
		op := event.Op(r.T.ID(m))
		x := lock{r.T.Event(m).Address, op == event.OpReadLock || op == event.OpReadUnlock}
		switch {
		case x.address == 0:
		case op == event.OpLock || op == event.OpReadLock:
			taken[x]++
		case (op == event.OpUnlock || op == event.OpReadUnlock) && taken[x] > 0:
			taken[x]--
		case op == event.OpUnlock || op == event.OpReadUnlock:
			list = append(list, replay.OuterLock{Address: x.address, Read: x.read, IsCertain: r.holds(call.Process, x.address, x.read, call.Thread, call.Enter)})
		}
	}
	return list, nil
}

// holds reports whether a thread holds a lock at a moment: it took it, and it was not given back since.
func (r Lister) holds(process uint16, address uint64, read bool, thread event.ThreadID, at event.Moment) bool {
	take, give := event.OpLock, event.OpUnlock
	if read {
		take, give = event.OpReadLock, event.OpReadUnlock
	}
	given := 0
	for m := range r.T.SyncEvents(process, address, at) {
		switch kind, op := r.T.Kind(m), event.Op(r.T.ID(m)); {
		case read && r.T.Thread(m) != thread:
		case kind == event.Release && op == give:
			given++
		case kind == event.Wait && op == take && given > 0:
			given--
		case kind == event.Wait && op == take:
			return r.T.Thread(m) == thread
		}
	}
	return false
}

// reach adds the lines that a call reached.
func (r Lister) reach(c event.CallID, lines map[string]map[int]replay.LineRun) {
	file := r.T.Files[r.T.FunctionOf(c).File].Path
	list := r.T.CallLines(c)
	if lines[file] == nil && list.Len() > 0 {
		lines[file] = map[int]replay.LineRun{}
	}
	for i := range list.Len() {
		m := list.At(i)
		line := r.T.Site(m).Line
		x, ok := lines[file][line]
		if !ok || m < x.First {
			x.First = m
		}
		x.Hits++
		lines[file][line] = x
	}
}

// outcome returns how a call ended.
func (r Lister) outcome(c event.CallID) replay.Outcome {
	leave := r.T.Call(c).Leave
	if leave == event.NoMoment || leave >= r.T.Len() {
		return replay.IsUnfinished
	}
	switch r.T.Kind(leave) {
	case event.Leave:
		return replay.DidReturn
	case event.Unwind:
		if r.panicOf(c) != event.NoMoment {
			return replay.DidPanic
		}
	}
	return replay.IsUnfinished
}

// results returns the results of a call that returned.
func (r Lister) results(c event.CallID) (list []replay.Variable) {
	f := r.T.FunctionOf(c)
	for _, id := range f.Results {
		list = append(list, r.variable(f, id, c, r.T.Call(c).Leave))
	}
	return list
}

// panicOf returns the moment of the last panic of a call's thread before the call was left; event.NoMoment if there is none.
func (r Lister) panicOf(c event.CallID) event.Moment {
	call := r.T.Call(c)
	for m := range r.T.Walk(call.Thread, call.Leave, true) {
		if m < call.Enter {
			break
		}
		if r.T.Kind(m) == event.Panic {
			return m
		}
	}
	return event.NoMoment
}

// panicText returns what a panic prints for its value; empty if that is not known.
func (r Lister) panicText(c event.CallID) string {
	m := r.panicOf(c)
	values, err := r.T.Values(m)
	if err != nil || len(values) == 0 {
		return r.Text(m)
	}
	v := replay.Value{Value: values[0], Memory: r.memory(r.T.Call(c).Process, m)}
	if v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.With(v.Items[0])
	}
	if v.State == event.Known && v.Type != nil && v.Whole == 0 {
		switch v.Type.Name {
		case "string":
			return v.Value.Text
		case "int":
			return strconv.FormatInt(v.Int, 10)
		}
	}
	return r.ErrorText(v)
}

// inside lists what a call called, and the package variables that it names.
func (r Lister) inside(ctx context.Context, out *replay.MadeCall) error {
	call := r.T.Call(out.Call)
	functions := []event.FunctionID{call.Function}
	list := r.T.ThreadCalls(call.Thread)
	within := map[event.CallID]bool{out.Call: true}
	for i := list.After(event.Moment(out.Call)); i < list.Len(); i++ {
		c := event.CallID(list.At(i))
		x := r.T.Call(c)
		if out.End != event.NoMoment && x.Enter > out.End {
			break
		}
		if !within[x.Parent] {
			continue
		}
		if i%4096 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if len(out.Inner) == mostInner {
			out.More = true
			break
		}
		within[c] = true
		r.reach(c, out.Reached)
		functions = append(functions, x.Function)
		f := r.T.FunctionOf(c)
		inner := replay.InnerCall{Call: c, Parent: x.Parent, Function: f.Name, Outcome: r.outcome(c)}
		if isMethod(f.Name) && len(f.Parameters) > 0 {
			inner.Receiver = r.variable(f, f.Parameters[0], c, x.Enter).Value
		}
		if inner.Outcome == replay.DidReturn {
			inner.Results = r.results(c)
		}
		out.Inner = append(out.Inner, inner)
	}
	slices.Sort(functions)
	r.globals(out, slices.Compact(functions))
	return nil
}

// globals lists the package variables that functions name, and those that others name and that hold an error or a pointer.
func (r Lister) globals(out *replay.MadeCall, used []event.FunctionID) {
	seen, started := map[string]bool{}, r.started(r.T.Call(out.Call).Process)
	for _, id := range used {
		r.globalsOf(out, id, true, seen, started)
	}
	for _, id := range slices.Sorted(maps.Keys(r.T.Functions)) {
		r.globalsOf(out, id, false, seen, started)
	}
}

func (r Lister) globalsOf(out *replay.MadeCall, id event.FunctionID, used bool, seen map[string]bool, started event.Moment) {
	f := r.T.Function(id)
	for i, v := range f.Variables {
		short, name, ok := strings.Cut(v.Name, ".")
		if v.Scope != event.Global || !ok || seen[v.Name] || !used && v.Type != "error" && !strings.HasPrefix(v.Type, "*") {
			continue
		}
		seen[v.Name] = true
		at := func(m event.Moment) replay.Value {
			return r.variable(f, event.VariableID(i), out.Call, m).Value
		}
		g := replay.MadeGlobal{Package: PackageOf(f.Name), Name: name, Before: at(out.Enter), Used: used}
		if short != g.Package[strings.LastIndexByte(g.Package, '/')+1:] {
			g.Package = short
		}
		if used {
			if out.End != event.NoMoment {
				g.After = at(out.End)
			}
		}
		g.IsFresh = sync.OnceValue(func() bool {
			return started != event.NoMoment && slices.Equal(Leaves(name, at(started)), Leaves(name, g.Before))
		})
		out.Globals = append(out.Globals, g)
	}
}

// SourceFiles implements replay.Calls.
func (r Lister) SourceFiles() (list []string) {
	for _, f := range r.T.Files {
		if f.Text != "" {
			list = append(list, f.Path)
		}
	}
	slices.Sort(list)
	return list
}

// PackageOf returns the import path in a function's name.
func PackageOf(function string) string {
	slash := strings.LastIndexByte(function, '/') + 1
	if dot := strings.IndexByte(function[slash:], '.'); dot >= 0 {
		return function[:slash+dot]
	}
	return function
}

// started returns the moment at which the initialisation of a process is over; event.NoMoment if that is not in the log.
func (r Lister) started(process uint16) event.Moment {
	for c := range event.CallID(r.T.Calls()) {
		x := r.T.Call(c)
		if x.Process != process || x.Parent != event.NoCall {
			continue
		}
		if name := r.T.FunctionOf(c).Name; !isInit(name) {
			return x.Enter
		}
	}
	return event.NoMoment
}

// isInit reports whether a function initialises a package.
func isInit(name string) bool {
	last := name[len(PackageOf(name)):]
	return last == ".init" || strings.HasPrefix(last, ".init.")
}

// isMethod reports whether a function has a receiver, unless it is a literal in one.
func isMethod(name string) bool {
	last := strings.TrimPrefix(name[len(PackageOf(name)):], ".")
	if end := strings.Index(last, ")."); strings.HasPrefix(last, "(") && end > 0 {
		return !strings.ContainsAny(last[end+2:], ".-")
	}
	of, method, ok := strings.Cut(last, ".")
	return ok && of != "init" && !strings.ContainsAny(method, ".-") && !literalName.MatchString(method)
}

// literalName matches the name of a function literal in a function.
var literalName = regexp.MustCompile(`^func\d+$`)
