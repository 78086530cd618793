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

	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

// A chain writes a function in which a value goes a random way from where it is made to where
// it is looked at, through variables, fields, elements, entries, pointers, calls and channels.
// Other values of the same type go beside it.
type chain struct {
	*rand.Rand
	body strings.Builder
	n    int
}

func (c *chain) name() string {
	c.n++
	return fmt.Sprint("x", c.n)
}

func (c *chain) line(format string, args ...any) {
	fmt.Fprintf(&c.body, "\t"+format+"\n", args...)
}

// step passes the value in a variable on, and returns the expression that has it then. Each
// expression that is returned can be read again.
func (c *chain) step(from string) string {
	to, other := c.name(), c.name()
	switch c.IntN(22) {
	case 0:
		c.line("%s := %s", to, from)
	case 1:
		c.line("%s := %s + 1", to, from)
	case 2:
		c.line("%s := 5", other)
		c.line("%s := %s*2 - %s", to, from, other)
	case 3:
		c.line("%s := tide{depth: %s, pressure: 1013}", to, from)
		return to + ".depth"
	case 4:
		c.line("%s := &tide{depth: 1}", to)
		c.line("%s.depth = %s", to, from)
		return to + ".depth"
	case 5:
		c.line("%s := []int{1, %s, 3}", to, from)
		return to + "[1]"
	case 6:
		c.line("%s := make([]int, 3)", to)
		c.line("%s[2] = %s", to, from)
		c.line("%s[1] = 9", to)
		return to + "[2]"
	case 7:
		c.line("%s := map[string]int{\"low\": 1}", to)
		c.line("%s[\"high\"] = %s", to, from)
		return to + "[\"high\"]"
	case 8:
		c.line("%s := pass(%s)", to, from)
	case 9:
		c.line("_, %s := two(7, %s)", to, from)
	case 10:
		c.line("%s := tide{depth: 2}", to)
		c.line("%s.set(%s)", to, from)
		return to + ".depth"
	case 11:
		c.line("%s := tide{depth: %s}.read()", to, from)
	case 12:
		c.line("%s := make(chan int, 1)", other)
		c.line("%s <- %s", other, from)
		c.line("%s := <-%s", to, other)
	case 13:
		c.line("%s := 0", to)
		c.line("func() { %s = %s }()", to, from)
	case 14:
		c.line("%s := 0", to)
		c.line("%s := &%s", other, to)
		c.line("*%s = %s", other, from)
	case 15:
		c.line("%s := []int{4}", other)
		c.line("%s := append(%s, %s)", to, other, from)
		return to + "[1]"
	case 16:
		c.line("%s := 0", to)
		c.line("for _, %s := range []int{%s} {", other, from)
		c.line("\t%s = %s", to, other)
		c.line("}")
	case 17:
		c.line("%s, %s := 8, %s", other, to, from)
		c.line("_ = %s", other)
	case 18:
		c.line("%s := named(%s)", to, from)
	case 19:
		c.line("%s := %s", to, from)
		c.line("%s += 10", to)
	case 20:
		c.line("%s := tide{depth: %s}", other, from)
		c.line("%s := %s", to, other)
		return to + ".depth"
	case 21:
		c.line("%s := any(%s)", other, from)
		c.line("%s := %s.(int)", to, other)
	}
	return to
}

const chainHead = `package main

type tide struct {
	depth    int
	pressure int
}

func (t *tide) set(d int) { t.depth = d }

func (t tide) read() int { return t.depth }

func pass(a int) int { return a }

func two(a, b int) (int, int) { return a, b }

func named(a int) (r int) {
	r = 3
	defer func() { r = a }()
	return r
}

func look(int) {}

func main() {
%s}

`

// The chain of a value ends at the line that made it, for all ways that the value can go.
func TestOriginOfGeneratedChains(t *testing.T) {
	t.Parallel()
	const number = 60
	seeds := uint64(3)
	if testing.Short() {
		seeds = 1
	}
	for seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			var calls, functions strings.Builder
			r := rand.New(rand.NewPCG(seed, 17))
			last := make([]string, number)
			for i := range number {
				c := &chain{Rand: r}
				first := c.name()
				c.line("%s := %d // cause %d", first, 1000+i, i)
				value := first
				for range 1 + r.IntN(5) {
					value = c.step(value)
				}
				c.line("look(%s) // symptom %d", value, i)
				last[i] = value
				fmt.Fprintf(&calls, "\tf%d()\n", i)
				fmt.Fprintf(&functions, "func f%d() {\n%s}\n\n", i, c.body.String())
			}
			text := fmt.Sprintf(chainHead, calls.String()) + functions.String()
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(text), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module generated\n\ngo 1.24\n"), 0o600))
			ran := record(t, dir, "go", "run", ".")
			require.Zero(t, ran.ExitCode, "%s\n%s", ran.err, text)
			recording := open(t, ran.log)
			lines := strings.Split(text, "\n")
			lineOf := func(mark string) int {
				for i, l := range lines {
					if strings.HasSuffix(l, mark) {
						return i + 1
					}
				}
				require.FailNow(t, mark)
				return 0
			}
			for i := range number {
				cause, symptom := lineOf(fmt.Sprintf("// cause %d", i)), lineOf(fmt.Sprintf("// symptom %d", i))
				hits, err := recording.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: find.LineText("main.go", symptom)}, replay.Page{Count: 1})
				require.NoError(t, err)
				require.Equal(t, 1, hits.Total)
				thread, err := recording.ThreadOf(hits.Page[0])
				require.NoError(t, err)
				o, err := recording.Origin(context.Background(), last[i], hits.Page[0], thread, 0, replay.OriginOptions{Depth: 20})
				require.NoError(t, err, last[i])
				have := false
				each(o, func(o replay.Origin) { have = have || o.Line == cause })
				assert.True(t, have, "%s of\n%s\ndoes not lead to line %d:\n%s", last[i], strings.Join(lines[cause-2:symptom], "\n"), cause, chainText(recording, o))
				assertAskable(t, recording, o)
			}
		})
	}
}
