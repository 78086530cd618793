package origin

import (
	"cmp"
	"container/heap"
	"slices"

	"wraithology/core/replay"
)

// How far a value is from the one that was asked for, for the choice of what is shown: by how much its kind and value tell.
const (
	tellingStep  = 1 // a value with a rare nature, a condition, or a change of nature
	usualStep    = 2
	constantStep = 3
	repeatStep   = 4
)

// trim keeps of a chain what fits into a number of lines, the most telling first: nodes in order of their distance
// from the root, where telling steps are short. Left counts what is missing below a node.
func trim(root replay.Origin, lines int) replay.Origin {
	if lines <= 0 || linesOf(&root) <= lines {
		return root
	}
	kept := map[*replay.Origin]bool{}
	queue := &byDistance{{&root, nil, 0}}
	for used := 0; queue.Len() > 0; {
		next := heap.Pop(queue).(distant)
		n := linesFor(next.node)
		if next.after != nil && handsOn(next.after) { // which has one line as soon as this is shown
			n -= linesFor(next.after) - 1
		}
		if used+n > lines {
			continue
		}
		used += n
		kept[next.node] = true
		for i := range next.node.From {
			child := &next.node.From[i]
			far := next.far + step(child)
			if handsOn(next.node) {
				far = next.far
			}
			heap.Push(queue, distant{child, next.node, far})
		}
	}
	return withOnly(&root, kept)
}

// withOnly copies a chain without the nodes that are not kept.
func withOnly(o *replay.Origin, kept map[*replay.Origin]bool) replay.Origin {
	out := *o
	out.From = nil
	for i := range o.From {
		if child := &o.From[i]; kept[child] {
			out.From = append(out.From, withOnly(child, kept))
		} else {
			out.Left += nodesOf(child)
		}
	}
	slices.SortStableFunc(out.From, func(a, b replay.Origin) int { return cmp.Compare(step(&a), step(&b)) })
	return out
}

func nodesOf(o *replay.Origin) int {
	n := 1
	for i := range o.From {
		n += nodesOf(&o.From[i])
	}
	return n
}

func linesOf(o *replay.Origin) int {
	n := linesFor(o)
	if handsOn(o) {
		n = 1
	}
	for i := range o.From {
		n += linesOf(&o.From[i])
	}
	return n
}

// linesFor is the number of lines in which people see a node: what it is, its place, its source text.
func linesFor(o *replay.Origin) int {
	n := 1
	switch o.Kind {
	case replay.FromConstant, replay.FromInput:
	case replay.FromWrite, replay.FromResult, replay.FromCondition:
		n = 3
	default:
		n = 2
	}
	if o.More {
		n++
	}
	return n
}

// step is how far a node is from the one that it explains.
func step(o *replay.Origin) int {
	switch o.Kind {
	case replay.FromConstant, replay.FromInput:
		if o.Kind == replay.FromConstant && o.Note != "" {
			return tellingStep
		}
		return constantStep
	case replay.FromRepeat:
		return repeatStep
	case replay.FromCondition:
		return tellingStep
	}
	switch natureOf(o.Value) {
	case notANum, infinite, negative, isNil, empty:
		return tellingStep
	}
	return usualStep
}

// distant is a node with the one that it explains, and its distance from the root.
type distant struct {
	node  *replay.Origin
	after *replay.Origin
	far   int
}

// handsOn reports whether a node only hands on the value of its only source: it takes one line.
func handsOn(o *replay.Origin) bool {
	switch o.Kind {
	case replay.FromWrite, replay.FromResult, replay.FromArgument:
		return o.Note == "" && !o.More && len(o.From) == 1 && o.From[0].Kind != replay.FromConstant && o.From[0].Kind != replay.FromInput && o.From[0].Value.Text() == o.Value.Text()
	}
	return false
}

// byDistance is a heap of nodes, nearest first.
type byDistance []distant

func (q byDistance) Len() int           { return len(q) }
func (q byDistance) Less(i, j int) bool { return cmp.Less(q[i].far, q[j].far) }
func (q byDistance) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *byDistance) Push(x any)        { *q = append(*q, x.(distant)) }
func (q *byDistance) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}
