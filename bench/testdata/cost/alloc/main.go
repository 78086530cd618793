// Command alloc builds trees of small objects, with a call for each.
package main

type node struct {
	left, right *node
	n           int
}

func build(depth int) *node {
	if depth == 0 {
		return &node{n: 1}
	}
	return &node{build(depth - 1), build(depth - 1), depth}
}

func (t *node) count() int {
	if t == nil {
		return 0
	}
	return 1 + t.left.count() + t.right.count()
}

func main() {
	total := 0
	for range 40 {
		total += build(12).count()
	}
	println(total)
}
