// Command names has statements of every form. The comment at the end of a line says which names the
// line reads, and after a semicolon which it writes; "-" stands for none.
package main

import "fmt"

type quay struct {
	depth  int
	berths []int
	next   *quay
	names  map[string]int
}

var shared, total = 3, 4

func pair(a, b int) (sum, product int) {
	sum = a + b             // a b; sum
	product = a * b         // a b; product
	return sum, product + 0 // sum product; sum product
}

func named(n int) (twice int) {
	if n > 3 { // n; -
		twice = 2 * n // n; twice
		return        // -; twice
	}
	defer fmt.Sprint(n) // n; -
	return n + shared   // n shared; twice
}

func statements(q *quay, list []int, n int) int {
	x := 1                   // -; x
	var y, z int = n, x      // n x; y z
	x, y = y, x              // y x; x y
	x += n                   // x n; x
	x++                      // x; x
	q.depth = x              // q x; q.depth
	q.depth += z             // q.depth q z; q.depth
	q.next.depth--           // q.next.depth q.next q; q.next.depth
	list[n] = q.berths[x-x]  // list n q.berths[x-x] q.berths q x; list[n]
	q.berths[0]++            // q.berths[0] q.berths q; q.berths[0]
	p := &x                  // x; p
	*p = 7                   // p; *p
	*p *= n                  // *p p n; *p
	q.names["kelp"] = y      // q.names q y; q.names["kelp"]
	v, ok := q.names["kelp"] // q.names["kelp"] q.names q; v ok
	_, z = pair(v, n)        // v n; z
	_ = ok                   // ok; -
	for i := range list {    // list; i
		total += list[i] // total list[i] list i; total
	}
	for k, w := range q.names { // q.names q; k w
		fmt.Sprint(k, w) // k w; -
	}
	switch y := z; { // z; y
	case y > n:
		x = y // y; x
	}
	ch := make(chan int, 1) // -; ch
	ch <- x                 // ch x; -
	go fmt.Sprint(x, y)     // x y; -
	f := func(a int) int {  // -; f
		return a // a; -
	}
	x = f(x) + <-ch     // f x ch; x
	shared = x          // x; shared
	return named(x) + v // x v; -
}

func main() {
	q := &quay{berths: []int{5, 6}, next: &quay{}, names: map[string]int{}} // -; q
	fmt.Println(statements(q, q.berths, 1))                                 // q q.berths; -
}
