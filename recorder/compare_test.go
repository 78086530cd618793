package recorder_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/replay"
)

// tolls is a program that is right; the test puts one defect into it.
const tolls = `package main

import (
	"fmt"
	"os"
	"sort"
)

type vessel struct {
	name   string
	length int
	tons   int
}

type rate struct {
	upTo int
	toll int
}

var rates = []rate{{20, 40}, {40, 95}, {80, 210}, {1000, 640}}

type office struct {
	known map[string]int
	sums  map[string]int
	asked int
}

func (o *office) toll(v vessel) int {
	if t, ok := o.known[v.name]; ok {
		return t
	}
	o.asked++
	t := 0
	for _, r := range rates {
		if v.length <= r.upTo {
			t = r.toll
			break
		}
	}
	if v.tons > 500 {
		t += heavy(v.tons, 500)
	}
	o.known[v.name] = t
	return t
}

func heavy(tons, limit int) int {
	over := tons - limit
	return over / 100 * 7
}

func (o *office) pass(v vessel, quay string) {
	t := o.toll(v)
	if quay == "" {
		return
	}
	o.sums[quay] += t
}

func main() {
	fleet := []vessel{{"Halcyon Drift", 38, 700}, {"Curlew", 12, 90}, {"Petrel", 75, 1900}, {"Curlew", 12, 90}, {"Osprey", 20, 500}}
	quays := []string{"Kelp", "Ness", "Kelp", "", "Gut"}
	o := &office{known: map[string]int{}, sums: map[string]int{}}
	for i, v := range fleet {
		o.pass(v, quays[i])
	}
	names := make([]string, 0, len(o.sums))
	for q := range o.sums {
		names = append(names, q)
	}
	sort.Strings(names)
	total := 0
	for _, q := range names {
		fmt.Println(q, o.sums[q])
		total += o.sums[q]
	}
	if total != 497 || o.asked != 4 {
		fmt.Fprintln(os.Stderr, "the books do not balance:", total, o.asked)
		os.Exit(3)
	}
}
`

func recordText(t *testing.T, text string) (replay.Recording, recorded) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module tolls\n\ngo 1.24\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(text), 0o600))
	r := record(t, dir, "go", "run", ".")
	return open(t, r.log), r
}

// The cause of a defect is among the first five, and the first parting is not after it. TestCausesOfDefects has further kinds.
func TestComparedRuns(t *testing.T) {
	t.Parallel()
	right, r := recordText(t, tolls)
	require.Zero(t, r.ExitCode, r.err)
	t.Run("equal", func(t *testing.T) {
		t.Parallel()
		again, _ := recordText(t, tolls)
		c, err := again.(replay.Aligner).Align(context.Background(), right, replay.AlignOptions{Causes: 10})
		require.NoError(t, err)
		assert.Nil(t, c.First, "%+v", c.First)
		assert.Empty(t, c.Causes)
		assert.Zero(t, c.OnlyLeft+c.OnlyRight)
	})
	for name, x := range map[string]struct{ old, new, cause string }{
		"wrong table":       {"{40, 95}", "{40, 59}", "{40, 59}"},
		"swapped arguments": {"heavy(v.tons, 500)", "heavy(500, v.tons)", "heavy(500, v.tons)"},
		"another input":     {"{\"Petrel\", 75, 1900}", "{\"Petrel\", 75, 2900}", "fleet := "},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			text := strings.Replace(tolls, x.old, x.new, 1)
			require.NotEqual(t, tolls, text)
			left, r := recordText(t, text)
			require.Equal(t, 3, r.ExitCode, r.err)
			c, err := left.(replay.Aligner).Align(context.Background(), right, replay.AlignOptions{Causes: 10})
			require.NoError(t, err)
			require.NotNil(t, c.First)
			var names []string
			found := -1
			for i, p := range c.Causes {
				names = append(names, p.Name+" · "+p.LeftValue+" · "+p.RightValue+" · "+p.Why)
				if found < 0 && strings.Contains(p.Name, x.cause) {
					found = i
				}
			}
			assert.True(t, found >= 0 && found < 5, "%s is not among the first five of\n%s", x.cause, strings.Join(names, "\n"))
			if c.First.Left != event.NoMoment && found >= 0 && c.Causes[found].Left != event.NoMoment {
				assert.LessOrEqual(t, c.First.Left, c.Causes[found].Left)
			}
		})
	}
}

