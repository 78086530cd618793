// Command origins computes values along many ways. Each function ends on a line
// with a symptom; the line with its cause must stand in the value's origin chain.
// A symptom names the expression, a cause the symptom: // symptom NAME: EXPRESSION.
package main

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
)

type gauge struct {
	name   string
	metres float64
}

type station struct {
	gauge
	readings []float64
	byHour   map[int]float64
	next     *station
}

func main() {
	throughCalls(3)
	throughFields()
	throughAlias()
	throughSlice()
	throughMap()
	throughClosure()
	throughChannel()
	throughGoroutine()
	throughSelect()
	throughStructCopy()
	throughAppend()
	throughMethodValue()
	throughInterface()
	throughDefer()
	throughGeneric()
	throughRange()
	throughError()
	throughInput("7.5")
	throughMutex()
	throughPointerToLocal()
	throughRecursion(5)
	throughVariadic()
	throughLabelledLoop()
	throughGlobal()
	throughEmbedded()
	throughArray()
	throughSwap()
	throughRangeChannel()
	throughWorkers()
	throughMultipleResults()
	more()
}

func double(n int) int { return add(n, n) }

func add(a, b int) int {
	sum := a + b // cause calls
	return sum
}

func throughCalls(n int) {
	m := double(n + 1)
	fmt.Fprintln(os.Stderr, m) // symptom calls: m
}

func throughFields() {
	g := gauge{name: "Inner Ness"}
	g.metres = 1.5
	g.metres += 0.35 // cause fields
	s := station{gauge: g}
	fmt.Fprintln(os.Stderr, s.gauge.metres) // symptom fields: s.gauge.metres
}

func throughAlias() {
	g := &gauge{metres: 2}
	h := g
	spoil(h)
	fmt.Fprintln(os.Stderr, g.metres) // symptom alias: g.metres
}

func spoil(x *gauge) {
	x.metres = x.metres - 9 // cause alias
}

func throughSlice() {
	depths := []float64{1, 2, 3}
	depths[1] = depths[0] * 40 // cause slice
	i := 1
	d := depths[i]
	fmt.Fprintln(os.Stderr, d) // symptom slice: d
}

func throughMap() {
	table := map[string]int{"Kelp Quay 1": 4}
	table["Kelp Quay 2"] = len("Old Salt Stage") // cause map
	n := table["Kelp Quay 2"]
	fmt.Fprintln(os.Stderr, n) // symptom map: n
}

func throughClosure() {
	total := 0
	raise := func(by int) {
		total += by * 3 // cause closure
	}
	raise(2)
	fmt.Fprintln(os.Stderr, total) // symptom closure: total
}

func throughChannel() {
	ch := make(chan int, 2)
	first := 11
	second := first * 2 // cause channel
	ch <- first
	ch <- second
	a := <-ch
	b := <-ch
	fmt.Fprintln(os.Stderr, a, b) // symptom channel: b
}

func throughGoroutine() {
	done := make(chan *gauge)
	level := 4.5 // cause goroutine
	go measure(level, done)
	g := <-done
	fmt.Fprintln(os.Stderr, g.metres) // symptom goroutine: g.metres
}

func measure(at float64, done chan *gauge) {
	done <- &gauge{name: "Skerry Gut", metres: at}
}

func throughSelect() {
	ch := make(chan string, 1)
	text := "Halcyon" + strconv.Itoa(len(os.Args)) // cause select
	ch <- text
	var got string
	select {
	case v := <-ch:
		got = v
	default:
		got = "nothing"
	}
	fmt.Fprintln(os.Stderr, got) // symptom select: got
}

func throughStructCopy() {
	a := gauge{name: "Gannet Bar", metres: 3}
	a.metres = 3.25 // cause copy
	b := a
	list := []gauge{b}
	c := list[0]
	fmt.Fprintln(os.Stderr, c.metres) // symptom copy: c.metres
}

func throughAppend() {
	var list []gauge
	for i := range 20 {
		list = append(list, gauge{name: strconv.Itoa(i), metres: float64(i) / 2}) // cause append
	}
	last := list[13].metres
	fmt.Fprintln(os.Stderr, last) // symptom append: last
}

func (g *gauge) raise(by float64) float64 {
	g.metres += by // cause method
	return g.metres
}

func throughMethodValue() {
	g := &gauge{}
	f := g.raise
	f(1.25)
	fmt.Fprintln(os.Stderr, g.metres) // symptom method: g.metres
}

type height interface{ height() float64 }

func (g gauge) height() float64 {
	return g.metres * 2 // cause interface
}

func throughInterface() {
	var h height = gauge{metres: 7}
	x := h.height()
	fmt.Fprintln(os.Stderr, x) // symptom interface: x
}

func throughDefer() {
	n := deferred()
	fmt.Fprintln(os.Stderr, n) // symptom defer: n
}

