package replay

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"wraithology/core/event"
)

// OriginKind says where a value came from.
type OriginKind string

// The kinds of origin.
const (
	FromWrite      OriginKind = "write"      // a line stored it
	FromArgument   OriginKind = "argument"   // a caller passed it
	FromResult     OriginKind = "result"     // a call returned it
	FromConstant   OriginKind = "constant"   // it stands in the source
	FromInput      OriginKind = "input"      // code that is not recorded made it
	FromUnrecorded OriginKind = "unrecorded" // nothing says where it came from
	FromRepeat     OriginKind = "repeat"     // it stands elsewhere in the chain
)

// Origin is a value and the write that gave it, with the values that it was
// computed from. Note says in words what kind and value do not. More is set
// where there is more to explain than the depth asked for.
type Origin struct {
	Name  string
	Kind  OriginKind
	Value Value
	Place
	Note string
	More bool
	From []Origin
	// Asked is where, and by which path, the value was read: from there the chain
	// can be asked for again.
	Asked Asked
}

// Asked is a path as it is reached at a moment from the innermost frame.
type Asked struct {
	At     event.Moment
	Thread event.ThreadID
	Frame  int
	Path   string
}

// Bounds of an origin chain.
const (
	maxOriginDepth  = 64
	maxOriginNodes  = 600
	foldedFromSite  = 3       // times that one line may stand in a chain before it is folded
	maxFolded       = 100_000 // writes that are folded together
	maxPassingLines = 512     // lines of a caller that are looked at for a deferred call
	maxStarts       = 256     // go statements that are compared with a goroutine's arguments
	maxOriginSteps  = 400     // steps of one chain, also those that compute nothing
)

// explainer puts one chain together.
type explainer struct {
	ctx   context.Context
	r     *logRecording
	seen  map[string]bool
	sites map[event.SiteID]int
	nodes int
	steps int
}

// Origin implements Replay.
func (r *logRecording) Origin(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, depth int) (Origin, error) {
	l, v, err := r.locatePath(path, at, t, frame)
	if err != nil {
		return Origin{}, err
	}
	x := &explainer{ctx: ctx, r: r, seen: map[string]bool{}, sites: map[event.SiteID]int{}}
	o := x.explain(strings.TrimSpace(path), l, v, at, min(max(depth, 1), maxOriginDepth))
	o.Asked = Asked{at, t, frame, strings.TrimSpace(path)}
	return o, ctx.Err()
}

func (x *explainer) place(at event.Moment) Place {
	p, _ := x.r.Place(at)
	return p
}

// explain finds the write that gave a location its value, and goes on from there.
func (x *explainer) explain(name string, l location, v Value, at event.Moment, depth int) Origin {
	o := Origin{Name: name, Kind: FromUnrecorded, Value: v, Place: x.place(max(at, 0))}
	o.Asked = Asked{At: at, Thread: o.Thread, Path: name}
	x.nodes++
	x.steps++
	defer func() { x.steps-- }()
	if x.ctx.Err() != nil || x.nodes > maxOriginNodes || x.steps > maxOriginSteps {
		o.More = true
		return o
	}
	if v.State != event.Known {
		o.Note = "the value is " + string(v.State)
		return o
	}
	g, ok := x.r.lastWrite(x.ctx, l, at)
	if !ok {
		o.Note = "nothing in the log says who wrote it"
		return o
	}
	o.Place = x.place(g.at)
	key := l.key() + fmt.Sprint(" ", g.at)
	if x.seen[key] {
		o.Kind, o.Note = FromRepeat, "explained elsewhere in this chain"
		return o
	}
	x.seen[key] = true
	if depth <= 0 {
		o.Kind, o.More = FromWrite, true
		if x.r.t.Kind(g.at) == event.Enter {
			o.Kind = FromArgument
		}
		return o
	}
	w := x.r.wantedAt(l, g, v)
	c := x.r.t.CallOf(g.at)
	if c == event.NoCall {
		o.Note = "it was written outside recorded code"
		return o
	}
	switch k := x.r.t.Kind(g.at); {
	case k == event.Enter:
		return x.argument(o, c, l.variable, w, depth)
	case k == event.Leave:
		o.Kind = FromResult
		result := max(slices.Index(x.r.t.FunctionOf(c).Results, l.variable), 0)
		return x.returned(o, c, result, w, depth)
	}
	line := x.r.t.LastLine(c, g.at-1)
	if line == event.NoMoment || line < x.r.t.Call(c).Enter {
		return x.beforeFirstLine(o, c, g, w, depth)
	}
	return x.written(o, l, c, line, g, w, depth)
}

