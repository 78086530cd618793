package compare

import (
	"context"
	"iter"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/core/replay/branch"
	"wraithology/core/replay/origin"
	"wraithology/core/replay/state"
)

// Aligner implements replay.Aligner.
type Aligner struct {
	*state.Log
	Chains   origin.Chains
	Branches branch.Brancher
}

func (a Aligner) compared() *state.Log { return a.Log }

// maxPartings limits the places where recordings part that are examined, maxOfLine those of one line, which are one
// cause; maxMoments limits the moments of each recording: a comparison needs up to 60 bytes of memory for each.
const (
	maxPartings = 5000
	maxOfLine   = 8
	maxMoments  = 30_000_000
)

// Align implements replay.Aligner.
func (a Aligner) Align(ctx context.Context, other replay.Recording, how replay.AlignOptions) (replay.Comparison, error) {
	o, ok := other.(interface{ compared() *state.Log })
	switch {
	case ok && a.T.Traces() > 0 && o.compared().T.Traces() > 0:
		return alignTraces(ctx, a.Log, o.compared(), how)
	case !ok || !a.Recorded() || !o.compared().Recorded():
		return replay.Comparison{}, notComparable(a, other)
	}
	logs := []*state.Log{a.Log, o.compared()}
	for _, l := range logs {
		if l.T.Len() > maxMoments {
			return replay.Comparison{}, fault.CostLimit.New("record less: a shorter run, or fewer packages", "a recording of %d moments is too long to compare: up to %d are read", l.T.Len(), maxMoments)
		}
	}
	sides := make([]*side, len(logs))
	err := guard.Each(ctx, len(logs), func(ctx context.Context, i int) (err error) {
		sides[i], err = newSide(ctx, logs[i], how)
		return err
	})
	if err != nil {
		return replay.Comparison{}, err
	}
	p := &pair{ctx: ctx, left: sides[0], right: sides[1], ofLine: map[place]int{}, versions: newVersions(sides[0], sides[1])}
	for _, t := range p.threads() {
		p.roots(p.left.roots[t[0]], p.right.roots[t[1]])
	}
	slices.SortStableFunc(p.partings, func(a, b parting) int { return int(a.order() - b.order()) })
	out := replay.Comparison{Of: "call", Aligned: p.aligned, OnlyLeft: p.left.T.Calls() - p.aligned, OnlyRight: p.right.T.Calls() - p.aligned, Unexamined: p.unexamined}
	if p.first != nil {
		first := p.describe(*p.first)
		out.First = &first
	}
	p.chain = a.chainOf(ctx, p)
	out.Causes = p.causes(how.Causes)
	return out, ctx.Err()
}

// pair are two recordings while they are compared.
type pair struct {
	ctx         context.Context
	left, right *side
	partings    []parting
	first       *parting
	ofLine      map[place]int // number of partings
	unexamined  bool          // there are more
	aligned     int
	todo        [][2]event.CallID // counterparts that differ, the next one last
	chain       *chain            // what led to the failure; nil if there is none
	versions    *versions
	edgesOf     [2]map[edge]taken // of the left run and of the right one, nil until they are needed
}

// place is a kind of parting at a line of a function.
type place struct {
	kind     replay.PartingKind
	function event.FunctionID
	site     uint32
}

func (p *pair) add(x parting) {
	if p.first == nil || x.order() < p.first.order() {
		p.first = &x
	}
	at := place{kind: x.kind, function: p.left.T.Call(x.calls[0]).Function}
	if x.leftLine != event.NoMoment {
		at.site = p.left.T.ID(x.leftLine) + 1
	}
	switch p.ofLine[at]++; {
	case p.ofLine[at] > maxOfLine:
	case len(p.partings) < maxPartings:
		p.partings = append(p.partings, x)
	default:
		p.unexamined = true
	}
}

