package origin

import (
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// argument explains a parameter by the argument of the caller.
func (x *explainer) argument(o replay.Origin, c event.CallID, v event.VariableID, w wanted, depth int) replay.Origin {
	o.Kind = replay.FromArgument
	call := x.r.T.Call(c)
	o.Place = x.place(call.Enter)
	parameter := x.r.T.FunctionOf(c).Variables[v].Name
	if call.Parent == event.NoCall {
		return x.started(o, c, v, w, depth)
	}
	line := x.r.T.LastLine(call.Parent, call.Enter)
	if line == event.NoMoment {
		o.From = []replay.Origin{{Name: parameter, Kind: replay.FromUnrecorded, Value: o.Value, Place: o.Place, Note: "the call came before the caller's first line"}}
		return o
	}
	f, ok := x.passes(x.r.T.Site(line), c, v)
	if !ok {
		// A deferred call runs long after its arguments were evaluated.
		lines := x.r.T.CallLines(call.Parent)
		for i, n := lines.Before(line)-1, 0; i >= 0 && n < maxPassingLines && !ok; i, n = i-1, n+1 {
			if f, ok = x.passes(x.r.T.Site(lines.At(i)), c, v); ok {
				line = lines.At(i)
			}
		}
	}
	if !ok {
		o.From = []replay.Origin{{Name: parameter, Kind: replay.FromInput, Value: o.Value, Place: x.place(line), Note: "passed by code that is not recorded, which this line called"}}
		return o
	}
	o.From = x.flow(f, call.Parent, line, call.Enter, w, depth)
	return o
}

// passes finds the flow of a line that passes a parameter to a call.
func (x *explainer) passes(site *event.Site, c event.CallID, v event.VariableID) (event.Flow, bool) {
	function := x.r.T.FunctionOf(c)
	name := function.Variables[v].Name
	var of []event.Flow
	for _, f := range site.Flows {
		if f.Kind == event.FlowArgument && calledBy(function.Name, f.Callee) {
			of = append(of, f)
			if f.Target == name {
				return f, true
			}
		}
	}
	if i := slices.Index(function.Parameters, v); i >= 0 && len(of) == len(function.Parameters) {
		return of[i], true
	}
	return event.Flow{}, false
}

// calledBy reports whether the name of a call in the source can be that of a function. A name that
// begins with a dot is a method of any type; an empty one is a function value.
func calledBy(function, callee string) bool {
	switch {
	case callee == "":
		return true
	case strings.HasPrefix(callee, "."):
		return strings.HasSuffix(function, callee)
	}
	return function == callee || strings.HasPrefix(function, callee+"[")
}

// started explains a parameter of a goroutine's first function by the go
// statement that started it.
func (x *explainer) started(o replay.Origin, c event.CallID, v event.VariableID, w wanted, depth int) replay.Origin {
	call := x.r.T.Call(c)
	th := x.r.T.ThreadInfo(call.Thread)
	o.Note = "its goroutine was started by " + th.Creator
	starts, ok := x.r.Starts(call.Thread)
	if !ok {
		o.Kind, o.Note = replay.FromInput, "passed by code that is not recorded"
		return o
	}
	first, _ := x.r.T.Span(call.Thread)
	best, bestFlow := event.NoMoment, event.Flow{}
	for _, m := range starts {
		f, passes := x.passes(x.r.T.Site(m), c, v)
		if !passes {
			continue
		}
		if best == event.NoMoment {
			best, bestFlow = m, f
		}
		if x.gives(f, m, *w.whole()) {
			best, bestFlow = m, f
			break
		}
	}
	if best == event.NoMoment {
		return o
	}
	o.From = x.flow(bestFlow, x.r.T.CallOf(best), best, first, w, depth)
	return o
}

// gives reports whether the only name that a flow reads has a given value at a moment.
func (x *explainer) gives(f event.Flow, m event.Moment, v replay.Value) bool {
	if len(f.Reads) != 1 {
		return false
	}
	p, err := replay.ParsePath(f.Reads[0])
	if err != nil {
		return false
	}
	_, got, err := x.r.ScopeOf(x.r.T.CallOf(m), m).Locate(p, []replay.Value{v})
	return err == nil && replay.Identity(got.Value) == replay.Identity(v.Value)
}

// returned explains a result by the line that returned it.
func (x *explainer) returned(o replay.Origin, c event.CallID, result int, w wanted, depth int) replay.Origin {
	call := x.r.T.Call(c)
	o.Place = x.place(call.Leave)
	line := x.r.T.LastLine(c, call.Leave)
	if line == event.NoMoment || depth <= 0 {
		o.More = depth <= 0
		return o
	}
	if later, ok := x.afterReturn(c, result, line, w, depth); ok {
		o.From = []replay.Origin{later}
		return o
	}
	for _, f := range x.r.T.Site(line).Flows {
		if f.Kind == event.FlowResult && f.Target == strconv.Itoa(result) {
			o.From = append(o.From, x.flow(f, c, line, call.Leave, w, depth-computes(f))...)
		}
	}
	// A result that was chosen, or that is nothing, was decided by a condition.
	if isNothing(o.Value) || len(o.From) > 0 && !slices.ContainsFunc(o.From, isComputed) {
		conditions, _ := x.decided("", c, line, call.Leave, depth)
		o.From = append(o.From, conditions...)
	}
	return o
}

// afterReturn explains a result that a deferred function changed after the return.
func (x *explainer) afterReturn(c event.CallID, result int, line event.Moment, w wanted, depth int) (replay.Origin, bool) {
	function := x.r.T.FunctionOf(c)
	if result >= len(function.Results) {
		return replay.Origin{}, false
	}
	v := function.Variables[function.Results[result]]
	left := x.r.T.Call(c).Leave
	s := x.r.ScopeOf(c, left-1)
	l, value, err := s.Locate(replay.Path{Root: v.Name}, nil)
	if err != nil || v.Line > v.EndLine {
		return replay.Origin{}, false
	}
	g, ok := x.r.LastWriteOf(x.ctx, l, left-1)
	if !ok || g.At <= line || x.r.T.CallOf(g.At) == c {
		return replay.Origin{}, false
	}
	shown, l, value, _ := refine(s, v.Name, l, value, w)
	return x.explain(shown, l, value, left-1, depth), true
}
