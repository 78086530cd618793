package main

// The second half of the ways: what the language has besides plain calls and stores.

import (
	"encoding/json"
	"fmt"
	"iter"
	"os"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

type node struct {
	value int
	left  *node
	right *node
}

type quay struct {
	name   string
	depths []float64
	tags   map[string][]int
}

type pair[K comparable, V any] struct {
	key K
	val V
}

type store[K comparable, V any] struct {
	items []pair[K, V]
	index map[K]int
}

func (s *store[K, V]) put(k K, v V) {
	if s.index == nil {
		s.index = map[K]int{}
	}
	s.index[k] = len(s.items)
	s.items = append(s.items, pair[K, V]{k, v}) // cause generics
}

func (s *store[K, V]) get(k K) (v V, ok bool) {
	i, ok := s.index[k]
	if !ok {
		return v, false
	}
	return s.items[i].val, true
}

type base struct{ count int }

func (b *base) bump(by int) { b.count += by } // cause promoted

type derived struct {
	*base
	name string
}

func more() {
	generics()
	promoted()
	tree()
	grid()
	nested()
	mapOfStructs()
	counter()
	table()
	sorted()
	copying()
	builder()
	atomics()
	iterators()
	typeSwitch("7")
	methodExpression()
	spread()
	shadowed(3)
	recovered()
	decoded()
	channelOfChannels()
	waitGroupGo()
	reslice()
	arrayPointer()
	durations()
	linked()
	structByValue()
	multiAssign()
	deleteAndAdd()
	ternary(true)
	stringConcat()
	sliceOfPointers()
	passThroughAny()
	closureLoop()
	returnedClosure()
	mapRange()
	selectTwo()
	deferPointer()
	receiverValue()
	condInit()
	switchInit()
}

func show(x ...any) { fmt.Fprintln(os.Stderr, x...) }

func generics() {
	s := &store[string, float64]{}
	s.put("a", 1)
	s.put("b", 2.5)
	v, _ := s.get("b")
	show(v) // symptom generics: v
}

func promoted() {
	d := derived{&base{1}, "x"}
	d.bump(41)
	show(d.count) // symptom promoted: d.count
}

func insert(n *node, v int) *node {
	if n == nil {
		return &node{value: v * 3} // cause tree
	}
	if v < n.value {
		n.left = insert(n.left, v)
	} else {
		n.right = insert(n.right, v)
	}
	return n
}

func tree() {
	var root *node
	for _, v := range []int{5, 2, 9} {
		root = insert(root, v)
	}
	show(root.left.value) // symptom tree: root.left.value
}

func grid() {
	g := make([][]int, 3)
	for i := range g {
		g[i] = make([]int, 3)
	}
	g[1][2] = 99 // cause grid
	row := g[1]
	x := row[2]
	show(x) // symptom grid: x
}

func nested() {
	q := quay{name: "Kelp Quay", tags: map[string][]int{}}
	q.depths = append(q.depths, 4.5)
	q.depths[0] -= 3 // cause nested
	q.tags["a"] = append(q.tags["a"], 7)
	show(q.depths[0]) // symptom nested: q.depths[0]
}

func mapOfStructs() {
	m := map[string]quay{}
	q := m["x"]
	q.name = "renamed" // cause mapofstructs
	m["x"] = q
	n := m["x"].name
	show(n) // symptom mapofstructs: n
}

func counter() {
	next := makeCounter(10)
	next()
	n := next()
	show(n) // symptom counter: n
}

func makeCounter(start int) func() int {
	c := start
	return func() int {
		c += 5 // cause counter
		return c
	}
}

func table() {
	ops := map[string]func(int, int) int{
		"mul": func(a, b int) int {
			return a * b // cause table
		},
	}
	r := ops["mul"](6, 7)
	show(r) // symptom table: r
}

func sorted() {
	list := []pair[string, int]{{"b", 2}, {"a", 1}, {"c", 3}} // cause sorted
	sort.Slice(list, func(i, j int) bool { return list[i].val > list[j].val })
	x := list[0].val
	show(x) // symptom sorted: x
}

func copying() {
	src := []int{1, 2, 3}
	src[2] = 33 // cause copying
	dst := make([]int, 3)
	copy(dst, src)
	x := dst[2]
	show(x) // symptom copying: x
}

func builder() {
	var b strings.Builder
	word := "Halcyon" + fmt.Sprint(1) // cause builder
	b.WriteString(word)
	s := b.String()
	show(s) // symptom builder: s
}

func atomics() {
	var n atomic.Int64
	by := int64(12) // cause atomics
	v := n.Add(by)
	show(v) // symptom atomics: v
}

func upTo(n int) iter.Seq[int] {
	return func(yield func(int) bool) {
		for i := 0; i < n; i++ {
			if !yield(i * i) { // cause iterators
				return
			}
		}
	}
}

func iterators() {
	last := 0
	for v := range upTo(5) {
		last = v
	}
	show(last) // symptom iterators: last
}

func typeSwitch(x any) {
	n := 0
	switch v := x.(type) {
	case string:
		n = len(v) + 100 // cause typeswitch
	case int:
		n = v
	}
	show(n) // symptom typeswitch: n
}

func (q quay) label(suffix string) string {
	return q.name + suffix // cause methodexpression
}

func methodExpression() {
	f := quay.label
	s := f(quay{name: "Osprey"}, "!")
	show(s) // symptom methodexpression: s
}

func join(parts ...string) string {
	return strings.Join(parts, "-") // cause spread
}

func spread() {
	list := []string{"a", "b"}
	s := join(list...)
	show(s) // symptom spread: s
}

func shadowed(n int) {
	x := 1
	if x := n * 2; x > 2 { // cause shadowed
		n = x
	}
	show(n, x) // symptom shadowed: n
}

func risky(n int) (result int, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("recovered: %v", r) // cause recovered
		}
	}()
	var list []int
	return list[n], nil
}

