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
	spare map[digest]int  // calls of the right side that are not paired with an equal one
}

// unorderedIn returns nil if the calls do not range over a map.
func (p *pair) unorderedIn(left, right []item, match []int) *unordered {
	u := &unordered{lines: map[uint32]bool{}, names: map[string]bool{}, spare: map[digest]int{}}
	seen := map[uint32]bool{}
	for _, x := range left {
		if p.left.T.Kind(x.at) != event.Line || seen[p.left.T.ID(x.at)] {
			continue
		}
		seen[p.left.T.ID(x.at)] = true
		if p.rangesOverMap(x.at) {
			u.lines[p.left.T.ID(x.at)] = true
		}
	}
	if len(u.lines) == 0 {
		return nil
	}
	for _, y := range right {
		if y.child != event.NoCall {
			u.spare[y.value]++
		}
	}
	for i, j := range match {
		if j >= 0 && left[i].child != event.NoCall && left[i].value == right[j].value {
			u.spare[left[i].value]--
		}
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
	if u == nil || line == event.NoMoment {
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

// takes reports whether the right side made an equal call at another time.
func (u *unordered) takes(call digest) bool {
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
