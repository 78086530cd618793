package compare

import (
	"context"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// Aligner implements replay.Aligner.
type Aligner struct{ *state.Log }

func (a Aligner) compared() *state.Log { return a.Log }

// maxPartings limits the places where recordings part that are examined, maxMoments the moments of each recording: a
// comparison needs up to 60 bytes of memory for each.
const (
	maxPartings = 5000
	maxMoments  = 30_000_000
)

// Align implements replay.Aligner.
func (a Aligner) Align(ctx context.Context, other replay.Recording, how replay.AlignOptions) (replay.Comparison, error) {
	o, ok := other.(interface{ compared() *state.Log })
	if !ok || !a.Recorded() || !o.compared().Recorded() {
		return replay.Comparison{}, fault.NoHistory.New("record both runs with wraith record", "only execution logs are compared call by call, not evidence of the kinds %s and %s", a.Info().Kind, other.Info().Kind)
	}
	logs := []*state.Log{a.Log, o.compared()}
	for _, l := range logs {
		if l.T.Len() > maxMoments {
			return replay.Comparison{}, fault.CostLimit.New("record less: a shorter run, or fewer packages", "a recording of %d moments is too long to compare: up to %d are read", l.T.Len(), maxMoments)
		}
	}
	sides := make([]*side, len(logs))
	err := guard.Each(ctx, len(logs), func(ctx context.Context, i int) (err error) {
		sides[i], err = newSide(ctx, logs[i], how.Ignore)
		return err
	})
	if err != nil {
		return replay.Comparison{}, err
	}
	p := &pair{ctx: ctx, left: sides[0], right: sides[1]}
	for _, t := range p.threads() {
		p.roots(p.left.roots[t[0]], p.right.roots[t[1]])
	}
	slices.SortStableFunc(p.partings, func(a, b parting) int { return int(a.order() - b.order()) })
	out := replay.Comparison{Aligned: p.aligned, OnlyLeft: p.left.T.Calls() - p.aligned, OnlyRight: p.right.T.Calls() - p.aligned, Unexamined: p.unexamined}
	if len(p.partings) > 0 {
		first := p.describe(p.partings[0])
		out.First = &first
	}
	out.Causes = p.causes(how.Causes)
	return out, ctx.Err()
}

// pair are two recordings while they are compared.
type pair struct {
	ctx         context.Context
	left, right *side
	partings    []parting
	unexamined  bool // there are more
	aligned     int
}

func (p *pair) add(x parting) {
	if len(p.partings) < maxPartings {
		p.partings = append(p.partings, x)
		return
	}
	p.unexamined = true
}

// parting is a place where two calls that are counterparts part: after the moments of the lines before it.
type parting struct {
	kind                  replay.PartingKind
	calls                 [2]event.CallID
	leftLine, rightLine   event.Moment // the last common line
	left, right           event.Moment // what differs; event.NoMoment if one side has nothing there
	leftExtra, rightExtra int          // events without a counterpart
	called                event.CallID // a call with a difference that the line made before; event.NoCall for none
}

// order is where a parting is in the left recording.
func (p parting) order() event.Moment {
	if p.left != event.NoMoment {
		return p.left
	}
	return p.leftLine
}

// threads pairs the threads: those that the same place started, in order of their digests if these are equal, else
// in order of appearance.
func (p *pair) threads() (list [][2]event.ThreadID) {
	key := func(s *side, t event.ThreadID) (start string, whole digest) {
		start = s.T.ThreadInfo(t).Creator
		if i := strings.LastIndex(start, " at "); i >= 0 { // the line may be another one
			start = start[:i]
		}
		for _, c := range s.roots[t] {
			whole = whole.and(s.calls[c])
		}
		if len(s.roots[t]) > 0 {
			start += " " + s.T.FunctionOf(s.roots[t][0]).Name
		}
		return start, whole
	}
	type of struct {
		start string
		whole digest
	}
	rest := map[string][]event.ThreadID{}
	same := map[of][]event.ThreadID{}
	for t := event.ThreadID(1); int(t) <= p.right.T.Threads(); t++ {
		start, whole := key(p.right, t)
		rest[start] = append(rest[start], t)
		same[of{start, whole}] = append(same[of{start, whole}], t)
	}
	var left []event.ThreadID
	for t := event.ThreadID(1); int(t) <= p.left.T.Threads(); t++ {
		start, whole := key(p.left, t)
		if equal := same[of{start, whole}]; len(equal) > 0 {
			list = append(list, [2]event.ThreadID{t, equal[0]})
			same[of{start, whole}] = equal[1:]
			rest[start] = slices.DeleteFunc(rest[start], func(x event.ThreadID) bool { return x == equal[0] })
			continue
		}
		left = append(left, t)
	}
	for _, t := range left {
		start, _ := key(p.left, t)
		if more := rest[start]; len(more) > 0 {
			list = append(list, [2]event.ThreadID{t, more[0]})
			rest[start] = more[1:]
		}
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
			p.compare(a[i].child, b[j].child)
		}
	}
}

// compare finds where two calls part, in them and in what they call.
func (p *pair) compare(a, b event.CallID) {
	if p.ctx.Err() != nil {
		return
	}
	if p.left.calls[a] == p.right.calls[b] {
		p.aligned += p.left.size(a)
		return
	}
	p.aligned++
	left, right := p.left.items(a), p.right.items(b)
	match := align(left, right)
	calls := [2]event.CallID{a, b}
	order := p.unorderedIn(left, right, match)
	leftLine, rightLine := event.NoMoment, event.NoMoment
	called := event.NoCall
	next := 0 // the first element of the right call that has not been passed
	apart := func(i, leftExtra, toRight int) {
		if leftExtra == 0 && toRight == next {
			return
		}
		x := parting{kind: replay.ByPath, calls: calls, leftLine: leftLine, rightLine: rightLine, left: event.NoMoment, right: event.NoMoment, leftExtra: leftExtra, rightExtra: toRight - next, called: called}
		if i < len(left) {
			x.left = left[i].at
		}
		if next < len(right) {
			x.right = right[next].at
		}
		p.add(x)
	}
	extra := 0
	for i, j := range match {
		if j < 0 {
			extra++
			continue
		}
		apart(i-extra, extra, j)
		extra, next = 0, j+1
		x, y := left[i], right[j]
		if p.left.T.Kind(x.at) == event.Line {
			leftLine, rightLine, called = x.at, y.at, event.NoCall
		}
		switch {
		case x.value == y.value:
			if x.child != event.NoCall {
				p.aligned += p.left.size(x.child)
			}
		case x.child != event.NoCall && order.takes(x.value):
			p.aligned += p.left.size(x.child)
		case x.child != event.NoCall:
			p.compare(x.child, y.child)
			called = x.child
		case order != nil && order.explains(p, leftLine, p.changed(p.left, x.at, a)):
		default:
			p.add(parting{kind: replay.ByValue, calls: calls, leftLine: leftLine, rightLine: rightLine, left: x.at, right: y.at, called: called})
		}
	}
	apart(len(left)-extra, extra, len(right))
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