// parting is a place where two calls that are counterparts part: after the moments of the lines before it.
type parting struct {
	kind                  replay.PartingKind
	calls                 [2]event.CallID
	leftLine, rightLine   event.Moment // the last common line
	left, right           event.Moment // what differs; event.NoMoment if one side has nothing there
	leftExtra, rightExtra int          // events without a counterpart
	called                event.CallID // a call with a difference that the line made before; event.NoCall for none
	isUnordered           bool         // it is in the body of a loop over a map, whose order differs in each run
}

// order is where a parting is in the left recording.
func (p parting) order() event.Moment {
	if p.left != event.NoMoment {
		return p.left
	}
	return p.leftLine
}

// threads pairs the threads that the same place started: those that do the same, then those that begin with the same values,
// and the rest in order of appearance.
func (p *pair) threads() (list [][2]event.ThreadID) {
	type key struct {
		place string
		what  digest
	}
	left, right := p.left.starts(), p.right.starts()
	for _, what := range []func(x *start) digest{
		func(x *start) digest { return x.whole },
		func(x *start) digest { return x.begins },
		func(*start) digest { return 0 },
	} {
		free := map[key][]*start{}
		for i := range right {
			if x := &right[i]; !x.isPaired {
				free[key{x.place, what(x)}] = append(free[key{x.place, what(x)}], x)
			}
		}
		for i := range left {
			x := &left[i]
			at := key{x.place, what(x)}
			if x.isPaired || len(free[at]) == 0 {
				continue
			}
			y := free[at][0]
			free[at] = free[at][1:]
			list = append(list, [2]event.ThreadID{x.thread, y.thread})
			x.isPaired, y.isPaired = true, true
		}
	}
	return list
}

// start is how a thread began.
type start struct {
	thread   event.ThreadID
	place    string // what started it, and its first function
	whole    digest // of all that it did
	begins   digest // of its first values
	isPaired bool
}

func (s *side) starts() (list []start) {
	const first = 3 // values
	for t := event.ThreadID(1); int(t) <= s.T.Threads(); t++ {
		x := start{thread: t, place: s.T.ThreadInfo(t).Creator}
		if i := strings.LastIndex(x.place, " at "); i >= 0 { // the line may be another one
			x.place = x.place[:i]
		}
		for i, c := range s.roots[t] {
			x.whole = x.whole.mix(s.calls[c])
			if i > 0 {
				continue
			}
			x.place += " " + s.T.FunctionOf(c).Name
			values := 0
			for it := range s.items(c) {
				if it.value != 0 && it.child == event.NoCall {
					x.begins = x.begins.mix(it.value)
					values++
				}
				if values == first {
					break
				}
			}
		}
		list = append(list, x)
	}
	return list
}

// roots compares the outermost calls of two threads.
func (p *pair) roots(left, right []event.CallID) {
	items := func(s *side, list []event.CallID) (out []item) {
		for _, c := range list {
			out = append(out, item{at: s.T.Call(c).Enter, path: uint32(s.functions[s.T.Call(c).Function]), value: s.calls[c], child: c})
		}
		return out
	}
	a, b := items(p.left, left), items(p.right, right)
	for i, j := range align(a, b) {
		if j >= 0 {
			p.todo = append(p.todo, [2]event.CallID{a[i].child, b[j].child})
		}
	}
	slices.Reverse(p.todo)
	for len(p.todo) > 0 && p.ctx.Err() == nil {
		next := p.todo[len(p.todo)-1]
		p.todo = p.todo[:len(p.todo)-1]
		p.compare(next[0], next[1])
	}
}

// compare finds where two calls part. What they call is compared next.
func (p *pair) compare(a, b event.CallID) {
	if p.left.calls[a] == p.right.calls[b] {
		p.aligned += p.left.size(a)
		return
	}
	p.aligned++
	w := &walk{pair: p, calls: [2]event.CallID{a, b}, leftLine: event.NoMoment, rightLine: event.NoMoment, called: event.NoCall, order: p.unorderedIn(a, b)}
	// Most calls take the same path at first: these parts need no memory.
	nextLeft, stopLeft := iter.Pull(p.left.items(a))
	defer stopLeft()
	nextRight, stopRight := iter.Pull(p.right.items(b))
	defer stopRight()
	x, more := nextLeft()
	y, more2 := nextRight()
	for more && more2 && x.path == y.path {
		w.pairUp(x, y)
		x, more = nextLeft()
		y, more2 = nextRight()
	}
	w.alignRest(collect(x, more, nextLeft), collect(y, more2, nextRight))
	slices.Reverse(w.differ)
	p.todo = append(p.todo, w.differ...)
}

