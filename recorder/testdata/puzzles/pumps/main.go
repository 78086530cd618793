// Program pumps sells fuel to vessels at several pumps at once.
package main

import (
	"fmt"
	"os"
	"strings"
	"sync"
)

// Stock is the fuel of the harbour, by grade.
type Stock struct {
	mu     sync.Mutex
	litres map[string]int
	sold   map[string]int
	orders []string
}

func (s *Stock) available(grade string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.litres[grade]
}

func (s *Stock) take(grade string, n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.litres[grade] -= n
	s.sold[grade] += n
}

func (s *Stock) note(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.orders = append(s.orders, text)
}

type Order struct {
	Vessel string
	Grade  string
	Litres int
}

type Pump struct {
	id    int
	stock *Stock
	ready *sync.WaitGroup
}

func (p *Pump) serve(o Order) error {
	have := p.stock.available(o.Grade)
	if have < o.Litres {
		return fmt.Errorf("pump %d: %s wants %d of %s, there are %d", p.id, o.Vessel, o.Litres, o.Grade, have)
	}
	p.prepare(o)
	p.stock.take(o.Grade, o.Litres)
	p.stock.note(fmt.Sprintf("%s %d", o.Vessel, o.Litres))
	return nil
}

// prepare waits until the hoses of all pumps are connected.
func (p *Pump) prepare(o Order) {
	if o.Litres >= 300 {
		p.ready.Done()
		p.ready.Wait()
	}
}

func orders(text string) []Order {
	var out []Order
	for _, l := range strings.Split(strings.TrimSpace(text), "\n") {
		var o Order
		if _, err := fmt.Sscan(l, &o.Vessel, &o.Grade, &o.Litres); err == nil {
			out = append(out, o)
		}
	}
	return out
}

const list = `
Amber diesel 120
Kelp diesel 310
Curlew gas 80
Tern diesel 330
Osprey gas 60
Halcyon diesel 90
`

func main() {
	s := &Stock{litres: map[string]int{"diesel": 700, "gas": 200}, sold: map[string]int{}}
	before := map[string]int{"diesel": 700, "gas": 200}
	var ready, done sync.WaitGroup
	ready.Add(2)
	for i, o := range orders(list) {
		done.Add(1)
		go func() {
			defer done.Done()
			p := &Pump{id: i, stock: s, ready: &ready}
			if err := p.serve(o); err != nil {
				fmt.Println(err)
			}
		}()
	}
	done.Wait()
	for grade, n := range s.litres {
		if n+s.sold[grade] != before[grade] {
			fmt.Println("books are wrong for", grade)
			os.Exit(1)
		}
		if n < 0 {
			fmt.Printf("%s: %d litres left\n", grade, n)
			os.Exit(3)
		}
	}
}
