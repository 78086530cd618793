package generated

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// Statements writes a Go program for each seed from first to last, all in one file of package main. The
// programs use every form of statement on every kind of type, with aliases, closures and goroutines, and
// pass references to code of the standard library wherever an expression can be. They do not race;
// an index out of range ends one of them early.
func Statements(first, last uint64) string {
	var b strings.Builder
	b.WriteString(statementsHead)
	for seed := first; seed <= last; seed++ {
		w := &statements{Rand: rand.New(rand.NewPCG(seed, 91)), name: fmt.Sprintf("program%d", seed)}
		b.WriteString(w.program())
	}
	b.WriteString("func main() {\n")
	for seed := first; seed <= last; seed++ {
		fmt.Fprintf(&b, "\trun(program%d)\n", seed)
	}
	b.WriteString("}\n")
	return b.String()
}

const statementsHead = `package main

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
)

type quay struct {
	A int
	B string
	C []int
	D *quay
	E map[string]int
	F [3]int
	G any
	H bool
	I int64
	berth
}

type berth struct {
	J int
	K *int
}

func (q *quay) set(n int) *quay  { q.A = n; return q }
func (q quay) copied(n int) quay { q.A += n; q.F[0] = n; return q }
func (b *berth) shift() int      { b.J++; return b.J }

type setter interface{ set(n int) *quay }

type failure struct{ code int }

func (f *failure) Error() string { return "failure" }

func parse(text string, q *quay) error       { return json.Unmarshal([]byte(text), q) }
func scan(text string, p *int) (n int, err error) { return fmt.Sscan(text, p) }
func run(program func()) {
	defer func() { _ = recover() }()
	program()
}

func second[T any](_ T, err error) error        { return err }
func must[T any](x T, _ error) T               { return x }
func pass[T any](x T) T                       { return x }
func pick[T any](s []T, i int) *T             { return &s[i] }
func count(yield func(int) bool) {
	for i := range 3 {
		if !yield(i * 3) {
			return
		}
	}
}

var (
	_ = bytes.NewBuffer
	_ = binary.PutUvarint
	_ = errors.New
	_ = io.EOF
	_ = maps.Copy[map[int]int, map[int]int]
	_ = slices.Sort[[]int]
	_ = sort.Ints
	_ = strings.ToUpper
	_ sync.Mutex
	_ = atomic.AddInt64
)

var (
	total  int
	table  = map[string]int{"fog": 1}
	things = map[any]int{1: 1, "a": 2}
	shared = &quay{A: 7, C: []int{4, 5, 6}, E: map[string]int{}}
)

`

// statements writes one program. Variables have a letter for their type and a number.
type statements struct {
	*rand.Rand
	strings.Builder
	name   string
	scopes [][]string // the names that can be used, by scope
	next   int
	depth  int
}

// kinds of variables: the letter, the type, and how one is made.
var variableKinds = []struct {
	letter byte
	of     string
	make   []string
}{
	{'i', "int", []string{"%d", "len(\"fog\")", "total + %d"}},
	{'s', "string", []string{`"swell"`, `""`, `"crab" + "s"`}},
	{'l', "[]int", []string{"[]int{3, 1, 2}", "make([]int, 3, 8)", "append([]int(nil), 5, 4)", "[]int{%d, 9, 8, 7}", "slices.Repeat([]int{1, 2}, 50)"}},
	{'m', "map[string]int", []string{`map[string]int{"fog": 1, "swell": %d}`, "map[string]int{}", "make(map[string]int, 3)"}},
	{'q', "quay", []string{"quay{}", `quay{A: %d, B: "x", C: []int{1, 2}, E: map[string]int{"k": 1}, F: [3]int{7, 8, 9}}`}},
	{'p', "*quay", []string{"&quay{A: %d, C: []int{1, 2, 3}, E: map[string]int{}}", "new(quay)", "shared"}},
	{'a', "[3]int", []string{"[3]int{1, 2, 3}", "[3]int{}"}},
	{'t', "[]quay", []string{"[]quay{{A: 1}, {B: \"z\"}}", "make([]quay, 2)"}},
	{'x', "any", []string{"any(%d)", `any("fog")`, "any([]int{1})", "any(&quay{A: 3})"}},
	{'u', "[]*quay", []string{"[]*quay{{A: 5}, shared}", "[]*quay{new(quay), new(quay)}"}},
	{'b', "[]byte", []string{`[]byte("ebb and flow")`, "make([]byte, 6, 20)"}},
	{'r', "*int", []string{"new(int)", "&total"}},
}

