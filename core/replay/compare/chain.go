package compare

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/timeline"
)

// Bounds of the search for what led to the failure.
const (
	maxChainQuestions = 300
	maxChainTime      = 4 * time.Second
	chainDepth        = 24 // computations that an origin is followed in one question
	callersOfChain    = 3  // callers whose conditions count at each line
	maxOfSite         = 2  // moments of one line from which the search goes on
)

// chain is what led to the failure: the lines on the origin chains of the values that decided it, and the conditions on
// which these lines ran. It is the backward dynamic slice of H. Agrawal and J. Horgan, Dynamic Program Slicing, PLDI 1990, by lines and
// with bounds.
type chain struct {
	sites map[uint32]int       // with the order in which they were found, from 1
	names map[writtenName]bool // what these lines write
	check map[uint32]bool      // the condition that reported the failure: it follows from the cause
}

// order returns the place of a line in the chain, counted from the failure, 0 if it is not there.
func (c *chain) order(t *timeline.Timeline, line event.Moment) int {
	if line == event.NoMoment || t.Kind(line) != event.Line {
		return 0
	}
	return c.sites[t.ID(line)]
}

type writtenName struct {
	function event.FunctionID
	name     string
}

// chainOf returns what led to the failure of the left run, nil if it did not fail.
func (a Aligner) chainOf(ctx context.Context, p *pair) *chain {
	failure := p.left.Info().Failure
	if failure == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, maxChainTime)
	defer cancel()
	x := &tracer{Aligner: a, ctx: ctx, side: p.left, chain: &chain{sites: map[uint32]int{}, names: map[writtenName]bool{}, check: map[uint32]bool{}}, visits: map[uint32]int{}, asked: map[string]bool{}}
	x.from(failure.Moment)
	x.reported(failure)
	if c := p.left.T.CallOf(failure.Moment); c != event.NoCall {
		if line := p.left.T.LastLine(c, failure.Moment); line != event.NoMoment {
			for _, path := range p.left.T.Site(line).Reads {
				x.todo = append(x.todo, replay.Asked{At: failure.Moment, Thread: failure.Thread, Frame: failure.Frame, Path: path})
			}
		}
	}
	for len(x.todo) > 0 && x.questions < maxChainQuestions && ctx.Err() == nil {
		next := x.todo[0]
		x.todo = x.todo[1:]
		if next.Path != "" {
			x.origin(next)
		} else {
			x.conditions(next.At)
		}
	}
	return x.chain
}

// tracer searches for a chain, breadth first.
type tracer struct {
	Aligner
	ctx       context.Context
	side      *side
	chain     *chain
	visits    map[uint32]int
	todo      []replay.Asked // conditions of the lines at the moments, or origins of the paths
	asked     map[string]bool
	questions int
}

// from adds the line at a moment; the search goes on from it.
func (x *tracer) from(m event.Moment) {
	if m == event.NoMoment || m < 0 {
		return
	}
	c := x.side.T.CallOf(m)
	if c == event.NoCall {
		return
	}
	line := x.side.T.LastLine(c, m)
	if line == event.NoMoment { // at the entry, its caller's line counts
		x.todo = append(x.todo, replay.Asked{At: m})
		return
	}
	id := x.side.T.ID(line)
	if x.chain.sites[id] == 0 {
		x.chain.sites[id] = len(x.chain.sites) + 1
	}
	site := x.side.T.Site(line)
	for _, name := range site.Writes {
		x.chain.names[writtenName{site.Function, rootName(name)}] = true
	}
	if x.visits[id]++; x.visits[id] <= maxOfSite {
		x.todo = append(x.todo, replay.Asked{At: line})
	}
}

// reported notes the condition of a failure that the program reports itself.
func (x *tracer) reported(failure *replay.Failure) {
	if failure.Kind != "exit" && !strings.HasPrefix(x.side.text(failure.Moment), "panic(") {
		return
	}
	d, err := x.Branches.Reached(x.ctx, failure.Moment, failure.Thread, failure.Frame, 0)
	if err != nil || len(d.List) == 0 {
		return
	}
	if line := x.side.T.LastLine(d.List[0].Call, d.List[0].Moment); line != event.NoMoment {
		x.chain.check[x.side.T.ID(line)] = true
	}
}

// conditions adds the conditions on which the line at a moment ran, and the origins of what they read.
func (x *tracer) conditions(at event.Moment) {
	x.questions++
	thread := x.side.T.Thread(at)
	d, err := x.Branches.Reached(x.ctx, at, thread, 0, callersOfChain)
	if err != nil {
		return
	}
	for _, c := range d.List {
		if line := x.side.T.LastLine(c.Call, c.Moment); line != event.NoMoment && x.visits[x.side.T.ID(line)] >= maxOfSite {
			continue
		}
		x.from(c.Moment)
		for _, o := range c.Operands {
			if o.Path != "" && o.At != event.NoMoment {
				x.todo = append(x.todo, replay.Asked{At: o.At, Thread: x.side.T.Thread(o.At), Path: o.Path})
			} else {
				x.from(o.Written)
			}
		}
	}
}

