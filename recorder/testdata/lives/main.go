// Command lives makes many objects, so that their addresses are used again.
package main

import (
	"fmt"
	"runtime"
)

type vessel struct {
	id   int
	name string
}

func fill(v *vessel, id int) {
	v.id = id
	v.name = fmt.Sprint("vessel ", id)
}

func local(id int) int {
	var v vessel
	p := &v
	fill(p, id)
	return p.id // local
}

func main() {
	var last *vessel
	for i := range 400 {
		last = &vessel{}
		fill(last, i)
		if i%40 == 0 {
			runtime.GC()
		}
	}
	total := last.id // literal
	for i := range 3 {
		total += local(i)
		runtime.GC()
	}
	depths := make([]int, 3, 4)
	depths[1] = 7
	depths = append(depths, 9)
	depths = append(depths, 11)
	var table []*int
	for i := range 300 {
		n := new(int)
		*n = i
		table = append(table[:0], n)
	}
	fmt.Println(total, depths, *table[0]) // end
}
