// Package origin explains a value by the writes that led to it.
package origin

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/branch"
	"wraithology/core/replay/state"
	"wraithology/core/replay/writes"
)

// Chains explains values of a timeline.
type Chains struct {
	writes.Reader
	Branches branch.Brancher
}

// Bounds of an origin chain.
const (
	maxOriginDepth  = 64
	maxOriginNodes  = 600
	foldedFromSite  = 3       // repetitions of a line in a chain before it is folded
	foldedFromPlace = 1       // the same, where the line writes the same place
	maxFolded       = 100_000 // writes that are folded together
	maxPassingLines = 512     // lines of a caller that are examined for a deferred call
	maxOriginSteps  = 400     // steps of one chain, also those that compute nothing
)

// explainer puts one chain together.
type explainer struct {
	ctx   context.Context
	r     Chains
	seen  map[string]bool
	sites map[event.SiteID]int
	// places counts the writes of a location by a line in the present chain.
	places map[string]int
	// conditions is the number of conditions that the chain may still follow.
	conditions int
	nodes      int
	steps      int
	// objects is set if the passing on of objects of other code is followed.
	objects bool
}

// Origin implements replay.History.
func (r Chains) Origin(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, how replay.OriginOptions) (replay.Origin, error) {
	l, v, err := r.LocatePath(path, at, t, frame)
	gone := errors.Is(err, state.ErrNoEntry) && l.Entry != nil
	if err != nil && !gone {
		return replay.Origin{}, err
	}
	path = strings.TrimSpace(path)
	x := &explainer{ctx: ctx, r: r, seen: map[string]bool{}, sites: map[event.SiteID]int{}, places: map[string]int{}, conditions: mostConditions, objects: how.Objects || r.ofOtherCode(v)}
	var o replay.Origin
	if gone {
		o = x.missing(path, l, at)
	} else {
		o = x.explain(path, l, v, at, min(max(how.Depth, 1), maxOriginDepth))
	}
	o.Asked = replay.Asked{At: at, Thread: t, Frame: frame, Path: path}
	return trim(o, how.Lines), ctx.Err()
}

// ofOtherCode reports whether a value refers to an object whose type is not of own code. An error is
// followed to where it was made.
func (r Chains) ofOtherCode(v replay.Value) bool {
	if v.Form() == event.Interface && v.Type.Name == "error" {
		return false
	}
	if v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.With(v.Items[0])
	}
	t := v.ElemType()
	if v.Form() != event.Pointer || v.Nil || t == nil || t.Form != event.Struct {
		return false
	}
	of, _, named := strings.Cut(t.Name, ".")
	return named && !r.OwnPackage(of)
}

func (x *explainer) place(at event.Moment) replay.Place {
	p, _ := x.r.Place(at)
	return p
}

