// Command unassigned panics in a call whose result a variable is to get, before others are declared.
package main

import (
	"fmt"
	"os"
	"runtime/debug"
)

type quay struct {
	name  string
	depth int
}

//go:noinline
func fail(q *quay) int { return q.depth }

// litter leaves numbers on the stack.
//
//go:noinline
func litter(n int) (sum int) {
	var room [200]int
	for i := range room {
		room[i] = n + i
	}
	for _, x := range room {
		sum += x
	}
	return sum
}

//go:noinline
func plan(names []string) (total int) {
	first := len(names)
	bad := fail(nil)
	later := quay{"Kelp", bad}
	text := "unassigned " + later.name
	list := []int{bad, first}
	fmt.Println(text, list, &later)
	return bad
}

func main() {
	debug.SetTraceback("crash")
	fmt.Println(litter(len(os.Args)))
	fmt.Println(plan(os.Args))
}
