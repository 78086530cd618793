package recorder_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/history"
)

// A program of branches, loops and exits over whole numbers, which the test prints, and runs itself as
// the oracle.

// step is a statement: "set", "if", "for", "switch", "return", "break", "continue" or "goto".
type step struct {
	kind        string
	line        int
	name        string // of set and switch; of the condition's left side
	than        int    // the condition's right side, the passes of a loop, what is added
	body, other []*step
	cases       []int // of a switch, each with a body in parts; the last part is the default
	parts       [][]*step
}

// branchy generates functions.
type branchy struct {
	random *rand.Rand
	out    strings.Builder
	line   int
	loops  int
	ahead  bool // there is a label after the block
}

func (g *branchy) print(depth int, format string, args ...any) int {
	g.line++
	g.out.WriteString(strings.Repeat("\t", depth) + fmt.Sprintf(format, args...) + "\n")
	return g.line
}

func (g *branchy) block(depth, size int, inLoop bool) []*step {
	var list []*step
	for range 1 + g.random.IntN(max(size, 1)) {
		s := &step{name: string('a' + rune(g.random.IntN(3))), than: g.random.IntN(6)}
		pick := g.random.IntN(10)
		switch {
		case depth < 5 && pick < 4:
			s.kind = "if"
			s.line = g.print(depth, "if %s > %d {", s.name, s.than)
			s.body = g.inner(depth, size, inLoop)
			if g.random.IntN(2) == 0 {
				g.print(depth, "} else {")
				s.other = g.block(depth+1, size-1, inLoop)
			}
			g.print(depth, "}")
		case depth < 4 && pick < 6:
			s.kind = "for"
			i := fmt.Sprintf("i%d", g.loops)
			g.loops++
			s.line = g.print(depth, "for %s := 0; %s < %d; %s++ {", i, i, s.than%4, i)
			s.body = g.block(depth+1, size-1, true)
			g.print(depth, "}")
		case depth < 5 && pick < 7:
			s.kind = "switch"
			s.line = g.print(depth, "switch %s {", s.name)
			for n := range 1 + g.random.IntN(3) {
				s.cases = append(s.cases, n)
				g.print(depth, "case %d:", n)
				s.parts = append(s.parts, g.block(depth+1, size-1, false))
			}
			g.print(depth, "default:")
			s.parts = append(s.parts, g.block(depth+1, size-1, false))
			g.print(depth, "}")
		default:
			s.kind = "set"
			s.line = g.print(depth, "%s = (%s*3 + %d) %% 7", s.name, s.name, s.than)
		}
		list = append(list, s)
	}
	return list
}

// inner is a block that may end in an exit.
func (g *branchy) inner(depth, size int, inLoop bool) []*step {
	list := g.block(depth+1, size-1, inLoop)
	kinds := []string{"return", "", ""}
	if inLoop {
		kinds = append(kinds, "break", "continue")
	}
	if g.ahead {
		kinds = append(kinds, "goto")
	}
	if k := kinds[g.random.IntN(len(kinds))]; k == "return" {
		list = append(list, &step{kind: k, line: g.print(depth+1, "return a")})
	} else if k == "goto" {
		list = append(list, &step{kind: k, line: g.print(depth+1, "goto ahead")})
	} else if k != "" {
		list = append(list, &step{kind: k, line: g.print(depth+1, "%s", k)})
	}
	return list
}

// function generates the statements of a function. Those after its label, if it has one, are the second list.
func (g *branchy) function() (lists [2][]*step) {
	if g.random.IntN(2) == 0 {
		lists[0] = g.block(1, 4, false)
		return lists
	}
	g.ahead = true
	lists[0] = g.block(1, 3, false)
	s := &step{kind: "if", name: "b", than: 4, line: g.print(1, "if b > 4 {")}
	s.body = []*step{{kind: "goto", line: g.print(2, "goto ahead")}}
	lists[0] = append(lists[0], s)
	g.print(1, "}")
	lists[0] = append(lists[0], g.block(1, 2, false)...)
	g.ahead = false
	g.print(0, "ahead:")
	lists[1] = g.block(1, 3, false)
	return lists
}

