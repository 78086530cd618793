package coredump

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
)

func buildGo(t testing.TB, source string, flags ...string) string {
	out := filepath.Join(t.TempDir(), filepath.Base(source))
	cmd := exec.Command("go", append(append([]string{"build"}, flags...), "-o", out, ".")...)
	cmd.Dir = source
	cmd.Env = append(os.Environ(), "GOFLAGS=-buildvcs=false")
	text, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", text)
	return out
}

var (
	blockHead  = regexp.MustCompile(`^goroutine (\d+) .*\[([^\],]+)`)
	blockPlace = regexp.MustCompile(`^\t(\S+):(\d+)( |$)`)
)

// block is a goroutine in the text that the Go runtime itself printed.
type block struct {
	state  string
	frames []string // "function file:line"
}

// blocks reads the traceback of all goroutines. The first one of a number counts:
// threads that are stopped later print theirs again.
func blocks(text string) map[uint64]block {
	out := map[uint64]block{}
	var now block
	var id uint64
	function := ""
	flush := func() {
		if _, ok := out[id]; !ok && id != 0 {
			out[id] = now
		}
		id, now, function = 0, block{}, ""
	}
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		switch m := blockHead.FindStringSubmatch(line); {
		case m != nil:
			flush()
			id, _ = strconv.ParseUint(m[1], 10, 64)
			now.state = m[2]
		case line == "" || strings.HasPrefix(line, "created by"):
			flush()
		case strings.HasPrefix(line, "\t"):
			if p := blockPlace.FindStringSubmatch(line); p != nil && function != "" {
				now.frames = append(now.frames, fmt.Sprintf("%s %s:%s", function, p[1], p[2]))
			}
			function = ""
		default:
			if i := strings.LastIndex(line, "("); i > 0 && strings.HasSuffix(line, ")") {
				function = line[:i]
				if function == "panic" {
					function = "runtime.gopanic"
				}
			}
		}
	}
	flush()
	return out
}

// The stack of every goroutine is the one that the Go runtime itself printed,
// function, file and line, and values are what the program printed.
func TestGoTruth(t *testing.T) {
	t.Parallel()
	for _, b := range []struct {
		name  string
		flags []string
		least int
	}{
		{"plain", nil, 15},
		{"without optimisation", []string{"-gcflags=all=-N -l"}, 24},
		{"position independent", []string{"-buildmode=pie"}, 15},
	} {
		t.Run(b.name, func(t *testing.T) {
			t.Parallel()
			binary := buildGo(t, "testdata/goroutines", b.flags...)
			core, printed := crash(t, binary)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			checkBlocks(t, d, printed)
			known := agree(t, d, truth(printed))
			assert.GreaterOrEqual(t, known, b.least)
			f := d.Info().Failure
			assert.Equal(t, "panic", f.Kind)
			assert.Equal(t, "runtime error: index out of range [42] with length 2", f.Summary)
			frames, err := d.Frames(context.Background(), 0, f.Thread)
			require.NoError(t, err)
			assert.Equal(t, "main.fail", frames[f.Frame].Function)
			assert.Empty(t, d.Info().Gaps)
		})
	}
}

// Programs of older releases of Go, with other layouts of tables. It needs the module proxy, for
// the toolchains.
func TestOlderGo(t *testing.T) {
	t.Parallel()
	if os.Getenv("WRAITH_TEST_MODULES") == "" {
		t.Skip("set WRAITH_TEST_MODULES to test with older toolchains")
	}
	for _, version := range []string{"go1.22.12", "go1.23.12", "go1.24.9"} {
		binary := filepath.Join(t.TempDir(), "roster")
		cmd := exec.Command("go", "build", "-buildvcs=false", "-gcflags=all=-N -l", "-o", binary, ".")
		cmd.Dir = "testdata/goroutines"
		cmd.Env = append(os.Environ(), "GOTOOLCHAIN="+version)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		core, printed := crash(t, binary)
		d := openDump(t, core, Options{Modules: sourcesOf(binary)})
		assert.Equal(t, version, d.build.Go)
		checkBlocks(t, d, printed)
		want := truth(printed)
		if version < "go1.23" { // its debug information does not say what closures take along
			want.values = slices.DeleteFunc(want.values, func(v [3]string) bool { return strings.HasPrefix(v[1], "q.Later.") })
		}
		assert.Equal(t, len(want.values), agree(t, d, want), version)
	}
}

func checkBlocks(t *testing.T, d *Dump, printed string) {
	all := blocks(printed)
	require.Greater(t, len(all), 15)
	compared := 0
	for id, b := range all {
		thread, err := d.thread(0, event.ThreadID(id))
		if !assert.NoError(t, err, "goroutine %d", id) {
			continue
		}
		frames, err := d.Frames(context.Background(), 0, event.ThreadID(id))
		require.NoError(t, err)
		var got []string
		for _, f := range frames {
			got = append(got, fmt.Sprintf("%s %s:%d", f.Function, f.File, f.Line))
		}
		if b.state == "running" || b.state == "syscall" {
			got = from(got, b.frames[0]) // what the runtime did to end the program came after
		} else {
			state, _, _ := strings.Cut(thread.State, ", channel")
			state, _, _ = strings.Cut(state, ", semaphore")
			assert.Equal(t, b.state, state, "goroutine %d", id)
		}
		assert.Equal(t, b.frames, got, "goroutine %d, %s", id, b.state)
		compared++
	}
	assert.Greater(t, compared, 15)
}

