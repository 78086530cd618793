package origin

import (
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Bounds of what is shown of an object of other code.
const (
	mostGiven      = 3   // lines that called its methods
	mostGivenLines = 512 // lines of a call that are examined for them
)

// ofForeignType reports whether a name is an object of other code, whose contents the log does not follow.
func (x *explainer) ofForeignType(name string, c event.CallID, at event.Moment) bool {
	p, err := replay.ParsePath(name)
	if err != nil {
		return false
	}
	_, v, err := x.r.ScopeOf(c, at).Locate(p, nil)
	return err == nil && x.r.ofOtherCode(v)
}

// given explains the state of an object of other code by what the call gave to its methods before a line: h.Write(…)
// before h.Sum32(), latest first, each line once.
func (x *explainer) given(object string, c event.CallID, line event.Moment, w wanted, depth int) []replay.Origin {
	if depth <= 0 {
		return nil
	}
	var out []replay.Origin
	seen := map[event.SiteID]bool{event.SiteID(x.r.T.ID(line)): true}
	lines := x.r.T.CallLines(c)
	for i, n := lines.Before(line-1), 0; i >= 0 && n < mostGivenLines && len(out) < mostGiven; i, n = i-1, n+1 {
		m := lines.At(i)
		site := x.r.T.Site(m)
		if seen[site.ID] {
			continue
		}
		seen[site.ID] = true
		text, sources := calledOn(site, object)
		if text == "" {
			continue
		}
		x.nodes++
		o := replay.Origin{Name: text, Kind: replay.FromWrite, Value: replay.Value{Value: event.Value{State: event.Unrecorded}}, Place: x.place(m), Note: "given to " + object}
		until := m
		if i+1 < lines.Len() {
			until = lines.At(i+1) - 1
		}
		for _, f := range sources {
			f.Kind = event.FlowAssign
			o.From = append(o.From, x.flow(f, c, m, until, w, depth-1)...)
		}
		out = append(out, o)
	}
	return out
}

// calledOn returns the call of an object's method on a line, and the flows of its arguments.
func calledOn(site *event.Site, object string) (text string, arguments []event.Flow) {
	callee := ""
	for _, f := range site.Flows {
		switch {
		case f.Kind == event.FlowForeign && replay.ReceiverOf(f.Text) == object && len(f.Reads)+len(f.Calls) > 1:
			f.Reads = slices.DeleteFunc(slices.Clone(f.Reads), func(r string) bool { return r == object })
			return f.Text, []event.Flow{f}
		case f.Kind == event.FlowArgument && strings.HasPrefix(f.Callee, ".") && f.Text == object && callee == "":
			callee = f.Callee
		case f.Kind == event.FlowArgument && f.Callee == callee && callee != "":
			arguments = append(arguments, f)
		}
	}
	if len(arguments) == 0 {
		return "", nil
	}
	var texts []string
	for _, f := range arguments {
		texts = append(texts, f.Text)
	}
	return object + callee + "(" + strings.Join(texts, ", ") + ")", arguments
}