// explain finds the write that gave a location its value and continues from there.
func (x *explainer) explain(name string, l state.Location, v replay.Value, at event.Moment, depth int) replay.Origin {
	o := replay.Origin{Name: name, Kind: replay.FromUnrecorded, Value: v, Place: x.place(max(at, 0))}
	o.Asked = replay.Asked{At: at, Thread: o.Thread, Path: name}
	x.nodes++
	x.steps++
	defer func() { x.steps-- }()
	if x.ctx.Err() != nil || x.nodes > maxOriginNodes || x.steps > maxOriginSteps {
		o.More = true
		return o
	}
	if v.State != event.Known {
		o.Note = "the value is " + string(v.State)
		if v.State == event.MayHaveChanged {
			o.Note = "it may have been changed by " + v.Why()
		}
		return o
	}
	if !x.objects && x.steps > 1 && x.r.ofOtherCode(v) {
		o.Kind, o.Note = replay.FromInput, "an object of other code; ask for its own origin to follow it"
		return o
	}
	g, ok := x.r.LastWriteOf(x.ctx, l, at)
	if !ok && l.Call != event.NoCall && x.r.T.FunctionOf(l.Call).Variables[l.Variable].Scope == event.Return {
		o.Kind, o.Place, o.Note = replay.FromConstant, x.place(x.r.T.Call(l.Call).Enter), "a result that nothing was assigned to: its zero value"
		return o
	}
	if !ok {
		o.Note = "nothing in the log says who wrote it"
		return o
	}
	o.Place = x.place(g.At)
	key := l.Key() + fmt.Sprint(" ", g.At)
	if x.seen[key] {
		o.Kind, o.Note = replay.FromRepeat, "explained elsewhere in this chain"
		return o
	}
	x.seen[key] = true
	if depth <= 0 {
		o.Kind, o.More = replay.FromWrite, true
		if x.r.T.Kind(g.At) == event.Enter {
			o.Kind = replay.FromArgument
		}
		return o
	}
	w := x.r.wantedAt(l, g, v)
	c := x.r.T.CallOf(g.At)
	if c == event.NoCall {
		o.Note = "it was written outside recorded code"
		return o
	}
	switch k := x.r.T.Kind(g.At); {
	case k == event.Enter:
		return x.argument(o, c, l.Variable, w, depth)
	case k == event.Leave:
		o.Kind = replay.FromResult
		result := max(slices.Index(x.r.T.FunctionOf(c).Results, l.Variable), 0)
		return x.returned(o, c, result, w, depth)
	}
	line := x.r.T.LastLine(c, g.At-1)
	if line == event.NoMoment || line < x.r.T.Call(c).Enter {
		return x.beforeFirstLine(o, c, g, w, depth)
	}
	return x.written(o, l, c, line, g, w, depth)
}

// beforeFirstLine explains a value that a call has before its first line: an address-taken
// parameter, or a variable shared with the enclosing function.
func (x *explainer) beforeFirstLine(o replay.Origin, c event.CallID, g writes.Record, w wanted, depth int) replay.Origin {
	if x.r.T.Kind(g.At) == event.Cell {
		v := event.VariableID(x.r.T.ID(g.At))
		f := x.r.T.FunctionOf(c)
		if slices.Contains(f.Parameters, v) {
			return x.argument(o, c, v, w, depth)
		}
	}
	p := x.r.T.Call(c).Parent
	line := event.NoMoment
	if p != event.NoCall {
		line = x.r.T.LastLine(p, x.r.T.Call(c).Enter)
	}
	if line != event.NoMoment {
		// It refers to memory that the caller's line created.
		o.Kind, o.Place = replay.FromWrite, x.place(line)
		o.Note = "first seen as " + x.r.FunctionName(c) + " was called"
		site := x.r.T.Site(line)
		flows := x.matching(site, o.Name)
		if v, ok := x.refersTo(c, g); ok {
			if f, ok := x.passes(site, c, v); ok {
				flows = []event.Flow{f}
			}
		}
		for _, f := range fitting(flows, w) {
			o.From = append(o.From, x.flow(f, p, line, x.r.T.Call(c).Enter, w, depth-1)...)
		}
		return o
	}
	o.Kind, o.Note = replay.FromInput, "it was there when "+x.r.FunctionName(c)+" began"
	return o
}