func from(list []string, first string) []string {
	for i, x := range list {
		if x == first {
			return list[i:]
		}
	}
	return list
}

// A stripped binary still gives the stack, by Go's own tables.
func TestGoStripped(t *testing.T) {
	t.Parallel()
	binary := buildGo(t, "testdata/goroutines", "-ldflags=-s -w")
	core, printed := crash(t, binary)
	d := openDump(t, core, Options{Modules: sourcesOf(binary)})
	want := blocks(printed)
	f := d.Info().Failure
	require.NotNil(t, f)
	frames, err := d.Frames(context.Background(), 0, f.Thread)
	require.NoError(t, err)
	var got []string
	for _, x := range frames {
		got = append(got, fmt.Sprintf("%s %s:%d", x.Function, x.File, x.Line))
	}
	assert.Equal(t, want[1].frames, from(got, want[1].frames[0]))
	assert.NotEmpty(t, d.Info().Gaps)
}

// The reasons of goroutines' waits are known, and equal stacks are one group.
func TestGoroutineWaits(t *testing.T) {
	t.Parallel()
	binary := buildGo(t, "testdata/goroutines")
	core, _ := crash(t, binary)
	d := openDump(t, core, Options{Modules: sourcesOf(binary)})
	groups, err := d.Groups(context.Background(), 0)
	require.NoError(t, err)
	states := map[string]int{}
	for _, g := range groups {
		states[g.State] += len(g.Threads)
	}
	for state, n := range map[string]int{"chan receive": 4, "chan send": 1, "select": 1, "sync.Mutex.Lock": 1, "sync.RWMutex.RLock": 1, "sleep": 1, "sync.Cond.Wait": 1, "select (no cases)": 1, "IO wait": 1} {
		assert.Equal(t, n, states[state], state)
	}
	assert.Equal(t, d.failure.Thread, groups[0].Threads[0], "the failing one comes first")
	on := map[string]string{}
	for _, th := range d.threads {
		state, what, _ := strings.Cut(th.State, ", ")
		on[state] = what
		if th.Kind == "goroutine" && th.goroutine.id != 1 {
			assert.NotEmpty(t, th.Creator, th.Name)
		}
	}
	assert.Contains(t, on["chan receive"], "channel at 0x")
	assert.Contains(t, on["select"], "channel at 0x")
	assert.Contains(t, on["sync.Mutex.Lock"], "semaphore at 0x")
	for _, th := range d.threads {
		waits, err := d.WaitsFor(context.Background(), 0, th.ID)
		require.NoError(t, err)
		if strings.HasPrefix(th.State, "sync.Mutex.Lock") {
			assert.Equal(t, "may be held by goroutine 1 in main.main", waits)
		} else if !strings.Contains(th.State, "Mutex") {
			assert.Empty(t, waits, th.State)
		}
	}
}

// Each way in which a Go program ends has a summary with the words of its runtime.
func TestGoEndings(t *testing.T) {
	t.Parallel()
	binary := buildGo(t, "testdata/endings")
	for how, want := range map[string]struct{ kind, summary, function, suspect string }{
		"nil":       {"panic", "runtime error: invalid memory address or nil pointer dereference", "main.(*berth).name", ""},
		"index":     {"panic", "runtime error: index out of range [5] with length 2", "main.main", ""},
		"map":       {"panic", "assignment to entry in nil map", "main.main", ""},
		"text":      {"panic", "the tide book is empty", "main.main", ""},
		"error":     {"panic", "pilot 11: the licence has lapsed", "main.main", ""},
		"own":       {"panic", "Halcyon Drift needs 7.5 m", "main.main", ""},
		"number":    {"panic", "42", "main.main", ""},
		"again":     {"panic", "while handling: first", "main.main", ""},
		"assertion": {"panic", "interface conversion: interface {} is string, not int", "main.convert", ""},
		"divide":    {"panic", "runtime error: integer divide by zero", "main.main", ""},
		"deadlock":  {"fatal", "all goroutines are asleep - deadlock!", "main.main", ""},
		"stack":     {"fatal", "stack overflow", "main.endless", ""},
		"signal":    {"signal", "SIGABRT", "", ""},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			f, frames := crashed(t, binary, how)
			assert.Equal(t, want.kind, f.Kind)
			assert.Contains(t, f.Summary, want.summary)
			assert.Equal(t, want.suspect, f.Suspect)
			if want.function != "" {
				assert.Equal(t, want.function, frames[f.Frame].Function)
			}
		})
	}
}