// evaluation is a condition that the oracle evaluated.
type evaluation struct {
	line  int
	value bool
}

// oracle runs a function. flip is the number of the evaluation whose value it changes, -1 for none.
type oracle struct {
	values map[string]int
	hits   map[int]int
	made   []evaluation
	flip   int
	jumped *step // the goto that was taken
}

// runAll runs a function.
func (o *oracle) runAll(lists [2][]*step) {
	if end := o.run(lists[0]); end == "" || end == "goto" {
		o.run(lists[1])
	}
}

func (o *oracle) decide(line int, value bool) bool {
	if len(o.made) == o.flip {
		value = !value
	}
	o.made = append(o.made, evaluation{line, value})
	return value
}

// run returns the exit that ended a block, or "".
func (o *oracle) run(list []*step) string {
	for _, s := range list {
		if s.kind != "for" {
			o.hits[s.line]++
		}
		end := ""
		switch s.kind {
		case "set":
			o.values[s.name] = (o.values[s.name]*3 + s.than) % 7
		case "if":
			if o.decide(s.line, o.values[s.name] > s.than) {
				end = o.run(s.body)
			} else {
				end = o.run(s.other)
			}
		case "for":
			for i := 0; ; i++ {
				line := s.line
				if i > 0 && i >= s.than%4 {
					line = -1 // the end of a loop is not a moment of its own
				} else {
					o.hits[s.line]++
				}
				if i > 50 || !o.decide(line, i < s.than%4) {
					break
				}
				if end = o.run(s.body); end == "break" || end == "return" || end == "goto" {
					break
				}
			}
			if end != "return" && end != "goto" {
				end = ""
			}
		case "switch":
			part := len(s.parts) - 1
			for i, n := range s.cases {
				if o.values[s.name] == n {
					part = i
				}
			}
			end = o.run(s.parts[part])
		case "goto":
			o.jumped = s
			return s.kind
		case "return", "break", "continue":
			return s.kind
		}
		if end != "" {
			return end
		}
	}
	return ""
}

// around calls found for each statement with the lines of the conditions around it, innermost first,
// and the values that they must have.
func around(list []*step, outer []evaluation, found func(*step, []evaluation)) {
	for _, s := range list {
		found(s, outer)
		with := func(value bool) []evaluation { return append([]evaluation{{s.line, value}}, outer...) }
		around(s.body, with(true), found)
		around(s.other, with(false), found)
		for _, p := range s.parts {
			around(p, outer, found)
		}
	}
}

