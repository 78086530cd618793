package origin

import (
	"errors"
	"fmt"
	"go/constant"
	"go/token"
	"slices"
	"sort"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// flow explains the sources of an expression on a line. The line ran in the call from the moment of
// the line to until.
func (x *explainer) flow(f event.Flow, c event.CallID, line, until event.Moment, w wanted, depth int) []replay.Origin {
	var out []replay.Origin
	for _, part := range x.partOf(f, line, w) {
		part.Kind = event.FlowAssign // a part of it needs no parts of its own
		out = append(out, x.flow(part, c, line, until, w.part(), depth)...)
	}
	if len(out) > 0 {
		return out
	}
	if strings.HasPrefix(f.Text, "make(") && w.isElement() {
		x.nodes++
		return []replay.Origin{{Name: "the zero value of a new element", Kind: replay.FromConstant, Value: *w.leaf(), Place: x.place(line)}}
	}
	for _, name := range x.chosen(f, c, line, w) {
		if (f.Kind == event.FlowForeign || len(f.Foreign) > 0) && strings.Contains(f.Text, "&"+name) {
			continue // the call writes it
		}
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
		out = append(out, replay.Origin{Name: f.Text, Kind: replay.FromInput, Value: replay.Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "changed by code that is not recorded"})
		return out
	}
	for _, text := range f.Foreign {
		x.nodes++
		o := replay.Origin{Name: text, Kind: replay.FromInput, Value: replay.Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "computed by code that is not recorded"}
		if object := replay.ReceiverOf(text); object != "" && x.ofForeignType(object, c, line) {
			o.From = x.given(object, c, line, w, depth)
		}
		out = append(out, o)
	}
	if len(f.Reads)+len(f.Calls)+len(f.Receives)+len(f.Foreign) == 0 {
		x.nodes++
		name, _ := event.SplitConstant(f.Text)
		out = append(out, replay.Origin{Name: name, Kind: replay.FromConstant, Value: *w.leaf(), Place: x.place(line)})
	}
	return out
}

// chosen returns the names of a flow that hold the wanted element, if the line builds a list; else
// all names.
func (x *explainer) chosen(f event.Flow, c event.CallID, line event.Moment, w wanted) []string {
	several := f.Kind == event.FlowArgument && strings.Contains(f.Text, ", ") || strings.HasPrefix(f.Text, "append(")
	if !several {
		return f.Reads
	}
	is := state.Alike(w.like())
	var out []string
	for _, name := range f.Reads {
		p, err := replay.ParsePath(name)
		if err != nil {
			continue
		}
		if _, v, err := x.r.ScopeOf(c, line).Locate(p, nil); err == nil && is(v.Value) {
			out = append(out, name)
		}
	}
	if len(out) == 0 {
		return f.Reads
	}
	return out
}

// partOf returns the flow into the wanted field, if the line builds a struct.
func (x *explainer) partOf(f event.Flow, line event.Moment, w wanted) []event.Flow {
	if f.Kind == event.FlowPart || !strings.Contains(f.Text, "{") || len(w[0].steps) == 0 {
		return nil
	}
	flows := x.r.T.Site(line).Flows
	if parts := partsAt(flows, replay.Path{Steps: w[0].steps}.String()); len(parts) > 0 {
		return fitting(parts, w)
	}
	if len(f.Calls) > 0 || w[0].steps[0].Field == "" {
		return nil
	}
	var parts []event.Flow
	for _, p := range flows { // logs before version 3 have the names of fields alone
		if p.Kind == event.FlowPart && p.Target == w[0].steps[0].Field {
			parts = append(parts, p)
		}
	}
	return fitting(parts, w)
}

// partsAt returns the flows into the elements of literals at a path, else into the innermost part
// around it that has a source of its own.
func partsAt(flows []event.Flow, path string) (parts []event.Flow) {
	longest := 0
	for _, p := range flows {
		if p.Kind != event.FlowPart || p.Target == "" || p.Target[0] != '.' && p.Target[0] != '[' || p.Target == "[]" {
			continue
		}
		rest, ok := strings.CutPrefix(path, p.Target)
		if !ok || rest != "" && rest[0] != '.' && rest[0] != '[' || len(p.Target) < longest {
			continue
		}
		if len(p.Target) > longest {
			longest, parts = len(p.Target), nil
		}
		parts = append(parts, p)
	}
	return parts
}

// fitting returns the flows that can be sources of the value: a line can build several structs, and
// a constant with another value is not a source.
func fitting(flows []event.Flow, w wanted) []event.Flow {
	value := w.leaf().Value
	fits := slices.DeleteFunc(slices.Clone(flows), func(f event.Flow) bool { return isConstant(f) && contradicts(f.Text, value) })
	if len(fits) > 0 {
		return fits
	}
	return flows
}

func isConstant(f event.Flow) bool {
	return len(f.Reads)+len(f.Calls)+len(f.Receives)+len(f.Foreign) == 0
}

// contradicts reports whether a literal has another value. A text that is not a literal, such as
// the name of a constant, contradicts nothing.
func contradicts(text string, v event.Value) bool {
	_, text = event.SplitConstant(text)
	is := literal(text)
	if v.State != event.Known || is.Kind() == constant.Unknown {
		return false
	}
	switch v.Form() {
	case event.Int, event.Uint:
		value := constant.MakeInt64(v.Int)
		if v.Form() == event.Uint {
			value = constant.MakeUint64(v.Uint)
		}
		is = constant.ToInt(is)
		return is.Kind() != constant.Int || !constant.Compare(is, token.EQL, value)
	case event.Float:
		is = constant.ToFloat(is)
		if is.Kind() != constant.Float {
			return true
		}
		f, _ := constant.Float64Val(is) // as the compiler rounds it
		if v.Type.Size == 4 {
			narrow, _ := constant.Float32Val(is)
			f = float64(narrow)
		}
		return f != v.Float
	case event.Text:
		return v.Whole == 0 && (is.Kind() != constant.String || constant.StringVal(is) != v.Text)
	case event.Bool:
		return is.Kind() != constant.Bool || constant.BoolVal(is) != (v.Uint != 0)
	}
	return false
}

// literal returns the value of a Go literal, or an unknown value.
func literal(text string) constant.Value {
	unsigned, negative := strings.CutPrefix(text, "-")
	kind := token.INT
	switch {
	case text == "true" || text == "false":
		return constant.MakeBool(text == "true")
	case unsigned == "":
		return constant.MakeUnknown()
	case strings.ContainsRune("\"`", rune(unsigned[0])):
		kind = token.STRING
	case unsigned[0] == '\'':
		kind = token.CHAR
	case unsigned[0] != '.' && (unsigned[0] < '0' || unsigned[0] > '9'):
		return constant.MakeUnknown()
	}
	v := constant.MakeFromLiteral(unsigned, kind, 0)
	if v.Kind() == constant.Unknown && kind == token.INT {
		v = constant.MakeFromLiteral(unsigned, token.FLOAT, 0)
	}
	if negative && (v.Kind() == constant.Int || v.Kind() == constant.Float) {
		v = constant.UnaryOp(token.SUB, v, 0)
	}
	return v
}

// read explains what a name on a line stood for, or the part of it that is
// looked for. related is false where it holds nothing like that.
func (x *explainer) read(name string, c event.CallID, line, until event.Moment, w wanted, depth int) (o replay.Origin, related bool) {
	p, err := replay.ParsePath(name)
	if err == nil {
		p = x.element(p, c, line, w)
		// What the line itself declared is there only once it has run.
		for _, at := range []event.Moment{line, until} {
			s := x.r.ScopeOf(c, at)
			var l state.Location
			var v replay.Value
			if p, l, v, err = s.LocateKnown(p, w.like()); errors.Is(err, state.ErrNoEntry) && l.Entry != nil {
				return x.missing(name, l, line), true
			} else if err != nil {
				continue
			}
			shown, l, v, related := refine(s, p.String(), l, v, w)
			return x.explain(shown, l, v, line, depth), related
		}
	}
	x.nodes++
	return replay.Origin{Name: name, Kind: replay.FromUnrecorded, Value: replay.Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "its value there is not known"}, true
}

// element replaces the unknown element of a loop's list by that of the iteration, if it has the value.
func (x *explainer) element(p replay.Path, c event.CallID, line event.Moment, w wanted) replay.Path {
	i := slices.IndexFunc(p.Steps, func(s replay.PathStep) bool { return s.Any })
	if i < 0 {
		return p
	}
	n, _, ok := x.r.Branches.Iteration(x.ctx, c, line)
	if !ok {
		return p
	}
	known := replay.Path{Root: p.Root, Steps: slices.Clone(p.Steps)}
	known.Steps[i] = replay.PathStep{Number: &n}
	_, v, err := x.r.ScopeOf(c, line).Locate(known, nil)
	if err != nil || v.Form() == event.Map || !state.Alike(w.like())(v.Value) {
		return p
	}
	return known
}

// missing explains an entry that a map does not have at a moment: by its deletion, if it had it.
func (x *explainer) missing(name string, l state.Location, at event.Moment) replay.Origin {
	x.nodes++
	o := replay.Origin{Name: name, Kind: replay.FromConstant, Value: replay.Value{Value: event.Value{State: event.Unassigned}}, Place: x.place(at), Note: "the map had no entry " + replay.Value{Value: *l.Entry}.Text() + ", so it was the zero value"}
	if list, err := x.r.WritesOf(x.ctx, l, at); err == nil && len(list) > 0 && list[len(list)-1].At <= at {
		o.Kind, o.Place, o.Note = replay.FromWrite, x.place(list[len(list)-1].At), "the entry "+replay.Value{Value: *l.Entry}.Text()+" was deleted here"
	}
	return o
}

// mostIterated limits the calls that are examined for the one that yielded a value.
const mostIterated = 100_000

// yielded explains the variable of a loop over a function by the line that
// yielded it: the one that the innermost call has reached which the loop's call
// has made, and which is still open.
func (x *explainer) yielded(f event.Flow, c event.CallID, at event.Moment, w wanted, depth int) ([]replay.Origin, bool) {
	list := x.r.T.ThreadCalls(x.r.T.Call(c).Thread)
	i := sort.Search(list.Len(), func(i int) bool { return x.r.T.Call(event.CallID(list.At(i))).Enter > at }) - 1
	inner := event.NoCall // the innermost one that is open, calls of the loop's body have ended
	for n := 0; i >= 0 && n < mostIterated && inner == event.NoCall; i, n = i-1, n+1 {
		made := event.CallID(list.At(i))
		if made == c {
			break
		}
		if left := x.r.T.Call(made).Leave; left == event.NoMoment || left > at {
			inner = made
		}
	}
	if inner == event.NoCall || inner == c {
		return nil, false
	}
	line := x.r.T.LastLine(inner, at)
	if line == event.NoMoment {
		return nil, false
	}
	number := 0
	for _, y := range x.r.T.Site(line).Flows {
		if y.Kind != event.FlowArgument || y.Callee != "" {
			continue
		}
		if strconv.Itoa(number) == f.Callee {
			y.Kind = event.FlowAssign
			o := replay.Origin{Name: "yielded by " + x.r.FunctionName(inner), Kind: replay.FromResult, Value: *w.leaf(), Place: x.place(line)}
			o.From = x.flow(y, inner, line, at, w, depth)
			return []replay.Origin{o}, true
		}
		number++
	}
	return nil, false
}

// calls explains the results of the calls that an expression uses.
func (x *explainer) calls(f event.Flow, c event.CallID, line, until event.Moment, w wanted, depth int) []replay.Origin {
	if len(f.Calls) == 0 {
		return nil
	}
	var out []replay.Origin
	made := x.r.CallsBetween(c, line, until)
	used := map[event.CallID]bool{}
	for _, callee := range f.Calls {
		callee, number, _ := strings.Cut(callee, "#")
		result, _ := strconv.Atoi(number)
		found := event.NoCall
		for _, m := range made {
			left := x.r.T.Call(m).Leave
			if !used[m] && left != event.NoMoment && left <= until && calledBy(x.r.T.FunctionOf(m).Name, callee) {
				found = m
				break
			}
		}
		if found == event.NoCall {
			found = x.beforeLoop(callee, c, line)
		}
		if found == event.NoCall && strings.HasSuffix(x.r.T.FunctionOf(c).Name, ".init") {
			found = x.initialiser(callee, line)
		}
		if found == event.NoCall {
			x.nodes++
			o := replay.Origin{Name: strings.TrimPrefix(callee, ".") + "()", Kind: replay.FromInput, Value: replay.Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "the call is not in the log"}
			if object, _, is := strings.Cut(f.Text, callee+"("); is && strings.HasPrefix(callee, ".") {
				o.Name, o.Note = object+callee+"()", "computed by code that is not recorded"
				o.From = x.given(object, c, line, w, depth)
			}
			out = append(out, o)
			continue
		}
		used[found] = true
		x.nodes++
		o := replay.Origin{Name: x.r.FunctionName(found) + "()", Kind: replay.FromResult, Value: replay.Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(x.r.T.Call(found).Leave)}
		of := w
		if values := x.r.ReturnedBy(found).Values; result < len(values) {
			o.Value = values[result]
			of = w.in(o.Value)
			if steps := of[0].steps; len(steps) > 0 {
				o.Name, o.Value = o.Name+replay.Path{Steps: steps}.String(), *of.leaf()
			}
		}
		key := fmt.Sprint("call ", found, result, replay.Path{Steps: of[0].steps})
		if x.seen[key] {
			o.Kind, o.Note = replay.FromRepeat, "explained elsewhere in this chain"
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

// beforeLoop finds the call in the head of a loop over a list, which was made before its first iteration.
func (x *explainer) beforeLoop(callee string, c event.CallID, line event.Moment) event.CallID {
	n, first, ok := x.r.Branches.Iteration(x.ctx, c, line)
	if !ok || n == 0 {
		return event.NoCall
	}
	lines := x.r.T.CallLines(c)
	until := line
	if i := lines.After(first); i < lines.Len() {
		until = lines.At(i)
	}
	for _, m := range x.r.CallsBetween(c, first, until) {
		if left := x.r.T.Call(m).Leave; left != event.NoMoment && left <= until && calledBy(x.r.T.FunctionOf(m).Name, callee) {
			return m
		}
	}
	return event.NoCall
}

// initialiser finds the call that gave a package's variable its first value: the
// last one of a function before the package's init, made by no recorded code.
func (x *explainer) initialiser(callee string, before event.Moment) event.CallID {
	for id, f := range x.r.T.Functions {
		if callee == "" || !calledBy(f.Name, callee) {
			continue
		}
		calls := x.r.T.Enters(id)
		if i := calls.Before(before); i >= 0 {
			if c := x.r.T.CallOf(calls.At(i)); x.r.T.Call(c).Parent == event.NoCall && x.r.T.Call(c).Leave != event.NoMoment {
				return c
			}
		}
	}
	return event.NoCall
}

// received explains a value that came from a channel by the statement that sent
// it. What is received is matched with what was sent by its order among equal
// values, since a channel keeps the order.
func (x *explainer) received(name string, c event.CallID, line, until event.Moment, w wanted, depth int) (o replay.Origin, is bool) {
	x.nodes++
	o = replay.Origin{Name: "<-" + name, Kind: replay.FromInput, Value: replay.Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(line), Note: "no recorded code sent it"}
	got := event.NoMoment
	for m := range x.r.T.Walk(x.r.T.Call(c).Thread, until+1, true) {
		if m < line {
			break
		}
		if x.r.T.Kind(m) == event.Receive {
			got = m
			break
		}
	}
	if got == event.NoMoment {
		return o, false
	}
	if p, err := replay.ParsePath(name); err == nil {
		_, ch, err := x.r.ScopeOf(c, line).Locate(p, nil)
		if err == nil && ch.Form() == event.Chan && ch.Address != x.r.T.Event(got).Address {
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
	o = replay.Origin{Name: "sent on " + name + replay.Path{Steps: of[0].steps}.String(), Kind: replay.FromWrite, Value: *of.leaf(), Place: x.place(sent)}
	sender := x.r.T.CallOf(sent)
	if sender == event.NoCall || depth <= 0 {
		o.More = depth <= 0
		return o, true
	}
	at := x.r.T.LastLine(sender, sent)
	if at == event.NoMoment {
		return o, true
	}
	for _, f := range x.r.T.Site(at).Flows {
		if f.Kind == event.FlowSend {
			o.From = append(o.From, x.flow(f, sender, at, sent, of, depth-computes(f))...)
		}
	}
	return o, true
}

// sentFor finds the send whose value a receive got.
func (r Chains) sentFor(got event.Moment) (event.Moment, replay.Value) {
	e := r.T.Event(got)
	process := r.T.Process(got)
	read := func(m event.Moment) (string, replay.Value) {
		values, err := r.T.Values(m)
		if err != nil || len(values) != 1 {
			return "", replay.Value{}
		}
		return replay.Identity(values[0]), replay.Value{Value: values[0], Memory: r.MemoryAt(process, m, 0)}
	}
	wanted, _ := read(got)
	var sends, all []event.Moment
	receives, before := 0, 0
	for m := range r.T.SyncEvents(process, e.Address, r.T.Len()-1) {
		switch r.T.Kind(m) {
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
		return event.NoMoment, replay.Value{}
	}
	_, v := read(sends[receives-1])
	return sends[receives-1], v
}