func recovered() {
	_, err := risky(3)
	show(err) // symptom recovered: err
}

func decoded() {
	var v struct{ Depth float64 }
	text := `{"Depth": 3.5}` // cause decoded
	_ = json.Unmarshal([]byte(text), &v)
	d := v.Depth
	show(d) // symptom decoded: d
}

func channelOfChannels() {
	requests := make(chan chan int)
	go func() {
		for reply := range requests {
			reply <- 77 // cause channelofchannels
		}
	}()
	reply := make(chan int)
	requests <- reply
	n := <-reply
	close(requests)
	show(n) // symptom channelofchannels: n
}

func waitGroupGo() {
	var wg sync.WaitGroup
	results := make([]int, 3)
	for i := range 3 {
		wg.Add(1)
		go func(k int) {
			defer wg.Done()
			results[k] = k * 11 // cause waitgroup
		}(i)
	}
	wg.Wait()
	x := results[2]
	show(x) // symptom waitgroup: x
}

func reslice() {
	all := []int{1, 2, 3, 4, 5}
	part := all[1:4]
	part[1] = 300 // cause reslice
	x := all[2]
	show(x) // symptom reslice: x
}

func fill(p *[4]int) {
	p[3] = 44 // cause arraypointer
}

func arrayPointer() {
	var a [4]int
	fill(&a)
	x := a[3]
	show(x) // symptom arraypointer: x
}

func durations() {
	d := 90 * time.Second
	d += time.Minute // cause durations
	m := d.Minutes()
	show(m) // symptom durations: m
}

type link struct {
	v    int
	next *link
}

func linked() {
	var head *link
	for i := range 4 {
		head = &link{v: i * 8, next: head} // cause linked
	}
	x := head.next.next.v
	show(x) // symptom linked: x
}

func broaden(q quay) quay {
	q.name = q.name + " wide" // cause structbyvalue
	return q
}

func structByValue() {
	q := quay{name: "Old Salt"}
	w := broaden(q)
	n := w.name
	show(n) // symptom structbyvalue: n
}

func minmax(list []int) (lo, hi int) {
	lo, hi = list[0], list[0]
	for _, x := range list[1:] {
		lo, hi = min(lo, x), max(hi, x) // cause multiassign
	}
	return lo, hi
}

func multiAssign() {
	_, hi := minmax([]int{3, 1, 8, 2})
	show(hi) // symptom multiassign: hi
}

func deleteAndAdd() {
	m := map[int]string{1: "one"}
	delete(m, 1)
	m[1] = "uno" // cause deleteandadd
	s := m[1]
	show(s) // symptom deleteandadd: s
}

func ternary(deep bool) {
	var n int
	if deep {
		n = 900 // cause ternary
	} else {
		n = 1
	}
	show(n) // symptom ternary: n
}

func stringConcat() {
	s := "a"
	for i := 0; i < 3; i++ {
		s += "b" // cause stringconcat
	}
	show(s) // symptom stringconcat: s
}

func sliceOfPointers() {
	a, b := &node{value: 1}, &node{value: 2}
	list := []*node{a, b}
	for _, n := range list {
		n.value *= 10 // cause sliceofpointers
	}
	show(b.value) // symptom sliceofpointers: b.value
}

func identity(x any) any { return x }

func passThroughAny() {
	n := 321 // cause passthroughany
	v := identity(n).(int)
	show(v) // symptom passthroughany: v
}

func closureLoop() {
	var fs []func() int
	for i := 0; i < 3; i++ {
		fs = append(fs, func() int { return i * 100 }) // cause closureloop
	}
	x := fs[1]()
	show(x) // symptom closureloop: x
}

func adder(by int) func(int) int {
	return func(n int) int { return n + by } // cause returnedclosure
}

func returnedClosure() {
	add := adder(40)
	x := add(2)
	show(x) // symptom returnedclosure: x
}

func mapRange() {
	m := map[string]int{"only": 0}
	m["only"] = 64 // cause maprange
	sum := 0
	for _, v := range m {
		sum += v
	}
	show(sum) // symptom maprange: sum
}

func selectTwo() {
	a, b := make(chan int), make(chan int)
	go func() { b <- 55 }() // cause selecttwo
	var got int
	select {
	case got = <-a:
	case got = <-b:
	}
	show(got) // symptom selecttwo: got
}

func deferPointer() {
	n := 1
	func() {
		defer setTo(&n, 808)
		n = 2
	}()
	show(n) // symptom deferpointer: n
}

func setTo(p *int, v int) {
	*p = v // cause deferpointer
}

type reading float64

func (r reading) doubled() reading {
	return r * 2 // cause receivervalue
}

func receiverValue() {
	r := reading(1.5)
	d := r.doubled()
	show(d) // symptom receivervalue: d
}

func lookup(k string) (int, bool) {
	return len(k) * 3, true // cause condinit
}

func condInit() {
	best := 0
	if n, ok := lookup("abc"); ok {
		best = n
	}
	show(best) // symptom condinit: best
}

func switchInit() {
	out := ""
	switch n := slices.Max([]int{1, 5}); {
	case n > 3:
		out = fmt.Sprint("big ", n) // cause switchinit
	}
	show(out) // symptom switchinit: out
}