func (w *statements) line(format string, args ...any) {
	w.WriteString(strings.Repeat("\t", w.depth))
	fmt.Fprintf(w, format, args...)
	w.WriteByte('\n')
}

// declare names a new variable of a kind; it can be used from the next statement on.
func (w *statements) declare(letter byte) string {
	w.next++
	return fmt.Sprintf("%c%d", letter, w.next)
}

func (w *statements) use(name string) {
	w.scopes[len(w.scopes)-1] = append(w.scopes[len(w.scopes)-1], name)
}

// any returns a variable of a kind in scope, or a new one.
func (w *statements) any(letter byte) string {
	var list []string
	for _, scope := range w.scopes {
		for _, name := range scope {
			if name[0] == letter {
				list = append(list, name)
			}
		}
	}
	if len(list) > 0 && w.IntN(8) > 0 {
		return list[w.IntN(len(list))]
	}
	return w.fresh(letter)
}

func (w *statements) fresh(letter byte) string {
	for _, k := range variableKinds {
		if k.letter != letter {
			continue
		}
		name := w.declare(letter)
		text := k.make[w.IntN(len(k.make))]
		if strings.Contains(text, "%d") {
			text = fmt.Sprintf(text, w.IntN(50))
		}
		if w.IntN(2) == 0 {
			w.line("var %s %s = %s", name, k.of, text)
		} else {
			w.line("%s := %s(%s)", name, map[bool]string{true: "pass[" + k.of + "]"}[w.IntN(3) == 0], text)
		}
		w.line("_ = %s", name)
		w.use(name)
		return name
	}
	return "total"
}

// place returns an assignable expression of type int.
func (w *statements) place() string {
	switch w.IntN(14) {
	case 0, 1:
		return w.any('i')
	case 2:
		return w.any('q') + ".A"
	case 3:
		return w.any('p') + ".A"
	case 4:
		return w.list() + "[0]"
	case 5:
		return w.any('m') + []string{`["fog"]`, `["k"]`}[w.IntN(2)]
	case 6:
		return w.any('a') + fmt.Sprintf("[%d]", w.IntN(3))
	case 7:
		return w.any('t') + "[1].F[2]"
	case 8:
		return w.any('u') + "[0].A"
	case 9:
		return "*" + w.any('r')
	case 10:
		return "total"
	case 11:
		return w.any('q') + ".J"
	case 12:
		return "things[" + []string{"1", `"a"`, w.any('i'), "any(2.5)"}[w.IntN(4)] + "]"
	}
	return w.any('p') + ".F[1]"
}

// address returns the address of a place of type int.
func (w *statements) address() string {
	for {
		if p := w.place(); !strings.Contains(p, `["`) && !strings.HasPrefix(p, "things") {
			return strings.ReplaceAll("&"+p, "&*", "")
		}
	}
}

// list returns a list of type []int with at least one element.
func (w *statements) list() string {
	l := w.any('l')
	w.line("if len(%s) == 0 { %s = append(%s, 1) }", l, l, l)
	return l
}

