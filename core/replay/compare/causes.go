package compare

import (
	"fmt"
	"slices"
	"sort"
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
	return p.compared(append(append([]string{}, p.left.T.Site(left).Reads...), p.right.T.Site(right).Reads...), left, right)
}

// compared compares the values of paths at two moments.
func (p *pair) compared(paths []string, left, right event.Moment) (list []reading) {
	seen := map[string]bool{}
	for _, path := range paths {
		if seen[path] || p.left.how.Ignores(path) {
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

// where names the place of a moment of a call for people.
func (s *side) where(call event.CallID, m event.Moment) string {
	if m == event.NoMoment {
		if s.T.Call(call).Leave == event.NoMoment {
			return "no more was recorded of the call"
		}
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
	if x.kind == replay.ByPath {
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
	} else if x.called != event.NoCall || p.left.T.Kind(x.left) == event.Enter {
		return "", false
	}
	return p.changedNear(x)
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
		out.LeftValue, out.RightValue = p.left.where(x.calls[0], x.left), p.right.where(x.calls[1], x.right)
		out.Why = "the source differs: only one of the versions has this line"
		return out
	}
	if x.kind == replay.ByPath {
		out.Name = p.deciding(x)
		out.Why = fmt.Sprintf("then left: %s; right: %s", p.left.where(x.calls[0], x.left), p.right.where(x.calls[1], x.right))
		list := p.readings(x.leftLine, x.rightLine)
		if p.loopHead(x) != "" {
			list = p.headReadings(x)
		}
		if list = different(list); len(list) > 0 {
			out.LeftValue, out.RightValue = assignments(list)
		} else {
			out.LeftValue, out.RightValue, out.Why = p.left.where(x.calls[0], x.left), p.right.where(x.calls[1], x.right), "the runs continue differently after this line"
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

// deciding returns the line that decided a parting by path: the last common one, or the head of the loop that one of the
// runs leaves.
func (p *pair) deciding(x parting) string {
	if head := p.loopHead(x); head != "" {
		return head
	}
	return p.left.text(x.leftLine)
}

// loopHead returns the head of a loop that one of the runs leaves while the other one goes on with it, empty if there is none.
func (p *pair) loopHead(x parting) string {
	sides, lines, next := []*side{p.left, p.right}, []event.Moment{x.leftLine, x.rightLine}, []event.Moment{x.left, x.right}
	for i, s := range sides {
		if lines[i] == event.NoMoment || next[i] == event.NoMoment || s.T.Kind(next[i]) != event.Line {
			continue
		}
		head, at := s.T.Site(next[i]).Line, s.T.Site(lines[i]).Line
		f := s.T.FunctionOf(x.calls[i]).File
		end := s.blockEnd(f, head)
		text := s.line(f, head)
		if !strings.HasPrefix(text, "for ") || at < head || at > end {
			continue
		}
		// The other side is outside of the same loop, which may be elsewhere in its version.
		other, m := sides[1-i], next[1-i]
		from := other.T.Site(lines[1-i]).Line - (at - head)
		if m == event.NoMoment || other.T.Kind(m) != event.Line || other.T.Site(m).Line < from || other.T.Site(m).Line > from+end-head {
			return text
		}
	}
	return ""
}

// headReadings compares what the head of a loop reads that one of the runs leaves.
func (p *pair) headReadings(x parting) []reading {
	if x.left != event.NoMoment && p.left.T.Kind(x.left) == event.Line && strings.HasPrefix(p.left.text(x.left), "for ") {
		return p.compared(p.left.T.Site(x.left).Reads, x.left, x.rightLine)
	}
	return p.compared(p.right.T.Site(x.right).Reads, x.leftLine, x.right)
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

// The ranks of causes, the most telling first.
const (
	inSource  = iota // a line whose source differs
	byNewPath        // a branch after which one of the runs goes on as the other one never does
	byPath           // a line after which the paths part, or a loop that one of the runs leaves earlier
	byCheck          // the same, of a condition that reported the failure
	byValue          // a value that differs although its line read equal values
	byOrder          // what depends on the order of a map
	ranks
)

// rankOf returns the rank of a parting. ok is false if a value is only handed on.
func (p *pair) rankOf(x parting) (rank int, ok bool) {
	_, isDiffering := p.differing(x)
	switch {
	case isDiffering:
		return inSource, true
	case x.isUnordered:
		return byOrder, x.kind == replay.ByPath || p.originates(x)
	case x.kind == replay.ByPath && p.reports(x):
		return byCheck, true
	case x.kind == replay.ByPath && p.isNew(x) && p.loopHead(x) == "":
		return byNewPath, true
	case x.kind == replay.ByPath:
		return byPath, true
	}
	handedOn := x.called != event.NoCall || p.left.T.Kind(x.left) == event.Enter || p.left.T.Kind(x.left) == event.Leave
	return byValue, !handedOn && p.originates(x)
}

// reports reports whether a parting only reports the failure: it is the condition before the exit, or the left run returns an
// error there.
func (p *pair) reports(x parting) bool {
	if p.chain == nil || x.leftLine == event.NoMoment {
		return false
	}
	t := p.left.T
	if p.chain.check[t.ID(x.leftLine)] {
		return true
	}
	if x.left == event.NoMoment || t.Kind(x.left) != event.Line || !strings.HasPrefix(p.left.text(x.left), "return") {
		return false
	}
	errors, leave := t.ErrorReturns(), t.Call(x.calls[0]).Leave
	i := sort.Search(errors.Len(), func(i int) bool { return errors.At(i) >= leave })
	return i < errors.Len() && errors.At(i) == leave
}

// causes selects the partings that explain the others, by rank and in their order. What is handed on is one cause, the last
// one. If the run failed, and some partings led to the failure, the others are left out; and ways that only this run goes, in
// calls without a counterpart, are causes too.
func (p *pair) causes(most int) (list []replay.Parting) {
	var onChain, others [ranks][]parting
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
		rank, ok := p.rankOf(x)
		switch {
		case !ok && passed == nil:
			passed = &p.partings[i]
		case !ok:
		case p.chain == nil || rank == inSource || p.chain.leadsTo(p, x):
			onChain[rank] = append(onChain[rank], x)
		default:
			others[rank] = append(others[rank], x)
		}
	}
	for _, set := range [][ranks][]parting{onChain, others} {
		for rank, partings := range set {
			for _, x := range partings[:min(len(partings), most-len(list))] {
				list = append(list, p.describe(x))
			}
			if rank == byNewPath && p.chain != nil && len(p.partings) > 0 {
				list = p.addNewWays(list, most)
			}
		}
		if len(list) > 0 {
			break
		}
	}
	if passed != nil && len(list) < most {
		list = append(list, p.describe(*passed))
	}
	return list
}

// addNewWays adds the ways that only the left run goes, of lines at which the runs do not part.
func (p *pair) addNewWays(list []replay.Parting, most int) []replay.Parting {
	t := p.left.T
	isListed := map[uint32]bool{}
	for _, x := range p.partings {
		if x.leftLine != event.NoMoment {
			isListed[t.ID(x.leftLine)] = true
		}
	}
	for _, x := range p.newWays() {
		reported := p.reports(parting{calls: [2]event.CallID{t.CallOf(x.line), event.NoCall}, leftLine: x.line, left: x.next})
		if id := t.ID(x.line); len(list) < most && !isListed[id] && !reported {
			isListed[id] = true
			list = append(list, replay.Parting{Kind: replay.ByPath, Name: p.left.text(x.line), LeftValue: p.left.where(p.left.T.CallOf(x.line), x.next), RightValue: "never", Left: x.line, Right: event.NoMoment, Why: "only this run goes on after this line as it did"})
		}
	}
	return list
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
