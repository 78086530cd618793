// Package shapes has functions that write to what they get, or keep it, in many ways. The comment of each
// says what it does to each argument: w writes, k keeps, c calls, h hands to a function that it calls, - nothing; and
// "elsewhere" if it writes to something else.
package shapes

import "sort"

type node struct {
	N    int
	Next *node
	List []int
	Map  map[string]*node
	Do   func(*node)
}

var last *node
var counted int

// Reads does: -
func Reads(n *node) int { return n.N + n.Next.N + len(n.Map) }

// Sets does: w
func Sets(n *node) { n.N = 1 }

// SetsDeep does: w
func SetsDeep(n *node) { n.Next.Next.N++ }

// SetsByAlias does: w
func SetsByAlias(n *node) {
	m := n.Next
	for m != nil {
		x := &m.N
		*x = 2
		m = m.Next
	}
}

// SetsElement does: w -
func SetsElement(list []int, i int) { list[i] = i }

// SetsEntry does: w -
func SetsEntry(m map[string]int, k string) { m[k]++ }

// Deletes does: w -
func Deletes(m map[string]int, k string) { delete(m, k) }

// Appends does: w -
func Appends(list []int, n int) []int { return append(list, n) }

// Copies does: w -
func Copies(to, from []int) { copy(to, from) }

// Own does: -
func Own(n *node) *node {
	c := *n
	c.N = 5
	c.List = append([]int(nil), n.List...)
	c.List[0] = 1
	return &c
}

// Picks does: -
func Picks(list []*node) []*node {
	out := make([]*node, 0, len(list))
	for _, n := range list {
		if n.N > 1 {
			out = append(out, n)
		}
	}
	return out
}

// PicksAndSets does: w
func PicksAndSets(list []*node) {
	out := Picks(list)
	out[0].N = 3
}

// Links does: wk k
func Links(a, b *node) { a.Next = b }

// Remembers does: k elsewhere
func Remembers(n *node) { last = n }

// SetsRemembered does: - elsewhere
func SetsRemembered(n int) { last.N = n }

// Counts does: - elsewhere
func Counts(n *node) { counted += n.N }

// Sends does: wk k
func Sends(c chan *node, n *node) { c <- n }

// Later does: wk elsewhere
func Later(n *node) { go Reads(n) }

// Captures does: k
func Captures(n *node) func() int { return func() int { return n.N } }

// CapturesAndSets does: w
func CapturesAndSets(n *node) {
	set := func() { n.N = 1 }
	set()
}

// Defers does: w
func Defers(n *node) {
	defer Sets(n)
	defer func() { n.N = 3 }()
}

// Each does: h c
func Each(n *node, do func(*node)) {
	for ; n != nil; n = n.Next {
		do(n)
	}
}

// EachReads does: -
func EachReads(n *node) { Each(n, func(n *node) { _ = n.N }) }

// EachSets does: w
func EachSets(n *node) { Each(n, Sets) }

// Calls does: wk elsewhere
func Calls(n *node) { n.Do(n) }

// Sorts does: w
func Sorts(list []int) { sort.Ints(list) }

// SortsOwn does: -
func SortsOwn(list []int) []int {
	c := append([]int{}, list...)
	sort.Ints(c)
	return c
}

// Recurses does: w -
func Recurses(n *node, depth int) {
	if depth > 0 {
		Recurses(n.Next, depth-1)
		return
	}
	Sets(n)
}

type setter interface{ Set(n *node) }

// Asks does: c h
func Asks(s setter, n *node) { s.Set(n) }

// AsksEach does: wk k elsewhere
func AsksEach(list []setter, n *node) {
	for _, s := range list {
		s.Set(n)
	}
}

// Generic does: w k
func Generic[T any](list []T, x T) {
	for i := range list {
		list[i] = x
	}
}

// GenericPointers does: wk k
func GenericPointers(list []*node, x *node) { Generic(list, x) }

// Swaps does: wk wk
func Swaps(a, b *[]int) { *a, *b = *b, *a }

// Changes does: w
func (n *node) Changes() { n.List = n.List[:0] }

// Says does: -
func (n node) Says() int { n.N++; return n.N }