// value returns an expression of type int.
func (w *statements) value() string {
	switch w.IntN(12) {
	case 0, 1, 2:
		return fmt.Sprint(w.IntN(100))
	case 3:
		return fmt.Sprintf("len(%s)", w.any("lmsb"[w.IntN(4)]))
	case 4:
		return fmt.Sprintf("min(%s, %d)", w.place(), w.IntN(50))
	case 5:
		return fmt.Sprintf("pass(%s)", w.place())
	case 6:
		return fmt.Sprintf("%s.set(%d).A", w.any('p'), w.IntN(50))
	case 7:
		return fmt.Sprintf("copy(%s, %s)", w.any('l'), w.any('l'))
	case 8:
		return fmt.Sprintf("%s.shift()", w.any('p'))
	case 9:
		return fmt.Sprintf("func() int { %s++; return %s }()", w.any('i'), w.any('i'))
	}
	return w.place()
}

// foreign returns an expression of type bool that passes references to code that is not recorded.
func (w *statements) foreign() string {
	n := w.IntN(90)
	switch w.IntN(12) {
	case 0:
		return fmt.Sprintf("json.Unmarshal([]byte(`{\"A\": %d, \"B\": \"y\", \"C\": [%d, 2], \"E\": {\"k\": %d}, \"D\": {\"A\": %d}}`), &%s) == nil", n, n, n, n, w.any('q'))
	case 1:
		return fmt.Sprintf("json.Unmarshal([]byte(`{\"A\": %d, \"J\": 4, \"F\": [%d]}`), %s) == nil", n, n, w.any('p'))
	case 2:
		return fmt.Sprintf("json.Unmarshal([]byte(`[%d, 3]`), &%s) == nil", n, w.any('l'))
	case 3:
		return fmt.Sprintf("parse(`{\"A\": %d, \"C\": [%d]}`, %s) == nil", n, n, w.any('p'))
	case 4:
		a := w.address()
		return fmt.Sprintf("func() bool { _, err := fmt.Sscan(\"%d\", %s); return err == nil }()", n, a)
	case 5:
		a := w.address()
		return fmt.Sprintf("errors.Is(second(fmt.Sscan(\"%d\", %s)), nil)", n, a)
	case 6:
		return fmt.Sprintf("binary.PutUvarint(append(%s[:0], make([]byte, 12)...), %d) > 0", w.any('b'), n*1000)
	case 7:
		return fmt.Sprintf("atomic.AddInt64(&%s.I, %d) > 0", w.any('q'), n)
	case 8:
		return fmt.Sprintf("must(strings.NewReader(\"abcdef\").Read(%s)) >= 0", w.any('b'))
	case 9:
		return fmt.Sprintf("json.Unmarshal([]byte(`{\"swell\": %d}`), &%s) == nil", n, w.any('m'))
	case 10:
		return fmt.Sprintf("len(slices.Insert(%s[:1], 1, %d, 5)) > 0", w.list(), n)
	}
	return fmt.Sprintf("second(scan(\"%d\", %s)) == nil", n, w.address())
}

func (w *statements) program() string {
	w.line("func %s() {", w.name)
	w.depth, w.scopes = 1, [][]string{nil}
	for range 30 {
		w.statement()
	}
	w.line("fmt.Sprint(total)")
	w.depth = 0
	w.line("}")
	w.line("")
	return w.String()
}

// block writes statements in braces that the caller has opened.
func (w *statements) block(n int) {
	w.inside(func() {
		for range n {
			w.statement()
		}
	})
}

func (w *statements) inside(write func()) {
	w.depth++
	w.scopes = append(w.scopes, nil)
	write()
	w.scopes = w.scopes[:len(w.scopes)-1]
	w.depth--
}

