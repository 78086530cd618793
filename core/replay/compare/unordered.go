package compare

import (
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// unordered is what in a pair of calls depends on the order of a map, which differs in each run: what lines that range over
// a map write, what is computed from that in the same call, and the calls that are made in another order.
type unordered struct {
	lines map[uint32]bool // sites of lines that range over a map
	names map[string]bool // variables that depend on the order
	spare map[digest]int  // calls of the right side, without those that are paired with an equal one so far
}

// unorderedIn returns nil if the left call does not range over a map.
func (p *pair) unorderedIn(left, right event.CallID) *unordered {
	u := &unordered{lines: map[uint32]bool{}, names: map[string]bool{}, spare: map[digest]int{}}
	seen := map[uint32]bool{}
	lines := p.left.T.CallLines(left)
	for i := range lines.Len() {
		m := lines.At(i)
		if site := p.left.T.ID(m); !seen[site] {
			seen[site] = true
			if p.rangesOverMap(m) {
				u.lines[site] = true
			}
		}
	}
	if len(u.lines) == 0 {
		return nil
	}
	for _, c := range p.right.children[right] {
		u.spare[p.right.calls[c]]++
	}
	return u
}

func (p *pair) rangesOverMap(line event.Moment) bool {
	if text := p.left.text(line); !strings.HasPrefix(text, "for ") || !strings.Contains(text, "range ") {
		return false
	}
	for _, path := range p.left.T.Site(line).Reads {
		if v, ok := p.left.at(p, line, path); ok && v.Type != nil && v.Form() == event.Map {
			return true
		}
	}
	return false
}

// explains reports whether a value differs only because of the order, and remembers what depends on it.
func (u *unordered) explains(p *pair, line event.Moment, written []replay.Variable) bool {
	if line == event.NoMoment {
		return false
	}
	depends := u.lines[p.left.T.ID(line)]
	for _, path := range p.left.T.Site(line).Reads {
		depends = depends || u.names[rootName(path)]
	}
	if depends {
		for _, v := range written {
			u.names[rootName(v.Name)] = true
		}
	}
	return depends
}

// covers reports whether a line is one that ranges over a map, or within its loop.
func (u *unordered) covers(p *pair, line event.Moment) bool {
	if u == nil || line == event.NoMoment {
		return false
	}
	t := p.left.T
	at := t.Site(line)
	f := t.Function(at.Function)
	for site := range u.lines {
		x := t.Sites[event.SiteID(site)]
		if x.Function == at.Function && at.Line >= x.Line && at.Line <= p.left.blockEnd(f.File, x.Line) {
			return true
		}
	}
	return false
}

// blockEnd returns the last line of the block that a line begins: the next one that is not indented more, in formatted source.
func (s *side) blockEnd(f event.FileID, from int) int {
	lines := s.sources[f]
	indent := func(n int) int { return len(lines[n-1]) - len(strings.TrimLeft(lines[n-1], "\t ")) }
	if from < 1 || from > len(lines) {
		return from
	}
	for n := from + 1; n <= len(lines); n++ {
		if strings.TrimSpace(lines[n-1]) != "" && indent(n) <= indent(from) {
			return n
		}
	}
	return len(lines)
}

// remove leaves out a call of the right side that has its counterpart.
func (u *unordered) remove(call digest) {
	if u != nil {
		u.spare[call]--
	}
}

// take reports whether the right side made an equal call at another time.
func (u *unordered) take(call digest) bool {
	if u == nil || u.spare[call] <= 0 {
		return false
	}
	u.spare[call]--
	return true
}

// rootName returns the variable that a path begins with.
func rootName(path string) string {
	path = strings.TrimLeft(path, "*(&")
	if i := strings.IndexAny(path, ".[)"); i > 0 {
		return path[:i]
	}
	return path
}