// beforeFirstLine explains what a call says before its first line: a parameter
// that others may refer to, or a variable that it shares with the code around it.
func (x *explainer) beforeFirstLine(o Origin, c event.CallID, g given, w wanted, depth int) Origin {
	if x.r.t.Kind(g.at) == event.Cell {
		v := event.VariableID(x.r.t.ID(g.at))
		f := x.r.t.FunctionOf(c)
		if slices.Contains(f.Parameters, v) {
			return x.argument(o, c, v, w, depth)
		}
	}
	p := x.r.t.Call(c).Parent
	line := event.NoMoment
	if p != event.NoCall {
		line = x.r.t.LastLine(p, x.r.t.Call(c).Enter)
	}
	if line != event.NoMoment {
		// An argument refers to it: what the caller's line made is what it holds.
		o.Kind, o.Place = FromWrite, x.place(line)
		o.Note = "first seen as " + x.r.functionName(c) + " was called"
		site := x.r.t.Site(line)
		flows := x.matching(site, o.Name)
		if v, ok := x.refersTo(c, g); ok {
			if f, ok := x.passes(site, c, v); ok {
				flows = []event.Flow{f}
			}
		}
		for _, f := range flows {
			o.From = append(o.From, x.flow(f, p, line, x.r.t.Call(c).Enter, w, depth-1)...)
		}
		return o
	}
	o.Kind, o.Note = FromInput, "it was there when "+x.r.functionName(c)+" began"
	return o
}

// refersTo finds the parameter of a call that refers to the memory that an event
// tells of.
func (x *explainer) refersTo(c event.CallID, g given) (event.VariableID, bool) {
	values, err := x.r.t.Values(x.r.t.Call(c).Enter)
	if err != nil {
		return 0, false
	}
	address := x.r.t.Event(g.at).Address
	types := x.r.t.Types(x.r.t.Call(c).Process)
	for i, v := range x.r.t.FunctionOf(c).Parameters {
		if i >= len(values) || values[i].Address == 0 || values[i].Type == nil {
			continue
		}
		size := uint64(1)
		if e := types(values[i].Type.Elem); e != nil {
			size = e.Size * max(values[i].Length, 1)
		}
		if values[i].Address <= address && address < values[i].Address+size {
			return v, true
		}
	}
	return 0, false
}

// written explains a value that a line stored.
func (x *explainer) written(o Origin, l location, c event.CallID, line event.Moment, g given, w wanted, depth int) Origin {
	o.Kind = FromWrite
	site := event.SiteID(x.r.t.ID(line))
	x.sites[site]++
	defer func() { x.sites[site]-- }()
	if x.sites[site] > foldedFromSite {
		return x.fold(o, l, site, g, depth)
	}
	for _, f := range x.flowsInto(o.Name, l, c, line, g) {
		o.From = append(o.From, x.flow(f, c, line, g.at, w, depth-computes(f))...)
	}
	if len(o.From) == 0 {
		o.Note = "the log does not say what this line computes it from"
	}
	return o
}

// computes is 1 for an expression that computes something, and 0 for one that
// only hands a value on: only computing takes away from the depth of a chain.
func computes(f event.Flow) int {
	if len(f.Reads)+len(f.Calls)+len(f.Receives) == 1 && len(f.Foreign) == 0 {
		if len(f.Calls)+len(f.Receives) == 1 || f.Text == f.Reads[0] || strings.Contains(f.Reads[0], "[") {
			return 0
		}
	}
	return 1
}