func (w *statements) statement() {
	if w.depth > 3 || w.IntN(3) > 0 {
		w.simple()
		return
	}
	n := 1 + w.IntN(4)
	switch w.IntN(17) {
	case 0:
		w.line("if err := %s; err {", w.foreign())
	case 1:
		a, b := w.foreign(), w.foreign()
		w.line("if %s %s %s {", a, []string{"&&", "||"}[w.IntN(2)], b)
	case 2:
		a := w.foreign()
		w.line("if !(%s) {", a)
		w.block(n)
		w.line("} else if %s > 3 {", w.anyInScope('i'))
		w.block(1)
		w.line("} else {")
	case 3:
		name := w.declare('i')
		a := w.foreign()
		w.line("for %s := 0; %s < 3 && (%s || true); %s++ {", name, name, a, name)
	case 4:
		a := w.address()
		n := w.declare('i')
		w.line("%s := 0", n)
		w.line("for reader := strings.NewReader(\"4 8 15\"); %s < 9 && second(fmt.Fscan(reader, %s)) == nil; %s++ {", n, a, n)
	case 5:
		w.line("for i, v := range %s {", w.any('l'))
		w.inside(func() {
			w.line("if i > 3 { break }")
			w.line("%s += v", w.place())
		})
	case 6:
		w.line("for k, v := range %s {", w.any('m'))
		w.depth++
		w.line("total += len(k) + v")
		w.line("if v > 10 { continue }")
		w.depth--
	case 7:
		w.line("for v := range %s {", []string{"count", "slices.Values([]int{1, 2})", "3"}[w.IntN(3)])
		w.inside(func() { w.line("%s = v", w.place()) })
	case 8:
		a := w.foreign()
		w.line("switch ok := %s; {", a)
		w.line("case ok && %s > 5:", w.anyInScope('i'))
		w.block(n)
		w.line("default:")
	case 9:
		x := w.any('x')
		w.line("switch v := %s.(type) {", x)
		w.line("case int:")
		w.line("\ttotal += v")
		w.line("case *quay:")
		w.line("\tv.A++")
		w.line("case []int:")
		w.line("\tv[0]++")
		w.line("default:")
	case 10:
		p := w.any('i')
		ch := w.declare('c')
		w.line("%s := make(chan int, 2)", ch)
		w.line("%s <- %d", ch, w.IntN(9))
		w.line("select {")
		w.line("case %s = <-%s:", p, ch)
		w.block(1)
		w.line("case %s <- 3:", ch)
	case 11:
		w.line("func() {")
		w.depth++
		w.line("defer json.Unmarshal([]byte(`{\"A\": %d}`), %s)", w.IntN(90), w.anyInScope('p'))
		w.line("defer func() { recover(); total++ }()")
		w.depth--
		w.block(n)
		w.line("}()")
		return
	case 12:
		w.next++
		w.line("var wait%d sync.WaitGroup", w.next)
		name := fmt.Sprintf("wait%d", w.next)
		w.line("%s.Add(1)", name)
		w.line("go func() {")
		w.line("\tdefer %s.Done()", name)
		w.block(n)
		w.line("}()")
		w.line("%s.Wait()", name)
		return
	case 13:
		f := w.declare('f')
		w.line("%s := func(n int) int {", f)
		w.block(n)
		w.line("\treturn n + 1")
		w.line("}")
		w.line("%s = %s(%s)", w.place(), f, w.value())
		return
	case 14:
		l := w.declare('L')
		w.line("%s:", l)
		w.line("for n := range 3 {")
		w.depth++
		w.line("for range 2 { if n == 1 { continue %s }; if total > 1000000 { break %s } }", l, l)
		w.depth--
	case 15:
		l := w.any('l')
		w.line("sort.Slice(%s, func(i, j int) bool { return %s[i] < %s[j] })", l, l, l)
		w.line("{")
	case 16:
		t := w.any('u')
		w.line("slices.SortFunc(%s, func(a, b *quay) int { return a.A - b.A })", t)
		w.line("{")
	}
	w.block(n)
	w.line("}")
}

// anyInScope returns a variable of a kind in scope, without declaring one: it can be used where no
// statement can be.
func (w *statements) anyInScope(letter byte) string {
	for _, scope := range w.scopes {
		for _, name := range scope {
			if name[0] == letter {
				return name
			}
		}
	}
	return map[byte]string{'i': "total", 'p': "shared"}[letter]
}

