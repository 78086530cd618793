package recorder_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
)

func racesOf(t *testing.T, log string) []replay.Race {
	t.Helper()
	list, err := open(t, log).(replay.Racer).Races(context.Background(), replay.Page{Count: 1000})
	require.NoError(t, err)
	assert.Zero(t, list.Unexamined)
	return list.Page
}

// Accesses that nothing orders are races; in a program in which each is ordered by something, there is none.
func TestRacesOfRecordings(t *testing.T) {
	t.Parallel()
	names := map[string]bool{}
	for _, r := range racesOf(t, record(t, "testdata/racing", "go", "run", ".").log) {
		names[r.Name] = true
		assert.NotEqual(t, r.First.Thread, r.Second.Thread)
		assert.True(t, r.First.Write || r.Second.Write)
	}
	for _, name := range []string{"tide", "b.depth", "b.next.depth"} {
		assert.True(t, names[name], "%s: %v", name, names)
	}
	assert.Empty(t, racesOf(t, record(t, "testdata/ordered", "go", "run", ".").log))
}

// guards are ways to order the accesses of goroutines to the variable vN: the statements around an access.
var guards = []struct{ declaration, before, after string }{
	{"var mu%[1]d sync.Mutex", "mu%[1]d.Lock()", "mu%[1]d.Unlock()"},
	{"var rw%[1]d sync.RWMutex", "rw%[1]d.Lock()", "rw%[1]d.Unlock()"},
	{"var baton%[1]d = func() chan bool { c := make(chan bool, 1); c <- true; return c }()", "<-baton%[1]d", "baton%[1]d <- true"},
	{"var flag%[1]d atomic.Int32", "for !flag%[1]d.CompareAndSwap(0, 1) {\n\t\truntime.Gosched()\n\t}", "flag%[1]d.Store(0)"},
	{"type box%[1]d struct{ sync.Mutex }\n\nvar in%[1]d box%[1]d", "in%[1]d.Lock()", "in%[1]d.Unlock()"},
}

// racy is a program with goroutines that use variables: each guarded in its own way, or by nothing, and then used by
// two goroutines before they use anything else.
func racy(random *rand.Rand) (source string, racing []string) {
	var out, body strings.Builder
	const variables, goroutines = 8, 4
	out.WriteString("package main\n\nimport (\n\t\"runtime\"\n\t\"sync\"\n\t\"sync/atomic\"\n)\n\nvar unused atomic.Bool\nvar start sync.WaitGroup\n\nfunc rest() { runtime.Gosched() }\n")
	access := func(v int) string {
		return []string{"v%[1]d++", "v%[1]d = v%[1]d*2 + 1", "if v%[1]d < 1000 {\n\t\tv%[1]d += 3\n\t}", "l%[1]d = append(l%[1]d, v%[1]d)\n\tv%[1]d--", "m%[1]d[v%[1]d%%3]++\n\tv%[1]d++"}[random.IntN(5)]
	}
	unguarded := map[int]bool{}
	for v := range variables {
		fmt.Fprintf(&out, "\nvar v%[1]d int\nvar l%[1]d []int\nvar m%[1]d = map[int]int{}\n", v)
		if random.IntN(3) == 0 {
			unguarded[v] = true
			racing = append(racing, fmt.Sprintf("v%d", v))
			continue
		}
		fmt.Fprintf(&out, guards[v%len(guards)].declaration+"\n", v)
	}
	for g := range goroutines {
		fmt.Fprintf(&body, "\nfunc task%d() {\n", g)
		if g < 2 {
			for v := range variables {
				if unguarded[v] {
					fmt.Fprintf(&body, "\tv%[1]d += %[2]d\n", v, g+1)
				}
			}
		}
		for range 6 {
			if v := random.IntN(variables); !unguarded[v] {
				w := guards[v%len(guards)]
				fmt.Fprintf(&body, "\t"+w.before+"\n\t"+access(v)+"\n\t"+w.after+"\n", v)
			} else {
				body.WriteString("\trest()\n")
			}
		}
		body.WriteString("\tend()\n}\n")
	}
	out.WriteString(body.String())
	out.WriteString("\nfunc end() {}\n\nfunc main() {\n\tvar all sync.WaitGroup\n")
	for v := range variables {
		fmt.Fprintf(&out, "\tv%d = %d\n", v, v) // before the goroutines
	}
	for g := range goroutines {
		if g%2 == 0 {
			fmt.Fprintf(&out, "\tall.Add(1)\n\tgo func() {\n\t\tdefer all.Done()\n\t\ttask%d()\n\t}()\n", g)
		} else {
			fmt.Fprintf(&out, "\tall.Add(1)\n\tgo run%[1]d(&all)\n", g)
		}
	}
	out.WriteString("\tall.Wait()\n")
	for v := range variables {
		fmt.Fprintf(&out, "\tprintln(v%[1]d, len(l%[1]d), len(m%[1]d))\n\tv%[1]d = 0\n", v) // after them
	}
	out.WriteString("\t_ = unused.Load()\n}\n")
	for g := 1; g < goroutines; g += 2 {
		fmt.Fprintf(&out, "\nfunc run%[1]d(all *sync.WaitGroup) {\n\ttask%[1]d()\n\tall.Done()\n}\n", g)
	}
	return out.String(), racing
}

