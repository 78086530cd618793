// Command roster leaves goroutines in every kind of wait, prints the truth about
// its values, and panics. Lines of its output: "value FUNCTION EXPRESSION TEXT".
package main

import (
	"fmt"
	"io"
	"os"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"time"
)

// Key is too large to lie in a table itself.
type Key struct {
	Name string
	Pad  [20]int64
}

// Quay is a place to moor.
type Quay struct {
	Name   string
	DepthM float64
	Berths []int
	Table  map[string]int
	Large  map[Key]string
	Next   *Quay
	Any    any
	Named  fmt.Stringer
	Queue  chan int
	Rule   func(float64) float64
	Took   time.Duration
	Empty  map[int]bool
	State  [3]uint8
	Full   chan string
	Later  func(int) int
}

// String writes the name.
func (q *Quay) String() string { return "quay " + q.Name }

// Tide is a number with a method.
type Tide int

// String writes the tide.
func (t Tide) String() string { return fmt.Sprint(int(t)) }

var harbour = "Gannet Sound"

//go:noinline
func fail(q *Quay, n int, label string, list []int, ratio float64) int {
	local := n * 2
	escaped := n + 1
	keep(&escaped)
	say := func(expression string, value any) { fmt.Printf("value main.fail %s %v\n", expression, value) }
	say("q.Name", fmt.Sprintf("%q", q.Name))
	say("q.DepthM", q.DepthM)
	say("q.Berths[2]", q.Berths[2])
	say("size(q.Berths)", len(q.Berths))
	say(`q.Table["entry@77"]`, q.Table["entry 77"])
	say("size(q.Table)", len(q.Table))
	say("size(q.Large)", len(q.Large))
	say("q.Next.Name", fmt.Sprintf("%q", q.Next.Name))
	say("q.Next.Next==null", q.Next.Next == nil)
	say("q.Any", q.Any)
	say("q.Named", q.Named)
	say("q.Queue", fmt.Sprintf("chan int with %d of %d waiting", len(q.Queue), cap(q.Queue)))
	say("q.Rule", "main.double")
	say("q.Took", q.Took)
	say("q.Empty==null", q.Empty == nil)
	say("q.State[1]", q.State[1])
	say("q.Full", "chan string with 2 of 2 waiting; goroutines that wait to send: "+senders)
	say("q.Later.step", 11)
	say("q.Later.label", fmt.Sprintf("%q", "ebb"))
	say("q.Later.total", 50)
	say("n", n)
	say("label", fmt.Sprintf("%q", label))
	say("list[1]", list[1])
	say("ratio", ratio)
	say("local", local)
	say("escaped", escaped)
	say("harbour", fmt.Sprintf("%q", harbour))
	say("main.harbour", fmt.Sprintf("%q", harbour))
	runtime.KeepAlive(q)
	return list[local] + len(label) + int(ratio)
}

var (
	kept     *int
	keptFunc func(int) int
)

//go:noinline
func keepFunc(f func(int) int) { keptFunc = f }

//go:noinline
func keep(p *int) { kept = p }

func double(x float64) float64 { return 2 * x }

func park(start func()) {
	ready.Add(1)
	go start()
}

var ready sync.WaitGroup

var senders string

// number returns the number of the goroutine that calls it.
func number() string {
	var text [64]byte
	return strings.Fields(string(text[:runtime.Stack(text[:], false)]))[1]
}

func main() {
	debug.SetTraceback("crash")
	var mu sync.Mutex
	var rw sync.RWMutex
	mu.Lock()
	rw.Lock()
	in, full := make(chan int), make(chan string, 2)
	full <- "a"
	full <- "b"
	r, _, err := os.Pipe()
	if err != nil {
		panic(err)
	}
	cond := sync.NewCond(&sync.Mutex{})
	for range 4 {
		park(func() { ready.Done(); <-in })
	}
	var first, second string
	park(func() { first = number(); ready.Done(); full <- "c" })
	park(func() {
		second = number()
		ready.Done()
		time.Sleep(50 * time.Millisecond) // it comes second
		select {
		case <-in:
		case full <- "d":
		}
	})
	park(func() { ready.Done(); mu.Lock() })
	park(func() { ready.Done(); rw.RLock() })
	park(func() { ready.Done(); time.Sleep(time.Hour) })
	park(func() { ready.Done(); _, _ = io.ReadAll(r) })
	park(func() { ready.Done(); cond.L.Lock(); cond.Wait() })
	park(func() { ready.Done(); select {} })
	ready.Wait()
	time.Sleep(200 * time.Millisecond) // they are waiting by then
	q := &Quay{Name: "Kelp Quay", DepthM: 7.25, Berths: []int{1, 2, 3}, Table: map[string]int{}, Large: map[Key]string{}, Any: 42, Named: Tide(3),
		Queue: make(chan int, 5), Rule: double, Took: 3 * time.Second, State: [3]uint8{1, 2, 3}}
	q.Next = &Quay{Name: "Old Salt Stage"}
	for i := range 2000 {
		q.Table[fmt.Sprintf("entry %d", i)] = i * i
	}
	for i := range 40 {
		q.Large[Key{Name: fmt.Sprint(i)}] = fmt.Sprint(i)
	}
	q.Queue <- 1
	q.Full = full
	step, label, total := len(os.Args)+10, "ebb", 50
	q.Later = func(n int) int { total += n * step; return total + len(label) }
	self := q.Later
	self = func(n int) int { return self(n) }
	keepFunc(self)
	senders = first + ", " + second
	defer func() { fmt.Println(mu.TryLock(), rw.TryLock()) }()
	os.Exit(fail(q, 21, "Osprey Wall", []int{5, 6}, 0.75))
}