func deferred() (n int) {
	defer func() {
		n = n*10 + 1 // cause defer
	}()
	n = 4
	return n
}

func largest[T int | float64](list ...T) T {
	best := list[0]
	for _, x := range list {
		if x > best {
			best = x // cause generic
		}
	}
	return best
}

func throughGeneric() {
	m := largest(3, 9, 5)
	fmt.Fprintln(os.Stderr, m) // symptom generic: m
}

func throughRange() {
	gauges := []*gauge{{metres: 1}, {metres: 2}, {metres: 3}}
	gauges[2].metres = 30 // cause range
	highest := 0.0
	for _, g := range gauges {
		highest = max(highest, g.metres)
	}
	fmt.Fprintln(os.Stderr, highest) // symptom range: highest
}

func throughError() {
	_, err := parse("4,2")
	fmt.Fprintln(os.Stderr, err) // symptom error: err
}

func parse(text string) (float64, error) {
	if strings.Contains(text, ",") {
		return 0, fmt.Errorf("%q has a comma", text) // cause error
	}
	return strconv.ParseFloat(text, 64)
}

func throughInput(text string) {
	x, _ := strconv.ParseFloat(text, 64) // cause input
	y := x + 1
	fmt.Fprintln(os.Stderr, y) // symptom input: y
}

func throughMutex() {
	var mu sync.Mutex
	var wg sync.WaitGroup
	count := 0
	for range 3 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			mu.Lock()
			defer mu.Unlock()
			count += 5 // cause mutex
		}()
	}
	wg.Wait()
	fmt.Fprintln(os.Stderr, count) // symptom mutex: count
}

func throughPointerToLocal() {
	n := 1
	p := &n
	*p = 77 // cause pointer
	m := n
	fmt.Fprintln(os.Stderr, m) // symptom pointer: m
}

func fall(n int) int {
	if n == 0 {
		return 12 // cause recursion
	}
	return fall(n - 1)
}

func throughRecursion(n int) {
	r := fall(n)
	fmt.Fprintln(os.Stderr, r) // symptom recursion: r
}

func sum(of ...int) int {
	s := 0
	for _, x := range of {
		s += x
	}
	return s
}

func throughVariadic() {
	big := 1000 // cause variadic
	s := sum(1, big, 2)
	fmt.Fprintln(os.Stderr, s) // symptom variadic: s
}

func throughLabelledLoop() {
	n := 0
outer:
	for i := 0; i < 4; i++ {
		for j := 0; j < 4; j++ {
			if i*j == 6 {
				n = i*10 + j // cause labelled
				break outer
			}
		}
	}
	fmt.Fprintln(os.Stderr, n) // symptom labelled: n
}

var margin = 0.5

func widen() {
	margin = margin * 4 // cause global
}

func throughGlobal() {
	widen()
	m := margin
	fmt.Fprintln(os.Stderr, m) // symptom global: m
}

func throughEmbedded() {
	s := &station{}
	s.metres = 8.5 // cause embedded
	t := &station{next: s}
	x := t.next.metres
	fmt.Fprintln(os.Stderr, x) // symptom embedded: x
}

func throughArray() {
	var grid [3][3]int
	grid[1][2] = 42 // cause array
	copied := grid
	x := copied[1][2]
	fmt.Fprintln(os.Stderr, x) // symptom array: x
}

func throughSwap() {
	a, b := 1, 2 // cause swap
	a, b = b, a
	fmt.Fprintln(os.Stderr, a, b) // symptom swap: a
}

func throughRangeChannel() {
	ch := make(chan int, 3)
	for i := range 3 {
		ch <- i * 7 // cause rangechannel
	}
	close(ch)
	last := 0
	for v := range ch {
		last = v
	}
	fmt.Fprintln(os.Stderr, last) // symptom rangechannel: last
}

type task struct {
	id     int
	metres float64
}

func throughWorkers() {
	in, out := make(chan task), make(chan task)
	var wg sync.WaitGroup
	for range 3 {
		wg.Add(1)
		go work(in, out, &wg)
	}
	go func() {
		for i := range 6 {
			in <- task{id: i, metres: float64(i) * 1.5} // cause workers
		}
		close(in)
		wg.Wait()
		close(out)
	}()
	results := map[int]float64{}
	for t := range out {
		results[t.id] = t.metres
	}
	x := results[4]
	fmt.Fprintln(os.Stderr, x) // symptom workers: x
}

func work(in <-chan task, out chan<- task, wg *sync.WaitGroup) {
	defer wg.Done()
	for t := range in {
		t.metres += 100 // cause workers
		out <- t
	}
}

func split(n int) (quotient, remainder int) {
	quotient = n / 7
	remainder = n % 7 // cause results
	return
}

func throughMultipleResults() {
	q, r := split(45)
	fmt.Fprintln(os.Stderr, q, r) // symptom results: r
}
