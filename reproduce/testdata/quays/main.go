// Command quays makes calls of all kinds, to be made again.
package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"math/big"
	"os"
	"strings"
	"sync"
	"time"
	"unsafe"

	"quays/tide"
)

type ring struct {
	name string
	next *ring
	back *ring
}

type cargo interface{ Tonnes() float64 }

type grain struct {
	tonnes float64
	bags   map[string]int
}

func (g grain) Tonnes() float64 { return g.tonnes }

type timber struct{ logs []int }

func (t *timber) Tonnes() float64 { return float64(len(t.logs)) }

type quay struct {
	name   string
	ships  []*ship
	lookup map[string]*ship
	log    bytes.Buffer
	level  tide.Level
}

type ship struct {
	name    string
	cargo   cargo
	quay    *quay
	arrives time.Time
	stay    time.Duration
	err     error
}

var (
	errFull = errors.New("the quay is full")
	margin  = 0.5
	served  int
	office  = &desk{"Ines", 1} // changed before it is passed on
	archive = &desk{"Oda", 2}  // as the initialisation leaves it
	notes   = map[string]string{"fog": "slow"}
)

type desk struct {
	clerk  string
	stamps int
}

func stamped(d *desk) int { return d.stamps * 2 }

func rotate(r *ring) *ring { return r.next.next }

func rename(r *ring, name string) { r.next.name, r.back.name = name, name+"?" }

func (q *quay) dock(s *ship) error {
	if len(q.ships) >= 3 {
		return fmt.Errorf("dock %s: %w", s.name, errFull)
	}
	q.ships = append(q.ships, s)
	q.lookup[s.name] = s
	s.quay = q
	return nil
}

func weigh(list []cargo) (total float64) {
	for _, c := range list {
		total += c.Tonnes()
	}
	return total
}

func overwrite(all, part []int) int {
	part[0] = 7
	grown := append(part, 99)
	return all[1] + grown[len(grown)-1] + all[3]
}

func first(table map[[2]int]string, key [2]int) (string, bool) {
	s, ok := table[key]
	return s, ok
}

func nights(from time.Time, stay time.Duration) (time.Time, int) {
	return from.Add(stay), int(stay / (24 * time.Hour))
}

func sink(p *int, n int) { *p -= n }

func half(x *big.Int) *big.Int { return new(big.Int).Div(x, big.NewInt(2)) }

func scribble(b *bytes.Buffer, s string) int {
	b.WriteString(s)
	return b.Len()
}

func clear(limit float64, depths ...float64) []bool {
	var out []bool
	for _, d := range depths {
		out = append(out, d-limit > margin)
	}
	return out
}

func apply(f func(int) int, list []int) (out []int) {
	for _, x := range list {
		out = append(out, f(x))
	}
	return out
}

func double(x int) int { return 2 * x }

func mapped[K comparable, V any](m map[K]V, keys []K) (out []V) {
	for _, k := range keys {
		out = append(out, m[k])
	}
	return out
}

type stack[T any] struct{ items []T }

func (s *stack[T]) push(x T) int {
	s.items = append(s.items, x)
	return len(s.items)
}

func serve(name string) (int, string) {
	served++
	return served, notes[name]
}

func plumb(list []float64, i int) float64 { return list[i] }

func refuse(e error) (bool, error) {
	if errors.Is(e, errFull) || errors.Is(e, tide.ErrEbb) {
		return true, nil
	}
	return false, e
}

func odd(f32 float32, u8 uint8, c complex128, s string, r rune, b []byte, nan float64) string {
	return fmt.Sprint(f32, u8, c, s, r, len(b), math.IsNaN(nan))
}

func highest(t *tide.Table, at tide.Level) bool { return t.Highest() > at }

func hoist(ctx context.Context, flag string) string { return flag + fmt.Sprint(ctx.Value(key{})) }

type key struct{}

func clock() bool { return time.Now().After(time.Unix(0, 0)) }

func slurp(path string) (int, error) {
	b, err := os.ReadFile(path)
	return len(b), err
}

func anything(list []any) string {
	var parts []string
	for _, x := range list {
		parts = append(parts, fmt.Sprintf("%T %v", x, x))
	}
	return strings.Join(parts, ",")
}

type weigher func() float64

func (w weigher) Tonnes() float64 { return w() }

func heavy() float64 { return 80 }

func measure(c cargo) float64 { return c.Tonnes() }

func chain(v any) string { return v.(*ring).back.name }

func wait(c chan int) int { return <-c }

// forecast asks a gauge whose type cannot be named here.
func forecast(g tide.Gauge, hours ...int) (levels []tide.Level, station string) {
	for _, h := range hours {
		level, err := g.Read(h)
		if err != nil {
			continue
		}
		levels = append(levels, level)
	}
	return levels, g.Table().Station
}

