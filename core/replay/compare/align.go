package compare

import "slices"

// maxEdits limits the differences of two sequences that are aligned; the rest stays without counterparts.
const maxEdits = 1000

// align pairs the elements of two sequences: for each of the left one, the index of its counterpart in the right one, or
// -1. What is equal in path and value is paired first, then what is equal in path.
func align(left, right []item) []int {
	samePath := func(a, b item) bool { return a.path == b.path }
	same := func(a, b item) bool { return a.path == b.path && a.value == b.value }
	match := make([]int, len(left))
	for i := range match {
		match[i] = -1
	}
	from := 0
	for from < min(len(left), len(right)) && samePath(left[from], right[from]) {
		match[from] = from
		from++
	}
	back := 0
	for back < min(len(left), len(right))-from && samePath(left[len(left)-1-back], right[len(right)-1-back]) {
		back++
		match[len(left)-back] = len(right) - back
	}
	a, b := left[from:len(left)-back], right[from:len(right)-back]
	// Between pairs of what is the same, what has the same path.
	i, j := 0, 0
	between := func(toI, toJ int) {
		for _, p := range edits(a[i:toI], b[j:toJ], samePath) {
			match[from+i+p[0]] = from + j + p[1]
		}
	}
	for _, p := range edits(a, b, same) {
		between(p[0], p[1])
		match[from+p[0]] = from + p[1]
		i, j = p[0]+1, p[1]+1
	}
	between(len(a), len(b))
	return match
}

// edits returns the pairs of equal elements in a shortest way from a to b (E. Myers, An O(ND) Difference Algorithm and
// Its Variations, Algorithmica 1, 1986). If the way has more than maxEdits steps, it returns none.
func edits(a, b []item, equal func(x, y item) bool) (pairs [][2]int) {
	if len(a) == 0 || len(b) == 0 {
		return nil
	}
	most := min(len(a)+len(b), maxEdits)
	v := make([]int, 2*most+3) // the furthest x on each diagonal x-y, from -most-1 on
	base := most + 1
	var trace [][]int
	for d := range most + 1 {
		trace = append(trace, slices.Clone(v[base-d-1:base+d+2]))
		for k := -d; k <= d; k += 2 {
			x := v[base+k-1] + 1
			if k == -d || k != d && v[base+k-1] < v[base+k+1] {
				x = v[base+k+1]
			}
			y := x - k
			for x < len(a) && y < len(b) && equal(a[x], b[y]) {
				x, y = x+1, y+1
			}
			v[base+k] = x
			if x >= len(a) && y >= len(b) {
				return backtrack(trace, len(a), len(b))
			}
		}
	}
	return nil
}

// backtrack follows a shortest way back from its end. trace[d] are the furthest x on the diagonals -d-1 to d+1 before
// step d.
func backtrack(trace [][]int, x, y int) (pairs [][2]int) {
	for d := len(trace) - 1; d >= 0; d-- {
		at := func(k int) int { return trace[d][k+d+1] }
		k := x - y
		before := k - 1
		if k == -d || k != d && at(k-1) < at(k+1) {
			before = k + 1
		}
		fromX := at(before)
		fromY := fromX - before
		if d == 0 {
			fromX, fromY = 0, 0
		}
		for x > fromX && y > fromY {
			x, y = x-1, y-1
			pairs = append(pairs, [2]int{x, y})
		}
		if d > 0 {
			x, y = fromX, fromY
		}
	}
	slices.Reverse(pairs)
	return pairs
}