// Threads are paired by what started them and what they do, whatever their order; the order of a map does not count.
func TestComparedThreads(t *testing.T) {
	t.Parallel()
	const tugs = `package main

import (
	"fmt"
	"math/rand"
	"sync"
	"time"
)

type tug struct {
	name  string
	pulls int
}

func (t *tug) pull(n int) int {
	t.pulls += n
	return t.pulls
}

func main() {
	var wg, begun sync.WaitGroup
	var mu sync.Mutex
	begun.Add(6)
	all := map[string]int{}
	for i := range 6 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			begun.Done()
			begun.Wait() // what a tug has seen of the map at its beginning does not depend on others
			t := &tug{name: fmt.Sprint("tug", i)}
			for k := range 50 {
				t.pull(k * i)
				if k%10 == 0 {
					time.Sleep(time.Duration(rand.Intn(300)) * time.Microsecond)
				}
			}
			mu.Lock()
			defer mu.Unlock()
			all[t.name] = t.pulls
		}()
	}
	wg.Wait()
	total := 0
	for _, n := range all {
		total += n
	}
	fmt.Println(total)
}
`
	right, _ := recordText(t, tugs)
	again, _ := recordText(t, tugs)
	left, _ := recordText(t, strings.Replace(tugs, "\t\t\t\tt.pull(k * i)\n", "\t\t\t\tt.pull(k * i)\n\t\t\t\tif i == 4 && k == 30 {\n\t\t\t\t\tt.pull(1)\n\t\t\t\t}\n", 1))
	how := replay.AlignOptions{Causes: 10}
	c, err := again.(replay.Aligner).Align(context.Background(), right, how)
	require.NoError(t, err)
	assert.Equal(t, [2]int{}, [2]int{c.OnlyLeft, c.OnlyRight})
	assert.Empty(t, c.Causes)
	c, err = left.(replay.Aligner).Align(context.Background(), right, how)
	require.NoError(t, err)
	assert.Equal(t, [2]int{1, 0}, [2]int{c.OnlyLeft, c.OnlyRight})
	require.NotNil(t, c.First)
	assert.Equal(t, "if i == 4 && k == 30 {", c.First.Name)
	assert.Equal(t, c.First.Name, c.Causes[0].Name)
}

// A call that was under way when the program ended is not one that ends in another way: its end was not seen.
func TestComparedWithACallThatWasCutOff(t *testing.T) {
	t.Parallel()
	const bell = `package main

import (
	"fmt"
	"os"
	"sync"
	"time"
)

func ring(wg *sync.WaitGroup, n int) int {
	defer os.ReadFile("rope") // waits if it is a pipe
	defer wg.Done()
	n += 3
	return n
}

func main() {
	var wg sync.WaitGroup
	wg.Add(1)
	go ring(&wg, 4)
	wg.Wait()
	time.Sleep(300 * time.Millisecond)
	fmt.Println("rung")
}
`
	dirs := [2]string{t.TempDir(), t.TempDir()}
	var runs [2]replay.Recording
	for i, dir := range dirs {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module bell\n\ngo 1.24\n"), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(bell), 0o600))
		if i == 0 {
			require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "rope"), 0o600))
		}
		r := record(t, dir, "go", "run", ".")
		require.Zero(t, r.ExitCode, r.err)
		runs[i] = open(t, r.log)
	}
	for i := range runs {
		c, err := runs[i].(replay.Aligner).Align(context.Background(), runs[1-i], replay.AlignOptions{Causes: 10})
		require.NoError(t, err)
		assert.Empty(t, c.Causes)
		assert.Nil(t, c.First)
	}
}

// A relation between local values at a line is found by its text in another version, and breaks where the defect shows.
func TestContrastsAtLines(t *testing.T) {
	t.Parallel()
	const locks = `package main

import "fmt"

func fill(levels []int) (sum int) {
	for i, level := range levels {
		room := 40 - level
		part := room / 2
		if i == 30 {
			part += 70
		}
		sum += part + room
	}
	return sum
}

func main() {
	var levels []int
	for i := range 60 {
		levels = append(levels, i*7%40)
	}
	fmt.Println(fill(levels))
}
`
	left, _ := recordText(t, locks)
	right, _ := recordText(t, strings.Replace(locks, "i == 30", "i == 300", 1))
	list, more, err := left.(replay.Relater).Relate(context.Background(), []replay.Recording{right}, 10)
	require.NoError(t, err)
	assert.False(t, more)
	var found []string
	for _, x := range list {
		found = append(found, x.Checkpoint+": "+x.That)
		if x.That == "part <= room" {
			assert.Equal(t, [2]int{60, 1}, [2]int{x.Held, x.Breaks})
			assert.Equal(t, "sum += part + room", x.Text)
			place, err := ask.PlaceAt(context.Background(), left, x.Broken)
			require.NoError(t, err)
			assert.Equal(t, 12, place.Line)
		}
	}
	assert.Contains(t, found, "line main.go:12: part <= room")
}

// A package variable that only an inner call names has its own value in the outer call, whatever variables that one has.
func TestPackageVariablesOfInnerCalls(t *testing.T) {
	t.Parallel()
	r, _ := recordText(t, `package main

import (
	"errors"
	"fmt"
)

var (
	bells  = 3
	lamp   = "lit"
	errFog = errors.New("fog")
	horns  []int
)

func sound() {
	bells++
	lamp += "!"
	horns = append(horns, bells)
	if bells > 100 {
		panic(errFog)
	}
}

func pass(ships []string) (n int) {
	first := ships[0]
	for i := range ships {
		second := &ships[i]
		n += len(*second)
	}
	sound()
	third := first + "?"
	return n + len(third)
}

func main() { fmt.Println(pass([]string{"Curlew", "Petrel"})) }
`)
	list, _, err := r.(replay.Calls).MadeCalls(context.Background(), "main.pass", replay.Page{Count: 1})
	require.NoError(t, err)
	got := map[string]string{}
	for _, g := range list[0].Globals {
		got[g.Name] = g.Before.Text() + " " + g.After.Text()
	}
	assert.Equal(t, "3 4", got["bells"])
	assert.Equal(t, `"lit" "lit!"`, got["lamp"])
	assert.Equal(t, "nil []int(1){4}", got["horns"])
	before, after, _ := strings.Cut(got["errFog"], " ")
	assert.Contains(t, before+after, "fog")
}