// refersTo finds the parameter of a call that refers to the memory of an event.
func (x *explainer) refersTo(c event.CallID, g writes.Record) (event.VariableID, bool) {
	values, err := x.r.T.Values(x.r.T.Call(c).Enter)
	if err != nil {
		return 0, false
	}
	address := x.r.T.Event(g.At).Address
	types := x.r.T.Types(x.r.T.Call(c).Process)
	for i, v := range x.r.T.FunctionOf(c).Parameters {
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
func (x *explainer) written(o replay.Origin, l state.Location, c event.CallID, line event.Moment, g writes.Record, w wanted, depth int) replay.Origin {
	o.Kind = replay.FromWrite
	site := event.SiteID(x.r.T.ID(line))
	place := fmt.Sprint(site, " ", l.Key())
	x.sites[site]++
	x.places[place]++
	defer func() { x.sites[site]--; x.places[place]-- }()
	if x.sites[site] > foldedFromSite || x.places[place] > foldedFromPlace {
		return x.fold(o, l, site, g, depth)
	}
	flows := fitting(x.flowsInto(o.Name, l, c, line, g), w)
	for _, f := range flows {
		if slices.Contains(f.Reads, f.Target) {
			o.Note = x.became(o.Value, l, g)
		}
		o.From = append(o.From, x.flow(f, c, line, g.At, w, depth-computes(f))...)
	}
	if len(o.From) == 0 {
		o.Note = "the log does not say what this line computes it from"
	}
	// What a line chose to set, to count, or to add to a list, was decided by a condition.
	added := func(f event.Flow) bool {
		counts := len(f.Reads) == 1 && f.Reads[0] == f.Target && len(f.Calls)+len(f.Receives)+len(f.Foreign) == 0
		return counts || strings.HasPrefix(f.Text, "append(")
	}
	if len(o.From) > 0 && !slices.ContainsFunc(o.From, isComputed) || slices.ContainsFunc(flows, added) {
		conditions, note := x.decided(o.Name, c, line, o.Asked.At, depth)
		o.From = append(o.From, conditions...)
		if note != "" {
			o.Note = note
		}
	}
	return o
}

// computes is 1 for an expression that computes something and 0 for one that hands a value on. Only
// computing counts for the depth of a chain.
func computes(f event.Flow) int {
	if len(f.Reads)+len(f.Calls)+len(f.Receives) == 1 && len(f.Foreign) == 0 {
		if len(f.Calls)+len(f.Receives) == 1 || f.Text == f.Reads[0] || strings.Contains(f.Reads[0], "[") {
			return 0
		}
	}
	return 1
}

// fold skips repeated writes of a location by the same line, except those that changed its nature, and
// continues from the write before them.
func (x *explainer) fold(o replay.Origin, l state.Location, site event.SiteID, g writes.Record, depth int) replay.Origin {
	o.Kind = replay.FromRepeat
	n := 0
	v := o.Value
	for ; n < maxFolded && x.ctx.Err() == nil; n++ {
		before, ok := x.r.LastWriteOf(x.ctx, l, g.At-1)
		if !ok || x.restarts(site) && x.begins(g) { // the line gave the first value as well
			c := x.r.T.CallOf(g.At)
			if line := x.r.T.LastLine(c, g.At-1); line != event.NoMoment {
				w := x.r.wantedAt(l, g, x.r.Whole(l, g))
				for _, f := range fitting(x.flowsInto(o.Name, l, c, line, g), w) {
					o.From = append(o.From, x.flow(f, c, line, g.At, w, depth-1)...)
				}
			}
			break
		}
		c := x.r.T.CallOf(before.At)
		if c == event.NoCall {
			break
		}
		earlier := x.r.Whole(l, before)
		line := x.r.T.LastLine(c, before.At)
		if line == event.NoMoment || event.SiteID(x.r.T.ID(line)) != site {
			o.From = append(o.From, x.explain(o.Name, l, earlier, before.At, depth-1))
			break
		}
		if is := turnedInto(earlier, v); is != "" && n > 0 && len(o.From) < maxTurns {
			o.From = append(o.From, x.turn(o.Name, l, g, v, depth))
		}
		g, v = before, earlier
	}
	switch n {
	case 0:
		o.Kind = replay.FromWrite
	case 1:
		o.Note = "the same line wrote it once before"
	default:
		o.Note = fmt.Sprintf("and so on: the same line wrote it %d times before", n)
	}
	return o
}

// turn explains a write by which a location changed its nature, without the value that it had before.
func (x *explainer) turn(name string, l state.Location, g writes.Record, v replay.Value, depth int) replay.Origin {
	x.nodes++
	o := replay.Origin{Name: name, Kind: replay.FromWrite, Value: v, Place: x.place(g.At), Note: x.became(v, l, g)}
	o.Asked = replay.Asked{At: g.At, Thread: o.Thread, Path: name}
	c := x.r.T.CallOf(g.At)
	line := x.r.T.LastLine(c, g.At-1)
	if line == event.NoMoment || depth <= 0 {
		o.More = depth <= 0
		return o
	}
	w := x.r.wantedAt(l, g, v)
	for _, f := range fitting(x.flowsInto(name, l, c, line, g), w) {
		f.Reads = slices.DeleteFunc(slices.Clone(f.Reads), func(read string) bool { return read == f.Target })
		if !isConstant(f) {
			o.From = append(o.From, x.flow(f, c, line, g.At, w, depth-1)...)
		}
	}
	return o
}

// became says that a write changed the nature of a location; empty if it did not.
func (x *explainer) became(v replay.Value, l state.Location, g writes.Record) string {
	before, ok := x.r.LastWriteOf(x.ctx, l, g.At-1)
	if !ok {
		return ""
	}
	earlier := x.r.Whole(l, before)
	if is := turnedInto(earlier, v); is != "" {
		return "here it became " + is + "; before, it was " + earlier.Text()
	}
	return ""
}

// restarts reports whether a line both initialises a value and updates it, as the head of a loop
// does.
func (x *explainer) restarts(id event.SiteID) bool {
	first, on := false, false
	for _, f := range x.r.T.Sites[id].Flows {
		if f.Kind == event.FlowAssign {
			itself := slices.Contains(f.Reads, f.Target)
			first, on = first || !itself, on || itself
		}
	}
	return first && on
}

// flowsInto finds the flows of a line into a location.
func (x *explainer) flowsInto(name string, l state.Location, c event.CallID, line event.Moment, g writes.Record) []event.Flow {
	site := x.r.T.Site(line)
	written := ""
	switch k := x.r.T.Kind(g.At); {
	case k == event.Write || k == event.Cell:
		if f := x.r.T.FunctionOf(c); int(x.r.T.ID(g.At)) < len(f.Variables) {
			written = f.Variables[x.r.T.ID(g.At)].Name
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
		p, err := replay.ParsePath(f.Target)
		if err != nil {
			continue
		}
		for _, at := range []event.Moment{line, g.At} {
			if to, _, err := x.r.ScopeOf(c, at).Locate(p, nil); err == nil && to.Key() == l.Whole().Key() {
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

// ofThisTime selects the flow that ran, if a line stores to the same place in several ways: the
// head of a loop initialises a value once and updates it in all later iterations.
func (x *explainer) ofThisTime(flows []event.Flow, g writes.Record) []event.Flow {
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

// begins reports whether a write by the head of a loop is the first of a run of the loop: the call
// came to the line from above it.
func (x *explainer) begins(g writes.Record) bool {
	c := x.r.T.CallOf(g.At)
	lines := x.r.T.CallLines(c)
	i := lines.Before(g.At - 1)
	return i < 1 || x.r.T.Site(lines.At(i-1)).Line < x.r.T.Site(lines.At(i)).Line
}

// lastStep returns the last field of a path as it is in the source.
func lastStep(path string) string {
	if i := strings.LastIndexAny(path, ".]"); i >= 0 && path[i] == '.' {
		return path[i+1:]
	} else if i >= 0 {
		return "[]"
	}
	return strings.TrimLeft(path, "*&")
}

// matching returns the flows of a line that can be the source of a name: a part of a new value,
// else any assignment.
func (x *explainer) matching(site *event.Site, name string) []event.Flow {
	for tail := name; ; { // the path from the outermost literal is the end of the name
		i := strings.IndexAny(tail[min(1, len(tail)):], ".[")
		if i < 0 {
			break
		}
		tail = tail[i+1:]
		if parts := partsAt(site.Flows, tail); len(parts) > 0 {
			return parts
		}
	}
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
	var made, foreign []event.Flow
	for _, f := range site.Flows {
		switch f.Kind {
		case event.FlowArgument:
			made = append(made, f)
		case event.FlowForeign:
			foreign = append(foreign, f)
		}
	}
	if len(made) > 0 {
		return made
	}
	return foreign
}