// collect returns the remaining elements, the first of which was taken already.
func collect(first item, more bool, next func() (item, bool)) (list []item) {
	for x := first; more; x, more = next() {
		list = append(list, x)
	}
	return list
}

// walk goes through two calls that are counterparts.
type walk struct {
	*pair
	calls               [2]event.CallID
	leftLine, rightLine event.Moment      // the last common line
	called              event.CallID      // a call with a difference that this line made; event.NoCall for none
	order               *unordered        // nil if the calls do not range over a map
	differ              [][2]event.CallID // calls that they make
}

// pairUp compares two elements with the same path.
func (w *walk) pairUp(x, y item) {
	if w.left.T.Kind(x.at) == event.Line {
		w.leftLine, w.rightLine, w.called = x.at, y.at, event.NoCall
	}
	switch {
	case x.value == y.value && x.child != event.NoCall:
		w.aligned += w.left.size(x.child)
		w.order.remove(x.value)
	case x.value == y.value:
	case x.child != event.NoCall && w.order.take(x.value):
		w.aligned += w.left.size(x.child)
	case x.child != event.NoCall:
		w.differ = append(w.differ, [2]event.CallID{x.child, y.child})
		w.called = x.child
	case w.order != nil && w.order.explains(w.pair, w.leftLine, w.left.changed(x.at, w.calls[0])):
	default:
		w.part(parting{kind: replay.ByValue, calls: w.calls, leftLine: w.leftLine, rightLine: w.rightLine, left: x.at, right: y.at, called: w.called})
	}
}

// part adds a parting.
func (w *walk) part(x parting) {
	x.isUnordered = w.order.covers(w.pair, x.leftLine)
	w.add(x)
}

// alignRest aligns the remaining elements, which begin with different paths.
func (w *walk) alignRest(left, right []item) {
	next := 0 // the first element of the right call that has not been passed
	apart := func(i, leftExtra, toRight int) {
		if leftExtra == 0 && toRight == next {
			return
		}
		x := parting{kind: replay.ByPath, calls: w.calls, leftLine: w.leftLine, rightLine: w.rightLine, left: event.NoMoment, right: event.NoMoment, leftExtra: leftExtra, rightExtra: toRight - next, called: w.called}
		if i < len(left) {
			x.left = left[i].at
		}
		if next < len(right) {
			x.right = right[next].at
		}
		w.part(x)
	}
	extra := 0
	for i, j := range align(left, right) {
		if j < 0 {
			extra++
			continue
		}
		apart(i-extra, extra, j)
		extra, next = 0, j+1
		w.pairUp(left[i], right[j])
	}
	if !w.cutOff(left[len(left)-extra:], right[next:]) {
		apart(len(left)-extra, extra, len(right))
	}
}

// cutOff reports whether all that is left of two calls is the end of one of them, of which the other has none: it was still
// under way when its recording ended, so nothing says that it would have gone on in another way.
func (w *walk) cutOff(left, right []item) bool {
	ends := func(s *side, rest []item, s2 *side, other event.CallID) bool {
		return len(rest) == 1 && s.T.Kind(rest[0].at) == event.Leave && rest[0].child == event.NoCall && s2.T.Call(other).Leave == event.NoMoment
	}
	return len(left) == 0 && ends(w.right, right, w.left, w.calls[0]) || len(right) == 0 && ends(w.left, left, w.right, w.calls[1])
}

// size returns the number of calls of a call on its thread, itself included.
func (s *side) size(c event.CallID) int {
	n := 0
	for list := []event.CallID{c}; len(list) > 0; {
		last := list[len(list)-1]
		list = append(list[:len(list)-1], s.children[last]...)
		n++
	}
	return n
}