// fold passes over the writes of a location that one line made time and again,
// and goes on from the write before them.
func (x *explainer) fold(o Origin, l location, site event.SiteID, g given, depth int) Origin {
	o.Kind = FromRepeat
	n := 1
	for ; n < maxFolded; n++ {
		before, ok := x.r.lastWrite(x.ctx, l, g.at-1)
		if !ok || x.startsAnew(site) && x.begins(g) { // the line gave the first value as well
			c := x.r.t.CallOf(g.at)
			if line := x.r.t.LastLine(c, g.at-1); line != event.NoMoment {
				w := x.r.wantedAt(l, g, x.r.whole(l, g))
				for _, f := range x.flowsInto(o.Name, l, c, line, g) {
					o.From = append(o.From, x.flow(f, c, line, g.at, w, depth-1)...)
				}
			}
			break
		}
		c := x.r.t.CallOf(before.at)
		if c == event.NoCall {
			break
		}
		line := x.r.t.LastLine(c, before.at)
		if line == event.NoMoment || event.SiteID(x.r.t.ID(line)) != site {
			v := x.r.whole(l, before)
			o.From = append(o.From, x.explain(o.Name, l, v, before.at, depth-1))
			break
		}
		g = before
	}
	o.Note = fmt.Sprintf("and so on: the same line wrote it %d times before", n)
	return o
}

// startsAnew reports whether a line both gives a first value and goes on from it,
// as the head of a loop does.
func (x *explainer) startsAnew(id event.SiteID) bool {
	anew, on := false, false
	for _, f := range x.r.t.Sites[id].Flows {
		if f.Kind == event.FlowAssign {
			itself := slices.Contains(f.Reads, f.Target)
			anew, on = anew || !itself, on || itself
		}
	}
	return anew && on
}

// flowsInto finds, among the flows of a line, those that go into a location.
func (x *explainer) flowsInto(name string, l location, c event.CallID, line event.Moment, g given) []event.Flow {
	site := x.r.t.Site(line)
	written := ""
	switch k := x.r.t.Kind(g.at); {
	case k == event.Write || k == event.Cell:
		if f := x.r.t.FunctionOf(c); int(x.r.t.ID(g.at)) < len(f.Variables) {
			written = f.Variables[x.r.t.ID(g.at)].Name
		}
	case k == event.Memory || k == event.Spread || k == event.Entries:
		return x.matching(site, name) // the line made it, or foreign code on it did
	}
	var exact, byName []event.Flow
	for _, f := range site.Flows {
		if f.Kind != event.FlowAssign && f.Kind != event.FlowYield {
			continue
		}
		if written != "" {
			if f.Target == written || strings.HasSuffix(written, "."+f.Target) {
				exact = append(exact, f)
			} else if strings.HasPrefix(f.Target, written+".") || strings.HasPrefix(f.Target, written+"[") {
				byName = append(byName, f)
			}
			continue
		}
		p, err := ParsePath(f.Target)
		if err != nil {
			continue
		}
		for _, at := range []event.Moment{line, g.at} {
			if to, _, err := (scope{x.r, c, at}).locate(p, nil); err == nil && to.key() == l.whole().key() {
				exact = append(exact, f)
				break
			}
		}
		if lastStep(f.Target) == lastStep(name) {
			byName = append(byName, f)
		}
	}
	switch {
	case len(exact) > 1:
		return x.ofThisTime(exact, g)
	case len(exact) > 0:
		return exact
	case len(byName) > 0:
		return byName
	}
	return x.matching(site, name)
}

// ofThisTime picks, where a line stores to the same place in more than one way,
// the way of this time: the head of a loop stores a first value when the loop
// begins, and goes on from the value before in all later rounds.
func (x *explainer) ofThisTime(flows []event.Flow, g given) []event.Flow {
	var first, further []event.Flow
	for _, f := range flows {
		if slices.Contains(f.Reads, f.Target) {
			further = append(further, f)
		} else {
			first = append(first, f)
		}
	}
	if len(first) == 0 || len(further) == 0 {
		return flows
	}
	if x.begins(g) {
		return first
	}
	return further
}

