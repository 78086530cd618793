// Command truth does a little of everything and prints, at marked places, what
// the names there hold. What the recording says there must be the same.
package main

import (
	"errors"
	"fmt"
	"iter"
	"os"
	"runtime"
	"sort"
	"strings"
	"sync"
	"time"

	"truth/inner"
)

var mu sync.Mutex

// say prints the line that it is called from, a name, and its value.
func say(name string, v any) {
	_, _, line, _ := runtime.Caller(1)
	mu.Lock()
	defer mu.Unlock()
	fmt.Printf("TRUTH\t%d\t%s\t%v\n", line, name, v)
}

type gate struct {
	name  string
	width float64
	next  *gate
}

type lock struct {
	gate
	level int
	log   []string
	seen  map[string]int
}

func (l *lock) fill(by int) (level int, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("overflow: %v", r)
			say("level", level)
		}
	}()
	l.level += by
	level = l.level
	if l.level > 10 {
		panic("too full")
	}
	l.log = append(l.log, fmt.Sprint("filled by ", by))
	l.seen["fill"]++
	say("l.level", l.level)
	say("by", by)
	return level, nil
}

type shape interface{ area() float64 }
type square struct{ side float64 }
type disc struct{ radius float64 }

func (s square) area() float64 { return s.side * s.side }
func (d *disc) area() float64  { return 3 * d.radius * d.radius }

func largest(shapes ...shape) (best shape, index int) {
	for i, s := range shapes {
		if best == nil || s.area() > best.area() {
			best, index = s, i
		}
		say("i", i)
	}
	return
}

func sum[T int | float64](list []T) T {
	var total T
	for _, x := range list {
		total += x
		say("total", total)
	}
	return total
}

func pairs(n int) iter.Seq2[int, string] {
	return func(yield func(int, string) bool) {
		for i := range n {
			if !yield(i, strings.Repeat("x", i)) {
				return
			}
		}
	}
}

func fib(n int) int {
	if n < 2 {
		return n
	}
	a := fib(n - 1)
	b := fib(n - 2)
	if n == 4 {
		say("a", a)
		say("b", b)
	}
	return a + b
}

func shadowed(x int) (n int, err error) {
	if n, err := x*2, errors.New("inner"); n > 3 {
		say("n", n)
		return n, err
	}
	n = x
	say("n", n)
	return
}

func control() {
	count := 0
outer:
	for i := 0; i < 4; i++ {
		for j := range 4 {
			switch {
			case j == 2:
				continue outer
			case i == 2:
				break outer
			}
			count += 10*i + j
			say("count", count)
		}
	}
	i := 0
again:
	i++
	if i < 3 {
		goto again
	}
	say("i", i)
	var kept int
	for kept = 0; kept < 5; kept++ {
	}
	say("kept", kept)
	switch v := any(count).(type) {
	case string:
		say("v", v)
	case int:
		v++
		say("v", v)
	}
}

func collections() {
	xs := []int{3, 1, 2}
	ys := xs[1:]
	ys[0] = 9
	say("xs[1]", xs[1])
	sort.Ints(xs)
	say("xs[0]", xs[0])
	say("ys[0]", ys[0])
	xs = append(xs, 7)
	xs[0], xs[3] = xs[3], xs[0]
	say("xs[3]", xs[3])
	m := map[string]int{"a": 1, "b": 2}
	m["c"] = m["a"] + m["b"]
	delete(m, "a")
	say(`m["c"]`, m["c"])
	say("size(m)", len(m))
	counts := map[gate]int{}
	for n := range 3 {
		counts[gate{name: strings.Repeat("g", n%2)}] += 1 + fib(n)
	}
	say("size(counts)", len(counts))
	nested := map[string]map[string]int{"x": {}}
	pick(nested)["k"] = 5
	nested["x"]["j"], n = 6, 0
	say(`nested["x"]["k"]`, nested["x"]["k"])
	say(`nested["x"]["j"]`, nested["x"]["j"])
	list := []*gate{{name: "a"}, {name: "b"}}
	list[next()].width = 2.5
	say("list[1].width", list[1].width)
	n, xs[n] = 0, 11 // n is 1 before
	say("xs[1]", xs[1])
	list[n].next, list[1-n].width = list[1], float64(fib(5))
	say("list[0].next.width", list[0].next.width)
	list[0].next.next = makeGate(list)
	say("list[1].next.name", list[1].next.name)
	grid := [2][2]int{{1, 2}, {3, 4}}
	grid[1][0] = 8
	say("grid[1][0]", grid[1][0])
	long := strings.Repeat("harbour ", 10)
	say("long", long)
	p := &grid[0][1]
	*p = 77
	say("grid[0][1]", grid[0][1])
}

var n int

func next() int {
	n++
	return n
}

func pick(m map[string]map[string]int) map[string]int { return m["x"] }

func makeGate(list []*gate) *gate {
	list[0].width++
	return &gate{name: "made"}
}

func aliases() {
	a := &gate{name: "upper", width: 7.5}
	b := a
	chain := &gate{name: "lower", next: a}
	b.width = 8.25
	say("a.width", a.width)
	say("chain.next.width", chain.next.width)
	l := lock{gate: *a, seen: map[string]int{}}
	l.name = "copy"
	say("a.name", a.name)
	say("l.gate.name", l.name)
	fill := l.fill
	if _, err := fill(4); err != nil {
		fmt.Println(err)
	}
	level, err := l.fill(9)
	say("level", level)
	fmt.Println(err)
	say("l.level", l.level)
	say(`l.seen["fill"]`, l.seen["fill"])
}

func closures() {
	total := 0
	add := func(n int) int {
		total += n
		say("total", total)
		return total
	}
	for i := range 3 {
		last := add(i)
		say("last", last)
	}
	say("total", total)
	for i, s := range pairs(3) {
		if i == 1 {
			continue
		}
		total += len(s)
		say("total", total)
	}
}

func goroutines() {
	var wg sync.WaitGroup
	results := make(chan int, 4)
	sum := 0
	for i := range 4 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			square := i * i
			mu.Lock()
			sum += square
			mu.Unlock()
			say("square", square)
			select {
			case results <- square:
			case <-time.After(time.Minute):
			}
		}()
	}
	wg.Wait()
	close(results)
	received := 0
	for r := range results {
		received += r
	}
	say("received", received)
	say("sum", sum)
}

func main() {
	var box inner.Box[string]
	box.Put("fog")
	say("box.Value", box.Value)
	say("box.Full", box.Full)
	best, index := largest(square{2}, &disc{3}, square{1})
	say("index", index)
	fmt.Println(best.area(), sum([]int{1, 2, 3}), sum([]float64{0.5, 0.25}), fib(6))
	for x := range 3 {
		fmt.Println(shadowed(x))
	}
	control()
	collections()
	aliases()
	closures()
	goroutines()
	d := 1500 * time.Millisecond
	say("d", d)
	if len(os.Args) > 1 {
		end(os.Args[1])
	}
}

func end(how string) {
	var none *gate
	switch how {
	case "exit":
		os.Exit(7)
	case "panic":
		panic(fmt.Errorf("gate %q: %w", "lower", errors.New("no sensor")))
	case "nil":
		fmt.Println(none.width)
	case "deadlock":
		mu.Lock()
		mu.Lock()
	case "wait":
		fmt.Println("waiting")
		time.Sleep(time.Minute)
	}
}