// origin adds the lines of an origin chain.
func (x *tracer) origin(of replay.Asked) {
	key := fmt.Sprint(of)
	if x.asked[key] {
		return
	}
	x.asked[key] = true
	x.questions++
	o, err := x.Chains.Origin(x.ctx, of.Path, of.At, of.Thread, of.Frame, replay.OriginOptions{Depth: chainDepth})
	if err != nil {
		return
	}
	for list := []replay.Origin{o}; len(list) > 0; list = list[1:] {
		list = append(list, list[0].From...)
		x.from(list[0].Moment)
		if list[0].More {
			x.todo = append(x.todo, list[0].Asked)
		}
	}
}

// leadsTo reports whether a parting is on the chain: its line, or the line after it, is; or what only the right run does writes
// a variable that the chain has.
func (c *chain) leadsTo(p *pair, x parting) bool {
	t := p.left.T
	if c.order(t, x.leftLine) > 0 || c.order(t, x.left) > 0 {
		return true
	}
	function := t.Call(x.calls[0]).Function
	for _, site := range p.right.extra(x) {
		for _, name := range site.Writes {
			if c.names[writtenName{function, rootName(name)}] {
				return true
			}
		}
	}
	return false
}

// extra lists the lines that only the right run has at a parting, at most 64.
func (s *side) extra(x parting) (list []*event.Site) {
	const most = 64
	call, m := x.calls[1], x.right
	end := s.T.Call(call).Leave
	for n := 0; m != event.NoMoment && n < x.rightExtra && len(list) < most && (end == event.NoMoment || m <= end); m = s.T.Next(s.T.Call(call).Thread, m) {
		if s.T.CallOf(m) != call {
			continue
		}
		if n++; s.T.Kind(m) == event.Line {
			list = append(list, s.T.Site(m))
		}
	}
	return list
}

// edge is a line of a call and what is next in it: a line, or the end.
type edge [2]digest

// taken is where a run took an edge for the first time. next is event.NoMoment at the end of the call.
type taken struct{ line, next event.Moment }

// edges returns which lines follow each other in the calls of a recording.
func (s *side) edges(ctx context.Context) map[edge]taken {
	all := map[edge]taken{}
	last := make([]event.Moment, s.T.Calls()) // the last line of each call, plus 1
	const betweenLooks = 1 << 16
	for m := range s.T.Len() {
		if m%betweenLooks == 0 && ctx.Err() != nil {
			return all
		}
		c, kind := s.T.CallOf(m), s.T.Kind(m)
		if c == event.NoCall || kind != event.Line && kind != event.Leave {
			continue
		}
		x := taken{last[c] - 1, m}
		if kind == event.Line {
			last[c] = m + 1
		} else {
			x.next = event.NoMoment
		}
		if x.line < 0 {
			continue
		}
		if e := s.edge(x); all[e] == (taken{}) {
			all[e] = x
		}
	}
	return all
}

func (s *side) edge(x taken) edge {
	e := edge{s.sites[event.SiteID(s.T.ID(x.line))]}
	if x.next != event.NoMoment {
		e[1] = s.sites[event.SiteID(s.T.ID(x.next))]
	}
	return e
}

// bothEdges returns the edges of both runs.
func (p *pair) bothEdges() [2]map[edge]taken {
	if p.edgesOf[0] == nil {
		p.edgesOf = [2]map[edge]taken{p.left.edges(p.ctx), p.right.edges(p.ctx)}
	}
	return p.edgesOf
}

// isNew reports whether one of the runs never goes on after the line as the other one does.
func (p *pair) isNew(x parting) bool {
	edges := p.bothEdges()
	is := func(s *side, line, next event.Moment, other map[edge]taken) bool {
		if line == event.NoMoment || next != event.NoMoment && s.T.Kind(next) != event.Line {
			return false
		}
		return other[s.edge(taken{line, next})] == (taken{})
	}
	return is(p.left, x.leftLine, x.left, edges[1]) || is(p.right, x.rightLine, x.right, edges[0])
}

// newWays lists the lines of the chain that both runs have and after which only the left run goes on in some way, in calls
// without a counterpart too, those nearest to the failure first.
func (p *pair) newWays() (list []taken) {
	edges := p.bothEdges()
	inRight := map[digest]bool{}
	for e := range edges[1] {
		inRight[e[0]] = true
	}
	for e, x := range edges[0] {
		isBack := x.next != event.NoMoment && p.left.T.Site(x.next).Line <= p.left.T.Site(x.line).Line // a loop goes on
		if edges[1][e] == (taken{}) && inRight[e[0]] && !isBack && p.chain.order(p.left.T, x.line) > 0 {
			list = append(list, x)
		}
	}
	slices.SortFunc(list, func(a, b taken) int {
		return cmp.Or(cmp.Compare(p.chain.order(p.left.T, a.line), p.chain.order(p.left.T, b.line)), cmp.Compare(a.line, b.line), cmp.Compare(a.next, b.next))
	})
	return list
}
