package compare

import (
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// reading is a path that both lines read, with its values. refers is set for a value that leads to others, which are not
// compared.
type reading struct {
	path        string
	left, right string
	equal       bool
	refers      bool
}

// readings compares what the lines at two moments read.
func (p *pair) readings(left, right event.Moment) (list []reading) {
	if left == event.NoMoment || right == event.NoMoment {
		return nil
	}
	seen := map[string]bool{}
	for _, path := range append(append([]string{}, p.left.T.Site(left).Reads...), p.right.T.Site(right).Reads...) {
		if seen[path] || p.left.ignores(path) {
			continue
		}
		seen[path] = true
		x, ok := p.left.at(p, left, path)
		y, ok2 := p.right.at(p, right, path)
		if !ok || !ok2 {
			continue
		}
		list = append(list, reading{path, x.Text(), y.Text(), p.left.value(x.Value, 0) == p.right.value(y.Value, 0), refers(x.Value, 0)})
	}
	return list
}

// refers reports whether a value leads to others in memory.
func refers(v event.Value, depth int) bool {
	const deepest = 8
	if v.Nil || v.Type == nil {
		return false
	}
	switch v.Type.Form {
	case event.Pointer, event.Slice, event.Map, event.Chan, event.Func:
		return true
	}
	return depth > deepest || slices.ContainsFunc(v.Items, func(x event.Value) bool { return refers(x, depth+1) })
}

// at returns the value of a path in the innermost frame at a moment.
func (s *side) at(p *pair, m event.Moment, path string) (replay.Value, bool) {
	parsed, err := replay.ParsePath(path)
	if err != nil {
		return replay.Value{}, false
	}
	v, err := replay.Follow(p.ctx, s.Log, m, s.T.Thread(m), 0, parsed)
	return v, err == nil && v.State == event.Known
}

// different are those of the readings with different values.
func different(list []reading) (out []reading) {
	for _, r := range list {
		if !r.equal {
			out = append(out, r)
		}
	}
	return out
}

// text returns the line of source text at a moment.
func (s *side) text(m event.Moment) string {
	if m == event.NoMoment {
		return ""
	}
	place, err := s.Place(m)
	if err != nil {
		return ""
	}
	return s.line(s.T.FunctionOf(place.Call).File, place.Line)
}

// where names the place of a moment for people.
func (s *side) where(m event.Moment) string {
	if m == event.NoMoment {
		return "the end of the call"
	}
	place, err := s.Place(m)
	if err != nil {
		return "no line"
	}
	if s.T.Kind(m) == event.Enter {
		return "a call of " + place.Function
	}
	if text := s.text(m); text != "" {
		return fmt.Sprintf("line %d: %s", place.Line, text)
	}
	return fmt.Sprintf("line %d", place.Line)
}

// differing returns the line that only one version of the source has, if the runs part at it.
func (p *pair) differing(x parting) (text string, ok bool) {
	if x.kind != replay.ByPath {
		return "", false
	}
	if x.leftExtra > 0 && p.left.T.Kind(x.left) == event.Line {
		if text := p.left.text(x.left); !p.right.hasLine(x.calls[1], text) {
			return text, true
		}
	}
	if x.rightExtra > 0 && p.right.T.Kind(x.right) == event.Line {
		if text := p.right.text(x.right); !p.left.hasLine(x.calls[0], text) {
			return text, true
		}
	}
	return "", false
}

// hasLine reports whether the function of a call has a line of this text.
func (s *side) hasLine(c event.CallID, text string) bool {
	f := s.T.FunctionOf(c)
	for n := max(f.Line, 1); n <= min(f.EndLine, len(s.sources[f.File])); n++ {
		if s.line(f.File, n) == text {
			return true
		}
	}
	return false
}

// describe writes a parting for people.
func (p *pair) describe(x parting) replay.Parting {
	out := replay.Parting{Kind: x.kind, Left: x.leftLine, Right: x.rightLine}
	if text, ok := p.differing(x); ok {
		out.Left, out.Right, out.Name = x.left, x.right, text
		out.LeftValue, out.RightValue = p.left.where(x.left), p.right.where(x.right)
		out.Why = "the source differs: only one of the versions has this line"
		return out
	}
	if x.kind == replay.ByPath {
		out.Name = p.left.text(x.leftLine)
		out.Why = fmt.Sprintf("then left: %s; right: %s", p.left.where(x.left), p.right.where(x.right))
		if list := different(p.readings(x.leftLine, x.rightLine)); len(list) > 0 {
			out.LeftValue, out.RightValue = assignments(list)
		} else {
			out.LeftValue, out.RightValue, out.Why = p.left.where(x.left), p.right.where(x.right), "the runs continue differently after this line"
		}
		return out
	}
	out.Left, out.Right = x.left, x.right
	left, right := p.left.changed(x.left, x.calls[0]), p.right.changed(x.right, x.calls[1])
	for i := range min(len(left), len(right)) {
		if p.left.value(left[i].Value.Value, 0) != p.right.value(right[i].Value.Value, 0) {
			out.Name, out.LeftValue, out.RightValue = left[i].Name, left[i].Value.Text(), right[i].Value.Text()
			break
		}
	}
	switch list := p.readings(x.leftLine, x.rightLine); {
	case p.left.T.Kind(x.left) == event.Enter:
		out.Why = "the caller passed another value"
	case x.called != event.NoCall:
		out.Why = "its line called " + p.left.FunctionName(x.called) + ", which differs"
	case len(different(list)) > 0:
		left, right := assignments(different(list))
		out.Why = fmt.Sprintf("its line read %s, not %s", left, right)
	case p.originates(x):
		out.Why = "its line read equal values: an input, or code that is not recorded, gave another one"
	default:
		out.Why = "what its line read leads to memory with other values"
	}
	return out
}

// assignments writes readings with their values on both sides.
func assignments(list []reading) (left, right string) {
	const most = 4
	var l, r []string
	for _, x := range list[:min(len(list), most)] {
		l, r = append(l, x.path+" = "+x.left), append(r, x.path+" = "+x.right)
	}
	return strings.Join(l, ", "), strings.Join(r, ", ")
}

// changed lists the named values of an event of a call.
func (s *side) changed(m event.Moment, c event.CallID) (list []replay.Variable) {
	values, err := s.T.Values(m)
	if err != nil {
		return nil
	}
	names := s.names(m, c)
	if names == nil {
		if line := s.T.LastLine(c, m); line != event.NoMoment {
			names = s.T.Site(line).Writes
		}
	}
	for i, v := range values {
		name := s.T.Kind(m).String()
		if i < len(names) && names[i] != "" {
			name = names[i]
		}
		list = append(list, replay.Variable{Name: name, Value: replay.Value{Value: v, Memory: s.MemoryAt(s.T.Process(m), m, 0)}})
	}
	return list
}

// causes selects the partings that explain the others, the most telling first: lines whose source differs; lines after
// which the paths part; values that differ although their line read equal values. What is handed on is one
// cause, the last one.
func (p *pair) causes(most int) (list []replay.Parting) {
	var replaced, paths, values []replay.Parting
	var passed *parting
	seen := map[string]bool{}
	for i, x := range p.partings {
		if p.ctx.Err() != nil {
			return nil
		}
		key := fmt.Sprint(x.kind, p.left.T.Call(x.calls[0]).Function, p.siteKey(x))
		if seen[key] {
			continue
		}
		seen[key] = true
		_, isDiffering := p.differing(x)
		switch {
		case isDiffering:
			replaced = append(replaced, p.describe(x))
		case x.kind == replay.ByPath:
			paths = append(paths, p.describe(x))
		case x.called != event.NoCall || p.left.T.Kind(x.left) == event.Enter || p.left.T.Kind(x.left) == event.Leave || !p.originates(x):
			if passed == nil {
				passed = &p.partings[i]
			}
		default:
			values = append(values, p.describe(x))
		}
		if len(replaced) >= most {
			break
		}
	}
	list = append(append(append(list, replaced...), paths...), values...)
	if passed != nil && len(list) < most {
		list = append(list, p.describe(*passed))
	}
	return list[:min(len(list), most)]
}

// originates reports whether a value differs although all that its line read of recorded values is equal.
func (p *pair) originates(x parting) bool {
	return !slices.ContainsFunc(p.readings(x.leftLine, x.rightLine), func(r reading) bool { return !r.equal || r.refers })
}

// siteKey names the line that a parting is at.
func (p *pair) siteKey(x parting) string {
	if text, ok := p.differing(x); ok {
		return "=" + text
	}
	if x.leftLine == event.NoMoment {
		return "start"
	}
	return fmt.Sprint(p.left.T.ID(x.leftLine))
}