// beside reads the element after the one that it is given.
func beside(p *int32) int32 {
	return *(*int32)(unsafe.Add(unsafe.Pointer(p), 4))
}

type depot struct {
	mu     sync.Mutex
	stock  int
	gates  [2]sync.RWMutex
	ledger *book
}

type book struct {
	sync.Mutex
	lines []string
}

// release gives back the locks that its caller took.
func (d *depot) release(n int) int {
	defer d.mu.Unlock()
	d.stock -= n
	d.gates[1].RUnlock()
	d.ledger.lines = append(d.ledger.lines, "released")
	d.ledger.Unlock()
	return d.stock
}

func (d *depot) take(n int) int {
	d.mu.Lock()
	d.gates[1].RLock()
	d.ledger.Lock()
	return d.release(n)
}

// passable has conditions, and calls what has some.
func passable(levels []tide.Level, limit tide.Level) (names []string, closed int) {
	for i, l := range levels {
		if l < limit {
			closed++
			continue
		} else if name := tide.Grade(l); name != "" {
			names = append(names, fmt.Sprint(i, name))
		}
	}
	return names, closed
}

func leave() { os.Exit(0) }

func main() {
	a, b, c := &ring{name: "Kelp"}, &ring{name: "Osprey"}, &ring{name: "Salt"}
	a.next, b.next, c.next = b, c, a
	a.back, b.back, c.back = c, a, b
	office.stamps = 7
	stamped(office)
	stamped(archive)
	rotate(a)
	rename(b, "Ness")
	q := &quay{name: "Kelp Quay 1", lookup: map[string]*ship{}, level: tide.High}
	for i, name := range []string{"Curlew Bank", "Morning Petrel", "Two Sisters of Ness", "Halcyon Drift"} {
		s := &ship{name: name, arrives: time.Date(2031, 3, 1+i, 6, 30, 0, 5, time.UTC), stay: 36 * time.Hour}
		if i%2 == 0 {
			s.cargo = grain{12.5, map[string]int{"rye": i, "oats": 4}}
		} else {
			s.cargo = &timber{[]int{3, 4, 5}}
		}
		if err := q.dock(s); err != nil {
			refuse(err)
		}
	}
	refuse(tide.ErrEbb)
	refuse(errors.New("no crew"))
	refuse(nil)
	logs := &timber{[]int{1}}
	weigh([]cargo{grain{2, nil}, logs, logs, nil}[:3])
	all := make([]int, 5, 9)
	overwrite(all[:4], all[1:3])
	first(map[[2]int]string{{1, 2}: "a", {3, 4}: "b"}, [2]int{3, 4})
	nights(time.Date(2031, 3, 1, 0, 0, 0, 0, time.UTC), 50*time.Hour)
	depth := 9
	sink(&depth, 4)
	half(new(big.Int).Lsh(big.NewInt(12345), 80))
	scribble(bytes.NewBufferString("fog"), " horn")
	margin = 0.25
	clear(2, 2.1, 2.3, 9)
	apply(double, []int{1, 2})
	n := 10
	apply(func(x int) int { n++; return x + n }, []int{5, 6})
	mapped(map[string]int{"a": 1, "b": 2}, []string{"b", "c"})
	mapped(map[int]*ring{1: a}, []int{1})
	s := &stack[float64]{}
	s.push(1.5)
	s.push(math.Inf(1))
	serve("fog")
	serve("rain")
	func() {
		defer func() { _ = recover() }()
		plumb([]float64{1, 2}, 5)
	}()
	odd(0.1, 200, complex(1, -2), "line 1\nline \"2\"\n\tline 3\x00\xff", 'ø', []byte("bytes"), math.NaN())
	highest(tide.NewTable("Inner Ness", 40, 410, 300), tide.Low)
	hoist(context.WithValue(context.Background(), key{}, "up"), "blue ")
	clock()
	slurp("go.mod")
	anything([]any{1, "x", 2.5, nil, []string{"y"}, map[string]bool{"z": true}, ring{name: "Ness"}, tide.Low, struct{}{}})
	measure(weigher(heavy))
	measure(logs)
	chain(a)
	ready := make(chan int, 1)
	ready <- 4
	wait(ready)
	g := tide.NewGauge("Outer Ness", 300, 410)
	forecast(g, 0, 1, 2, 0)
	store := &depot{stock: 40, ledger: &book{}}
	store.take(4)
	passable([]tide.Level{tide.Low, 120, 200, tide.High}, 100)
	beside(&[]int32{7, 8}[0])
	leave()
}