// begins reports whether a write by the head of a loop is the first one of a run
// of the loop: the call then came to the line from above it.
func (x *explainer) begins(g given) bool {
	c := x.r.t.CallOf(g.at)
	lines := x.r.t.CallLines(c)
	i := lines.Before(g.at - 1)
	return i < 1 || x.r.t.Site(lines.At(i-1)).Line < x.r.t.Site(lines.At(i)).Line
}

// lastStep returns the last field of a path as it stands in the source.
func lastStep(path string) string {
	if i := strings.LastIndexAny(path, ".]"); i >= 0 && path[i] == '.' {
		return path[i+1:]
	} else if i >= 0 {
		return "[]"
	}
	return strings.TrimLeft(path, "*&")
}

// matching picks the flows of a line that may have made what a name stands for:
// a part of a value that is made there, else whatever the line assigns.
func (x *explainer) matching(site *event.Site, name string) []event.Flow {
	var parts, assigned []event.Flow
	for _, f := range site.Flows {
		switch {
		case f.Kind == event.FlowPart && f.Target == lastStep(name):
			parts = append(parts, f)
		case (f.Kind == event.FlowAssign || f.Kind == event.FlowResult) && f.Target != "_":
			assigned = append(assigned, f)
		}
	}
	if len(parts) > 0 {
		return parts
	}
	if len(assigned) > 0 {
		return assigned
	}
	var made, given []event.Flow
	for _, f := range site.Flows {
		switch f.Kind {
		case event.FlowArgument:
			made = append(made, f)
		case event.FlowForeign:
			given = append(given, f)
		}
	}
	if len(made) > 0 {
		return made
	}
	return given
}

// argument explains a parameter by what the caller passed.
func (x *explainer) argument(o Origin, c event.CallID, v event.VariableID, w wanted, depth int) Origin {
	o.Kind = FromArgument
	call := x.r.t.Call(c)
	o.Place = x.place(call.Enter)
	parameter := x.r.t.FunctionOf(c).Variables[v].Name
	if call.Parent == event.NoCall {
		return x.started(o, c, v, w, depth)
	}
	line := x.r.t.LastLine(call.Parent, call.Enter)
	if line == event.NoMoment {
		o.From = []Origin{{Name: parameter, Kind: FromUnrecorded, Value: o.Value, Place: o.Place, Note: "the call came before the caller's first line"}}
		return o
	}
	f, ok := x.passes(x.r.t.Site(line), c, v)
	if !ok {
		// A deferred call runs long after the line that gave its arguments.
		lines := x.r.t.CallLines(call.Parent)
		for i, n := lines.Before(line)-1, 0; i >= 0 && n < maxPassingLines && !ok; i, n = i-1, n+1 {
			if f, ok = x.passes(x.r.t.Site(lines.At(i)), c, v); ok {
				line = lines.At(i)
			}
		}
	}
	if !ok {
		o.From = []Origin{{Name: parameter, Kind: FromInput, Value: o.Value, Place: x.place(line), Note: "passed by code that is not recorded, which this line called"}}
		return o
	}
	o.From = x.flow(f, call.Parent, line, call.Enter, w, depth)
	return o
}