func (w *statements) simple() {
	switch w.IntN(32) {
	case 0, 1, 2:
		w.fresh(variableKinds[w.IntN(len(variableKinds))].letter)
	case 3, 4:
		p := w.place()
		w.line("%s = %s", p, w.value())
	case 5:
		p := w.place()
		w.line("%s %s= %s", p, []string{"+", "-", "*", "|", "^"}[w.IntN(5)], w.value())
	case 6:
		w.line("%s++", w.place())
	case 7:
		a, b := w.place(), w.place()
		w.line("%s, %s = %s, %s", a, b, b, a)
	case 8:
		w.line("%s = append(%s, %s)", w.any('l'), w.list(), w.value())
	case 9:
		a := w.any('l')
		w.line("%s = append(append(%s[:0:0], %s...), %d)", a, a, w.any('l'), w.IntN(9))
	case 10:
		a := w.list()
		w.line("%s = append(%s[:0], %s[1:]...)", a, a, a)
	case 11:
		a := w.list()
		w.line("total += copy(%s[%s:], %s)", a, []string{"0", "1"}[w.IntN(2)], a)
	case 12:
		w.line("total += copy(%s, \"neap\")", w.any('b'))
	case 13:
		w.line("delete(%s, %s)", w.any('m'), []string{`"fog"`, `"k"`, w.any('s')}[w.IntN(3)])
	case 14:
		w.line("delete(things, %s)", []string{"1", `"a"`, w.any('i')}[w.IntN(3)])
	case 15:
		w.line("clear(%s)", w.any("lm"[w.IntN(2)]))
	case 16:
		w.line("_ = %s", w.foreign())
	case 17:
		a := w.foreign()
		w.line("total += map[bool]int{true: 1}[%s]", a)
	case 18:
		w.line("maps.Copy(%s, map[string]int{\"ebb\": %d})", w.filled('m'), w.IntN(90))
	case 19:
		w.line("slices.Reverse(%s)", w.any('l'))
	case 20:
		w.line("*%s = %s", w.any('p'), w.any('q'))
	case 21:
		w.line("%s = *%s", w.any('q'), w.any('p'))
	case 22:
		w.line("%s = %s.copied(%d)", w.any('q'), w.any('q'), w.IntN(50))
	case 23:
		w.line("%s.D, %s.K = %s, %s", w.any('p'), w.any('q'), w.any('p'), w.address())
	case 24:
		w.line("%s.F = %s", w.any('q'), w.any('a'))
	case 25:
		w.line("%s[0], %s[1] = %s[1], %s[0]", w.same('t')...)
	case 26:
		w.line("%s[0], %s[1] = %s[1], %s[0]", w.same('u')...)
	case 27:
		n := w.declare('v')
		w.line("var %s bytes.Buffer", n)
		w.line("io.Copy(io.Writer(&%s), strings.NewReader(%s))", n, w.any('s'))
		w.line("fmt.Fprintf(&%s, \"%%d\", total)", n)
		w.line("%s = %s.String()", w.any('s'), n)
	case 28:
		w.line("setter(%s).set(%s)", w.any('p'), w.value())
	case 29:
		w.line("pick(%s, 1).A = %d", w.any('t'), w.IntN(90))
	case 30:
		q := w.any('q')
		w.line("%s.G = %s", q, w.any("ilp"[w.IntN(3)]))
	case 31:
		w.line("%s = *%s", w.any('a'), "&"+w.any('a'))
	}
}

// filled returns a map that is not nil.
func (w *statements) filled(letter byte) string {
	m := w.any(letter)
	w.line("if %s == nil { %s = map[string]int{} }", m, m)
	return m
}

// same returns one variable of a kind four times.
func (w *statements) same(letter byte) []any {
	name := w.any(letter)
	return []any{name, name, name, name}
}
