// Program racing lets goroutines change the same memory at the same time, without anything that orders
// them.
package main

import (
	"fmt"
	"sync"
)

type berth struct {
	depth, ships int
	name         string
	log          [4]int
	next         *berth
}

var tide int

func dredge(id int, b *berth, rounds int) int {
	sum := 0
	for i := 0; i < rounds; i++ {
		b.depth = id*1000 + i
		tide++
		b.ships += 2
		b.log[i%4] = id
		b.next.depth = b.depth
		sum += b.depth
	}
	return sum
}

func look(b *berth, rounds int) (seen int) {
	for i := 0; i < rounds; i++ {
		d := b.depth
		if d != b.next.depth {
			seen++
		}
		n := tide
		seen += n % 2
	}
	return seen
}

func main() {
	b := &berth{name: "Inner Ness", next: &berth{name: "Outer Ness"}}
	var all sync.WaitGroup
	for id := 1; id <= 3; id++ {
		all.Add(1)
		go func() {
			defer all.Done()
			dredge(id, b, 400)
			look(b, 200)
		}()
	}
	look(b, 400)
	all.Wait()
	fmt.Println(b.name, b.ships > 0)
}