// passes finds the flow by which a line passes a parameter to a call.
func (x *explainer) passes(site *event.Site, c event.CallID, v event.VariableID) (event.Flow, bool) {
	function := x.r.t.FunctionOf(c)
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

// calledBy reports whether a call in the source, by its name, may be one of a
// function. A name that begins with a dot is that of a method, whoever has it;
// an empty one stands for a function value.
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
func (x *explainer) started(o Origin, c event.CallID, v event.VariableID, w wanted, depth int) Origin {
	call := x.r.t.Call(c)
	th := x.r.t.ThreadInfo(call.Thread)
	o.Note = "its goroutine was started by " + th.Creator
	of, file, line, ok := parseCreator(th.Creator)
	if !ok {
		o.Kind, o.Note = FromInput, "passed by code that is not recorded"
		return o
	}
	first, _ := x.r.t.Span(call.Thread)
	best, bestFlow := event.NoMoment, event.Flow{}
	for id, s := range x.r.t.Sites {
		f, passes := x.passes(&s, c, v)
		if s.Line != line || !passes || !strings.HasSuffix(file, x.r.t.Files[x.r.t.Function(s.Function).File].Path) {
			continue
		}
		list := x.r.t.SiteMoments(id)
		for i, n := list.Before(first), 0; i >= 0 && n < maxStarts; i, n = i-1, n+1 {
			m := list.At(i)
			if of != 0 && x.r.t.ThreadInfo(x.r.t.Thread(m)).Number != of {
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
	}
	if best == event.NoMoment {
		return o
	}
	o.From = x.flow(bestFlow, x.r.t.CallOf(best), best, first, w, depth)
	return o
}

// gives reports whether the only name that a flow reads has a value at a moment.
func (x *explainer) gives(f event.Flow, m event.Moment, v Value) bool {
	if len(f.Reads) != 1 {
		return false
	}
	p, err := ParsePath(f.Reads[0])
	if err != nil {
		return false
	}
	_, got, err := scope{x.r, x.r.t.CallOf(m), m}.locate(p, []Value{v})
	return err == nil && identity(got.Value) == identity(v.Value)
}

// parseCreator reads "function in goroutine 7 at /path/file.go:12".
func parseCreator(s string) (goroutine uint64, file string, line int, ok bool) {
	i := strings.LastIndex(s, " at ")
	if i < 0 {
		return 0, "", 0, false
	}
	if j := strings.Index(s, " in goroutine "); j >= 0 && j < i {
		goroutine, _ = strconv.ParseUint(s[j+len(" in goroutine "):i], 10, 64)
	}
	place := s[i+len(" at "):]
	colon := strings.LastIndexByte(place, ':')
	if colon < 0 {
		return 0, "", 0, false
	}
	line, err := strconv.Atoi(place[colon+1:])
	return goroutine, place[:colon], line, err == nil
}

// returned explains a result by the line that returned it.
func (x *explainer) returned(o Origin, c event.CallID, result int, w wanted, depth int) Origin {
	call := x.r.t.Call(c)
	o.Place = x.place(call.Leave)
	line := x.r.t.LastLine(c, call.Leave)
	if line == event.NoMoment || depth <= 0 {
		o.More = depth <= 0
		return o
	}
	if later, ok := x.afterReturn(c, result, line, w, depth); ok {
		o.From = []Origin{later}
		return o
	}
	for _, f := range x.r.t.Site(line).Flows {
		if f.Kind == event.FlowResult && f.Target == strconv.Itoa(result) {
			o.From = append(o.From, x.flow(f, c, line, call.Leave, w, depth-computes(f))...)
		}
	}
	return o
}

// afterReturn explains a result that a deferred function has changed after the
// line that returned it.
func (x *explainer) afterReturn(c event.CallID, result int, line event.Moment, w wanted, depth int) (Origin, bool) {
	function := x.r.t.FunctionOf(c)
	if result >= len(function.Results) {
		return Origin{}, false
	}
	v := function.Variables[function.Results[result]]
	left := x.r.t.Call(c).Leave
	s := scope{x.r, c, left - 1}
	l, value, err := s.locate(Path{Root: v.Name}, nil)
	if err != nil || v.Line > v.EndLine {
		return Origin{}, false
	}
	g, ok := x.r.lastWrite(x.ctx, l, left-1)
	if !ok || g.at <= line || x.r.t.CallOf(g.at) == c {
		return Origin{}, false
	}
	shown, l, value, _ := s.refine(v.Name, l, value, w)
	return x.explain(shown, l, value, left-1, depth), true
}

// flow explains what an expression on a line was computed from. The line ran in
// the call from the moment of the line to until.
func (x *explainer) flow(f event.Flow, c event.CallID, line, until event.Moment, w wanted, depth int) []Origin {
	var out []Origin
	for _, part := range x.partOf(f, line, w) {
		part.Kind = event.FlowAssign // a part of it needs no parts of its own
		out = append(out, x.flow(part, c, line, until, w.part(), depth)...)
	}
	if len(out) > 0 {
		return out
	}
	for _, name := range x.chosen(f, c, line, w) {
		if o, related := x.read(name, c, line, until, w, depth); related || len(f.Reads) == 1 {
			out = append(out, o)
		}
	}
	out = append(out, x.calls(f, c, line, until, w, depth)...)
	if f.Kind == event.FlowYield {
		if yielded, ok := x.yielded(f, c, until, w, depth); ok {
			return yielded
		}
	}
	for _, name := range f.Receives {
		if o, is := x.received(name, c, line, until, w, depth); is || len(f.Receives) == 1 {
			out = append(out, o)
		}
	}
	if f.Kind == event.FlowForeign {
		x.nodes++
		out = append(out, Origin{Name: f.Text, Kind: FromInput, Value: Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "changed by code that is not recorded"})
		return out
	}
	for _, text := range f.Foreign {
		x.nodes++
		out = append(out, Origin{Name: text, Kind: FromInput, Value: Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "computed by code that is not recorded"})
	}
	if len(f.Reads)+len(f.Calls)+len(f.Receives)+len(f.Foreign) == 0 {
		x.nodes++
		out = append(out, Origin{Name: f.Text, Kind: FromConstant, Value: *w.leaf(), Place: x.place(line)})
	}
	return out
}

// chosen picks, of what a line puts together into a list, the names that hold
// the element that is looked for; of any other line it picks all.
func (x *explainer) chosen(f event.Flow, c event.CallID, line event.Moment, w wanted) []string {
	several := f.Kind == event.FlowArgument && strings.Contains(f.Text, ", ") || strings.HasPrefix(f.Text, "append(")
	if !several {
		return f.Reads
	}
	is := alike(w.like())
	var out []string
	for _, name := range f.Reads {
		p, err := ParsePath(name)
		if err != nil {
			continue
		}
		if _, v, err := (scope{x.r, c, line}).locate(p, nil); err == nil && is(v.Value) {
			out = append(out, name)
		}
	}
	if len(out) == 0 {
		return f.Reads
	}
	return out
}

// partOf returns, where a line makes a struct of which one field is looked for,
// what goes into that field.
func (x *explainer) partOf(f event.Flow, line event.Moment, w wanted) []event.Flow {
	if f.Kind == event.FlowPart || len(f.Calls) > 0 || !strings.Contains(f.Text, "{") || len(w[0].steps) == 0 || w[0].steps[0].Field == "" {
		return nil
	}
	var parts []event.Flow
	for _, p := range x.r.t.Site(line).Flows {
		if p.Kind == event.FlowPart && p.Target == w[0].steps[0].Field {
			parts = append(parts, p)
		}
	}
	return parts
}

// read explains what a name on a line stood for, or the part of it that is
// looked for. related is false where it holds nothing like that.
func (x *explainer) read(name string, c event.CallID, line, until event.Moment, w wanted, depth int) (o Origin, related bool) {
	p, err := ParsePath(name)
	if err == nil {
		// What the line itself declared is there only once it has run.
		for _, at := range []event.Moment{line, until} {
			s := scope{x.r, c, at}
			var l location
			var v Value
			if p, l, v, err = s.locateKnown(p, w.like()); err != nil {
				continue
			}
			shown, l, v, related := s.refine(p.String(), l, v, w)
			return x.explain(shown, l, v, line, depth), related
		}
	}
	x.nodes++
	return Origin{Name: name, Kind: FromUnrecorded, Value: Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "its value there is not known"}, true
}

// yielded explains the variable of a loop over a function by the line that
// yielded it: the one that the innermost call has reached which the loop's call
// has made, and which is still open.
func (x *explainer) yielded(f event.Flow, c event.CallID, at event.Moment, w wanted, depth int) ([]Origin, bool) {
	list := x.r.t.ThreadCalls(x.r.t.Call(c).Thread)
	i := sort.Search(list.Len(), func(i int) bool { return x.r.t.Call(event.CallID(list.At(i))).Enter > at }) - 1
	if i < 0 {
		return nil, false
	}
	inner := event.CallID(list.At(i))
	for inner != event.NoCall && inner != c {
		if left := x.r.t.Call(inner).Leave; left == event.NoMoment || left > at {
			break
		}
		inner = x.r.t.Call(inner).Parent
	}
	if inner == event.NoCall || inner == c {
		return nil, false
	}
	line := x.r.t.LastLine(inner, at)
	if line == event.NoMoment {
		return nil, false
	}
	number := 0
	for _, y := range x.r.t.Site(line).Flows {
		if y.Kind != event.FlowArgument || y.Callee != "" {
			continue
		}
		if strconv.Itoa(number) == f.Callee {
			y.Kind = event.FlowAssign
			o := Origin{Name: "yielded by " + x.r.functionName(inner), Kind: FromResult, Value: *w.leaf(), Place: x.place(line)}
			o.From = x.flow(y, inner, line, at, w, depth)
			return []Origin{o}, true
		}
		number++
	}
	return nil, false
}

// calls explains the results of the calls that an expression uses.
func (x *explainer) calls(f event.Flow, c event.CallID, line, until event.Moment, w wanted, depth int) []Origin {
	if len(f.Calls) == 0 {
		return nil
	}
	var out []Origin
	made := x.r.callsBetween(c, line, until)
	used := map[event.CallID]bool{}
	for _, callee := range f.Calls {
		callee, number, _ := strings.Cut(callee, "#")
		result, _ := strconv.Atoi(number)
		found := event.NoCall
		for _, m := range made {
			left := x.r.t.Call(m).Leave
			if !used[m] && left != event.NoMoment && left <= until && calledBy(x.r.t.FunctionOf(m).Name, callee) {
				found = m
				break
			}
		}
		if found == event.NoCall && strings.HasSuffix(x.r.t.FunctionOf(c).Name, ".init") {
			found = x.initialiser(callee, line)
		}
		if found == event.NoCall {
			x.nodes++
			out = append(out, Origin{Name: strings.TrimPrefix(callee, ".") + "()", Kind: FromInput, Value: Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "the call is not in the log"})
			continue
		}
		used[found] = true
		x.nodes++
		o := Origin{Name: x.r.functionName(found) + "()", Kind: FromResult, Value: Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(x.r.t.Call(found).Leave)}
		of := w
		if values := x.r.returnedBy(found).Values; result < len(values) {
			o.Value = values[result]
			of = w.in(o.Value)
			if steps := of[0].steps; len(steps) > 0 {
				o.Name, o.Value = o.Name+Path{Steps: steps}.String(), *of.leaf()
			}
		}
		key := fmt.Sprint("call ", found, result, Path{Steps: of[0].steps})
		if x.seen[key] {
			o.Kind, o.Note = FromRepeat, "explained elsewhere in this chain"
		} else {
			x.seen[key] = true
			if x.ctx.Err() == nil && x.nodes < maxOriginNodes {
				o = x.returned(o, found, result, of, depth)
			}
		}
		out = append(out, o)
	}
	return out
}

// initialiser finds the call that gave a package's variable its first value: the
// last one of a function before the package's init, made by no recorded code.
func (x *explainer) initialiser(callee string, before event.Moment) event.CallID {
	for id, f := range x.r.t.Functions {
		if callee == "" || !calledBy(f.Name, callee) {
			continue
		}
		calls := x.r.t.Enters(id)
		if i := calls.Before(before); i >= 0 {
			if c := x.r.t.CallOf(calls.At(i)); x.r.t.Call(c).Parent == event.NoCall && x.r.t.Call(c).Leave != event.NoMoment {
				return c
			}
		}
	}
	return event.NoCall
}

// received explains a value that came from a channel by the statement that sent
// it. What is received is matched with what was sent by its order among equal
// values, since a channel keeps the order.
func (x *explainer) received(name string, c event.CallID, line, until event.Moment, w wanted, depth int) (o Origin, is bool) {
	x.nodes++
	o = Origin{Name: "<-" + name, Kind: FromInput, Value: Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "no recorded code sent it"}
	got := event.NoMoment
	for m := range x.r.t.Walk(x.r.t.Call(c).Thread, until+1, true) {
		if m < line {
			break
		}
		if x.r.t.Kind(m) == event.Receive {
			got = m
			break
		}
	}
	if got == event.NoMoment {
		return o, false
	}
	if p, err := ParsePath(name); err == nil {
		_, ch, err := (scope{x.r, c, line}).locate(p, nil)
		if err == nil && ch.Form() == event.Chan && ch.Address != x.r.t.Event(got).Address {
			return o, false // it came from another channel
		}
	}
	sent, value := x.r.sentFor(got)
	if sent == event.NoMoment {
		return o, true
	}
	of := w
	if value.Type != nil {
		of = w.in(value)
	}
	o = Origin{Name: "sent on " + name + Path{Steps: of[0].steps}.String(), Kind: FromWrite, Value: *of.leaf(), Place: x.place(sent)}
	sender := x.r.t.CallOf(sent)
	if sender == event.NoCall || depth <= 0 {
		o.More = depth <= 0
		return o, true
	}
	at := x.r.t.LastLine(sender, sent)
	if at == event.NoMoment {
		return o, true
	}
	for _, f := range x.r.t.Site(at).Flows {
		if f.Kind == event.FlowSend {
			o.From = append(o.From, x.flow(f, sender, at, sent, of, depth-computes(f))...)
		}
	}
	return o, true
}

// sentFor finds the send whose value a receive got.
func (r *logRecording) sentFor(got event.Moment) (event.Moment, Value) {
	e := r.t.Event(got)
	process := r.t.Process(got)
	read := func(m event.Moment) (string, Value) {
		values, err := r.t.Values(m)
		if err != nil || len(values) != 1 {
			return "", Value{}
		}
		return identity(values[0]), Value{Value: values[0], Memory: r.memoryAt(process, m, 0)}
	}
	wanted, _ := read(got)
	var sends, all []event.Moment
	receives, before := 0, 0
	for m := range r.t.SyncEvents(process, e.Address, r.t.Len()-1) {
		switch r.t.Kind(m) {
		case event.Receive:
			if m <= got {
				before++
				if id, _ := read(m); id == wanted {
					receives++
				}
			}
		case event.Send:
			all = append(all, m)
			if id, _ := read(m); id == wanted {
				sends = append(sends, m)
			}
		}
	}
	if len(sends) == 0 { // what was sent could not be recorded: only the order is left
		sends, receives = all, before
	}
	sort.Slice(sends, func(i, j int) bool { return sends[i] < sends[j] })
	if receives < 1 || receives > len(sends) {
		return event.NoMoment, Value{}
	}
	_, v := read(sends[receives-1])
	return sends[receives-1], v
}

// causes lists an error's message and those of the errors that it wraps.
func (r *logRecording) causes(v Value) []string {
	var out []string
	for range 16 {
		if v.Form() == event.Interface && len(v.Items) == 1 {
			v = v.with(v.Items[0])
		}
		if v.State != event.Known || v.Nil || v.Type == nil {
			break
		}
		text := r.errorText(v)
		if text == "" {
			text = v.Text()
		}
		out = append(out, text)
		wrapped := Value{}
		for _, name := range v.Fields() {
			if f := v.Field(name); f.Type != nil && f.Type.Name == "error" && f.State == event.Known && !f.Nil {
				wrapped = f
				break
			}
		}
		if wrapped.Type == nil {
			break
		}
		v = wrapped
	}
	return out
}
