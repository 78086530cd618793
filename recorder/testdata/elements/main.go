// Command elements builds objects by literals, whose elements come from different places.
package main

import (
	"fmt"
	"os"
)

const margin = 2
const limit = margin * 10

type vessel struct {
	name  string
	draft int
	tags  []string
	at    *place
}

type place struct{ row, column int }

type office struct {
	vessels []vessel
	byName  map[string]vessel
}

func depth(n int) int { return n + margin }

func made(n int) vessel { return vessel{name: "made", draft: n} }

func main() {
	base := len(os.Args)
	other := base + 6
	list := []int{1, base, depth(other), limit, 7: other}
	fleet := []vessel{{"Curlew", 3, nil, nil}, {name: "Halcyon", draft: depth(base)}, {name: "Drift", draft: limit / 3, tags: []string{"x", fmt.Sprint(other)}, at: &place{column: other}}, made(base)}
	table := map[string]int{"ness": base, "quay": limit}
	o := office{vessels: fleet, byName: map[string]vessel{"c": fleet[1], "d": {draft: other}}}
	p := &vessel{draft: base + limit}
	grid := [2][2]int{{1, base}, {depth(other), 4}}
	fmt.Println(list, fleet, table, o, p, grid) // end
}
