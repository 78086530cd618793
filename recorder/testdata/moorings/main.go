// Program moorings reuses an object: its life is told from the one before.
package main

import (
	"fmt"
	"sync"
)

type mooring struct {
	id    string
	ship  string
	count int
}

type quay struct {
	byID map[string]*mooring
	last *mooring
}

var pool = sync.Pool{New: func() any { return &mooring{} }}

func assign(id, ship string) *mooring {
	s := pool.Get().(*mooring)
	s.id, s.ship = id, ship
	return s
}

func (c *quay) put(s *mooring) {
	c.byID[s.id] = s
	c.last = s
}

func (c *quay) drop(id string) {
	s := c.byID[id]
	delete(c.byID, id)
	pool.Put(s)
}

func touch(s *mooring) {
	s.count++ // touched
}

func main() {
	c := &quay{byID: map[string]*mooring{}}
	work := make(chan *mooring, 4)
	a := assign("b-17", "Tern")
	c.put(a)
	for i := 0; i < 2; i++ {
		touch(a)
	}
	work <- a
	got := <-work
	got.ship = "Kelp"
	c.drop("b-17")
	b := assign("b-18", "Osprey")
	c.put(b)
	touch(b)
	fmt.Println(a.ship, b.ship, c.last.id) // end
}