// The races of generated programs are those of the variables that nothing guards, and no others.
func TestRacesOfGeneratedPrograms(t *testing.T) {
	t.Parallel()
	programs, found := 7, 0
	if testing.Short() {
		programs = 3
	}
	for seed := range programs {
		source, racing := racy(rand.New(rand.NewPCG(uint64(seed), 21)))
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(source), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module racy\n\ngo 1.24\n"), 0o600))
		ran := record(t, dir, "go", "run", ".")
		require.Zero(t, ran.ExitCode, ran.err)
		var names []string
		for _, r := range racesOf(t, ran.log) {
			names = append(names, r.Name)
		}
		slices.Sort(names)
		assert.Equal(t, racing, append([]string(nil), slices.Compact(names)...), "seed %d\n%s", seed, source)
		found += len(racing)
	}
	assert.Positive(t, found)
}

// Calls that overlap with the same key are told with what they read and wrote, and their locks; others are not.
func TestOverlaps(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module overlaps\n\ngo 1.24\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(`package main

import "sync"

var mu sync.Mutex
var moored = map[string]int{}

func moor(berth string, n int, meet, leave *sync.WaitGroup) {
	mu.Lock()
	before := moored[berth]
	mu.Unlock()
	meet.Done()
	meet.Wait()
	mu.Lock()
	moored[berth] = before + n
	mu.Unlock()
	leave.Done()
}

func main() {
	var meet, leave sync.WaitGroup
	meet.Add(3)
	leave.Add(3)
	go moor("Inner Ness", 1, &meet, &leave)
	go moor("Inner Ness", 2, &meet, &leave)
	go moor("Osprey Wall", 3, &meet, &leave)
	leave.Wait()
	meet.Add(1)
	leave.Add(1)
	moor("Inner Ness", 4, &meet, &leave)
}
`), 0o600))
	ran := record(t, dir, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	key := func(at event.Moment, _ event.ThreadID) (string, error) { return evaluate(t, r, at, "berth") }
	list, err := r.(replay.Racer).Overlaps(context.Background(), "main.moor", key, replay.Page{Count: 10})
	require.NoError(t, err)
	require.Len(t, list.Page, 1)
	assert.Equal(t, `"Inner Ness"`, list.Page[0].Key)
	require.Len(t, list.Page[0].Calls, 2)
	var written []string
	for _, c := range list.Page[0].Calls {
		require.Len(t, c.Reads, 1)
		assert.Equal(t, "moored[berth]", c.Reads[0].Name)
		require.Len(t, c.Writes, 1)
		written = append(written, c.Writes[0].Value.Text())
		assert.Less(t, c.Reads[0].Moment, c.Writes[0].Moment)
		require.Len(t, c.Locks, 2)
		assert.Equal(t, "mu", c.Locks[0].Name)
		assert.LessOrEqual(t, c.Locks[0].Since, c.Reads[0].Moment)
		assert.Less(t, c.Reads[0].Moment, c.Locks[0].Until)
		assert.LessOrEqual(t, c.Locks[1].Since, c.Writes[0].Moment)
	}
	assert.ElementsMatch(t, []string{"1", "2"}, written, "one of the two was lost")
	assert.Empty(t, racesOf(t, ran.log), "each access was ordered")
}
