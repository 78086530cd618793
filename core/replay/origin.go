package replay

import (
	"context"
	"fmt"
	"slices"
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