// A panic's value is read as its text says, also before the runtime has replaced it by the text that
// it prints.
func TestPanicsWhoseDeferredCallsRun(t *testing.T) {
	t.Parallel()
	binary := buildGo(t, "testdata/panics")
	types := map[string]string{"pilot 11: the licence has lapsed": "*fmt.wrapError", "no berth is free": "main.codeError", "the lock is shut": "*main.codeError",
		"deep": "*main.wrapping", "42": "int", "7.25": "float64", "true": "bool"}
	for i, ways := 0, 1; i < ways; i++ {
		core, printed := crash(t, binary, strconv.Itoa(i))
		lines := strings.SplitN(printed, "\n", 3)
		var err error
		ways, err = strconv.Atoi(lines[0])
		require.NoError(t, err)
		d := openDump(t, core, Options{Modules: sourcesOf(binary)})
		f := d.Info().Failure
		require.NotNil(t, f)
		assert.Equal(t, "panic", f.Kind)
		want := lines[1]
		if name := types[want]; name != "" {
			want += " (" + name + ")"
		}
		switch lines[1] {
		case "unreadable": // it is made by a method
			want = "main.unreadable{Depth: 6} (main.unreadable)"
		case "the licence has lapsed":
			want = f.Summary
			assert.Regexp(t, `^the licence has lapsed \(\*(errors.errorString|main.wrapping)\)$`, f.Summary, "way %d", i)
		}
		summary, _, _ := strings.Cut(f.Summary, "; missing is nil in main.")
		assert.Equal(t, want, summary, "way %d", i)
		frames, err := d.Frames(context.Background(), 0, f.Thread)
		require.NoError(t, err)
		assert.Regexp(t, `^main\.init\.func\d+$`, frames[f.Frame].Function, "way %d: the function that panicked", i)
	}
}

// A fault in C code that Go calls is found on the stack of the goroutine's thread, before what the runtime's handler did.
func TestFaultsInCalledC(t *testing.T) {
	t.Parallel()
	binary := buildGo(t, "testdata/calledc")
	for how, want := range map[string]struct{ signal, summary, function string }{
		"null":  {"SIGSEGV", "a read from address 0: a null pointer; b is null in depth_of; it was already null in plan as b, one call up; goroutine 1 was in main.look", "depth_of"},
		"abort": {"SIGABRT", "the program ended itself (SIGABRT); goroutine 1 was in main.main", "give_up"},
		"sent":  {"SIGSEGV", "ended by SIGSEGV, which process", "main.main"},
	} {
		f, frames := crashed(t, binary, how)
		assert.Equal(t, want.signal, f.Signal, how)
		assert.Contains(t, f.Summary, want.summary)
		assert.Equal(t, want.function, frames[f.Frame].Function, how)
	}
}

// A variable whose declaration has not run holds what was on the stack before; that is not its value.
func TestUnassignedVariablesOfGo(t *testing.T) {
	t.Parallel()
	for _, flags := range []string{"-gcflags=all=-N -l", "-gcflags="} {
		binary := buildGo(t, "testdata/unassigned", flags)
		core, _ := crash(t, binary)
		for _, source := range []bool{true, false} {
			o := Options{Modules: sourcesOf(binary)}
			if !source {
				o.Paths = map[string]string{"/": "/nowhere/"}
			}
			d := openDump(t, core, o)
			f := d.Info().Failure
			require.NotNil(t, f)
			list, err := d.Variables(context.Background(), 0, f.Thread, f.Frame+1)
			require.NoError(t, err)
			seen := 0
			for _, v := range list {
				switch v.Name {
				case "bad", "later", "text", "list":
					seen++
					assert.NotEqual(t, event.Known, v.Value.State, "%s %s = %s", flags, v.Name, v.Value.Text())
				case "first":
					if v.Value.State == event.Known {
						assert.Equal(t, "1", v.Value.Text())
					}
				}
			}
			assert.GreaterOrEqual(t, seen, 3, flags)
		}
	}
}

// Locks, wait groups and atomics of Go are shown as what they are for, with their parts.
func TestSyncOfGo(t *testing.T) {
	t.Parallel()
	binary := buildGo(t, "testdata/synced", "-gcflags=all=-N -l")
	core, _ := crash(t, binary)
	d := openDump(t, core, Options{Modules: sourcesOf(binary)})
	f := d.Info().Failure
	for path, want := range map[string]string{
		"p.gates": "sync.WaitGroup{counter 3, 2 waiting}", "p.free": "sync.Mutex{unlocked}", "p.held": "sync.Mutex{locked}", "p.wanted": "sync.Mutex{locked, 1 waiting}",
		"p.read": "sync.RWMutex{locked for reading by 2}", "p.write": "sync.RWMutex{locked for writing, or about to be; 0 reading or waiting to}", "p.idle": "sync.RWMutex{unlocked}",
		"p.once": "sync.Once{done}", "p.never": "sync.Once{not done}", "p.tides": "sync/atomic.Int64{-42}", "p.depth": "sync/atomic.Uint32{7}", "p.open": "sync/atomic.Bool{true}", "p.tides.v": "-42",
	} {
		p, err := replay.ParsePath(path)
		require.NoError(t, err)
		v, err := replay.Follow(context.Background(), d, 0, f.Thread, f.Frame, p)
		if assert.NoError(t, err, path) {
			assert.Equal(t, want, v.Text(), path)
		}
	}
}