// Each line of a listing has the number of times that it ran. Each condition of a line that ran is one around it,
// or one that could have left before it, with the value that it had; none around it is missing. Of a line that did
// not run, the condition that turned away had the value that is told, and with the other one something else would
// have run.
func TestConditionsAreThoseThatDecided(t *testing.T) {
	t.Parallel()
	const functions = 60
	g := &branchy{random: rand.New(rand.NewPCG(11, 12))}
	g.print(0, "package main")
	var bodies [][2][]*step
	for f := range functions {
		g.print(0, "func f%d(a, b, c int) int {", f)
		bodies = append(bodies, g.function())
		g.print(1, "return a + b + c")
		g.print(0, "}")
	}
	g.print(0, "func main() {")
	inputs := make([][3]int, functions)
	for f := range functions {
		inputs[f] = [3]int{g.random.IntN(7), g.random.IntN(7), g.random.IntN(7)}
		g.print(1, "println(f%d(%d, %d, %d))", f, inputs[f][0], inputs[f][1], inputs[f][2])
	}
	g.print(0, "}")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(g.out.String()), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module branchy\n\ngo 1.24\n"), 0o600))
	ran := record(t, dir, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	ctx := context.Background()
	reached, exits, missed, jumps := 0, 0, 0, 0
	for f, lists := range bodies {
		start := func(flip int) *oracle {
			return &oracle{values: map[string]int{"a": inputs[f][0], "b": inputs[f][1], "c": inputs[f][2]}, hits: map[int]int{}, flip: flip}
		}
		truth := start(-1)
		truth.runAll(lists)
		enters, err := r.Hits(ctx, replay.Checkpoint{Kind: "enter", About: fmt.Sprintf("f%d", f)}, replay.Page{Count: 2})
		require.NoError(t, err)
		require.Len(t, enters.Page, 1)
		at := enters.Page[0]
		listing, err := r.(replay.Brancher).Listing(ctx, at, 1, 0)
		require.NoError(t, err)
		last := map[int]event.Moment{}
		for _, l := range listing.Lines {
			last[l.Line] = l.Last
			if n := truth.hits[l.Line]; n > 0 {
				require.Equal(t, n, l.Hits, "f%d, line %d: %s", f, l.Line, l.Text)
			}
		}
		// nth returns the truth of the evaluation that a decision is about.
		nth := func(d replay.Decision, label string) (int, bool) {
			n := hitsUntil(t, r, at, d.Line, d.Moment)
			for i, e := range truth.made {
				if e.line == d.Line {
					if n--; n == 0 {
						return i, e.value
					}
				}
			}
			require.Fail(t, "an evaluation that was not made", "%s: %+v", label, d)
			return 0, false
		}
		var before []evaluation // the conditions of the goto that was taken
		around(lists[0], nil, func(s *step, outer []evaluation) {
			if s == truth.jumped {
				before, jumps = outer, jumps+1
			}
		})
		check := func(s *step, outer []evaluation) {
			label := fmt.Sprintf("f%d, line %d", f, s.line)
			if truth.hits[s.line] > 0 {
				reached++
				d, err := r.(replay.Brancher).Reached(ctx, last[s.line], 1, 0, 0)
				require.NoError(t, err, label)
				var enclosing []evaluation
				for _, x := range d.List {
					if strings.HasPrefix(x.Expression, "switch") {
						continue
					}
					_, value := nth(x, label)
					assert.Equal(t, value, x.Value, "%s: %s at moment %d", label, x.Expression, x.Moment)
					if x.Role == replay.Leaving {
						exits++
						continue
					}
					enclosing = append(enclosing, evaluation{x.Line, x.Value})
				}
				assert.ElementsMatch(t, outer, enclosing, label)
				return
			}
			d, err := r.(replay.Brancher).Missed(ctx, at, 1, 0, replay.Target{File: "main.go", Line: s.line})
			require.NoError(t, err, label)
			if !assert.NotEmpty(t, d.List, label) || strings.HasPrefix(d.List[0].Expression, "switch") {
				return
			}
			missed++
			i, value := nth(d.List[0], label)
			assert.Equal(t, value, d.List[0].Value, label)
			other := start(i)
			other.runAll(lists)
			assert.NotEqual(t, truth.hits, other.hits, "%s: %s decided nothing", label, d.List[0].Expression)
		}
		around(lists[0], nil, check)
		around(lists[1], before, check)
	}
	t.Logf("%d lines that ran, %d exits not taken, %d lines that did not run, %d jumps", reached, exits, missed, jumps)
	assert.Greater(t, jumps, 5)
	assert.Greater(t, reached, 300)
	assert.Greater(t, exits, 100)
	assert.Greater(t, missed, 100)
}

// hitsUntil counts how often a call reached a line up to a moment.
func hitsUntil(t *testing.T, r history.Replay, call event.Moment, line int, until event.Moment) int {
	hits, err := r.CallLines(context.Background(), call, 1, 0, replay.Page{Count: 100_000})
	require.NoError(t, err)
	n := 0
	for _, m := range hits.Page {
		p, err := r.Place(m)
		require.NoError(t, err)
		if p.Line == line && m <= until {
			n++
		}
	}
	return n
}
