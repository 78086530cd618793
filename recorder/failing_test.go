package recorder_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// A failure names the operand that was bad, its value, and who passed it in.
func TestAFailureNamesItsOperand(t *testing.T) {
	t.Parallel()
	for how, want := range map[string]struct{ suspect, summary string }{
		"index":  {"s.data", "index out of range [12] with length 12; s.endOffset+s.tokEnd is 12, s.data has 12 elements"},
		"nilmap": {"s.seen", "assignment to entry in nil map; s.seen is nil"},
		"nil":    {"t.next", "nil pointer dereference; t.next is nil"},
		"nilarg": {"t", "t is nil; main.lengthOf passed it in as list[i], line "},
		"divide": {"vessels", `integer divide by zero; vessels is 0; main.main passed it in as strings.Count("a", "b"), line `},
		"assert": {"v", `v is a string, "twelve bytes"; main.main passed it in as s.text(), line `},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			ran := record(t, "testdata/operands", "go", "run", ".", how)
			require.Equal(t, 2, ran.ExitCode)
			f := open(t, ran.log).Info().Failure
			require.NotNil(t, f)
			assert.Equal(t, "panic", f.Kind)
			assert.Contains(t, f.Summary, want.summary)
			assert.Equal(t, want.suspect, f.Suspect)
		})
	}
}

const stuckProgram = `package main

import (
	"fmt"
	"os"
	"sync"
)

var table = map[int]int{}

func fill(n int) {
	for i := range n {
		table[i%7]++
	}
}

func main() {
	if os.Args[1] == "map" {
		go fill(1 << 40)
		for i := 0; ; i++ {
			table[i%5] += i
		}
	}
	if os.Args[1] == "handled" {
		for i := range 3 {
			fmt.Println(berth(i))
		}
		os.Exit(4)
	}
	var gate sync.Mutex
	done := make(chan int)
	go func() { gate.Lock(); done <- 1; gate.Unlock() }()
	go func() { gate.Lock(); done <- 2; gate.Unlock() }()
	<-done
	gate.Lock()
	<-done
	gate.Lock()
}

func berth(n int) (int, error) {
	if n == 0 {
		return 0, fmt.Errorf("berth %d is taken", n)
	}
	return n, nil
}
`

// A deadlock is called so, with what each goroutine waits for; concurrent use of a map names both
// places; an error after which calls went well is not why a program ended.
func TestFailuresOfTheRuntime(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(stuckProgram), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module stuck\n\ngo 1.24\n"), 0o600))
	for how, want := range map[string]struct{ kind, summary string }{
		"deadlock": {"deadlock", `^all goroutines wait for each other(; thread \d+: goroutine \d+ waits for (a lock|a value from a channel|room in a channel) at 0x[0-9a-f]+)+$`},
		"map":      {"fatal", `^the map (main\.)?table(\[i%5\])? was used by two goroutines at the same time; here, and by thread \d+ at main\.go:(13|21) \(moment \d+\)$`},
		"handled":  {"exit", "^ended with code 4$"},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			ran := record(t, dir, "go", "run", ".", how)
			require.NotZero(t, ran.ExitCode)
			f := open(t, ran.log).Info().Failure
			require.NotNil(t, f)
			assert.Equal(t, want.kind, f.Kind)
			assert.Regexp(t, want.summary, f.Summary)
		})
	}
}

// Names of function literals, and maps whose keys are interfaces, are the same with and without the
// recorder; errors read as their Error methods would, and panics that are recovered at once are
// listed.
func TestNothingChangesInTheProgram(t *testing.T) {
	t.Parallel()
	plain := exec.Command("go", "run", ".")
	plain.Dir = "testdata/literals"
	var out bytes.Buffer
	plain.Stdout = &out
	require.NoError(t, plain.Run())
	ran := record(t, "testdata/literals", "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	assert.Equal(t, out.String(), ran.out)
	assert.Contains(t, ran.out, "main.many.func1")

	r := open(t, ran.log)
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "error"}, replay.Page{Count: 10})
	require.NoError(t, err)
	var texts []string
	for _, m := range hits.Page {
		texts = append(texts, r.Text(m))
	}
	require.Len(t, texts, 4)
	assert.Equal(t, "*errors.joinError: ebb\nflow: file does not exist", texts[1])
	assert.Contains(t, texts[2], "open /no/such/file: no such file or directory")
	assert.Contains(t, texts[3], "nil pointer dereference")
}

// Names and values that are known are not refused.
func TestNamesInExpressions(t *testing.T) {
	t.Parallel()
	ran := record(t, "testdata/spelled", "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	at := atMark(t, r, "testdata/spelled", "here")
	for expression, want := range map[string]string{
		"p": "&main.inner{Depth: 7}", "q.ID": "3", "q.Depth": "7", "harbour": `"Gannet Sound"`, "main.harbour": `"Gannet Sound"`, "size(list)": "0",
		`m["zz"]`: "0", "in": "4", "in + as": "9", "s.in": "4", "q.raw": `[]byte("ebb and flow")`,
	} {
		got, err := evaluate(t, r, at, expression)
		require.NoError(t, err, expression)
		assert.Equal(t, want, got, expression)
	}
	for _, name := range []string{"App.Run", "main.App.Run", "(*App).Run", "Run"} {
		hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "enter", About: name}, replay.Page{Count: 10})
		require.NoError(t, err, name)
		assert.Len(t, hits.Page, 1, name)
	}
}

// Logs of every version of the format open and say what they said.
func TestLogsOfEveryVersion(t *testing.T) {
	t.Parallel()
	logs, err := filepath.Glob("testdata/corpus/*.wraith")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(logs), 2)
	for _, path := range logs {
		r := open(t, path)
		info := r.Info()
		assert.Empty(t, info.Gaps, path)
		assert.Contains(t, info.Failure.Summary, "code 4", path)
		hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "enter", About: "berth"}, replay.Page{Count: 10})
		require.NoError(t, err, path)
		require.Len(t, hits.Page, 3, path)
		for i, name := range []string{"Halcyon Drift", "Curlew", "Curlew"} {
			got, err := evaluate(t, r, hits.Page[i], "v.Name")
			require.NoError(t, err, path)
			assert.Equal(t, name, strings.Trim(got, `"`), path)
		}
		last := variableAt(t, r, event.Moment(info.Moments-1), "main.berthed")
		assert.EqualValues(t, 0, last.Count(), path)
	}
}

// A name that shadows a test's t is not taken for it, and each message of a failing test is recorded.
func TestShadowedTester(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module shadow\n\ngo 1.24\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "shadow_test.go"), []byte(`package shadow

import "testing"

func TestShadow(t *testing.T) {
	outer := t
	for _, t := range []int{1, 2} {
		t++
		outer.Errorf("depth %d", t)
	}
	t.Run("b", func(b *testing.T) {
		for b, t := range map[string]int{"x": 1} {
			_, _ = b, t
		}
	})
}
`), 0o600))
	ran := record(t, dir, "go", "test", ".")
	assert.Equal(t, 1, ran.ExitCode)
	r := open(t, ran.log)
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "error", About: "depth"}, replay.Page{Count: 10})
	require.NoError(t, err)
	assert.Len(t, hits.Page, 2, ran.out)
}

// A stack that reached its limit is called so, with the functions that call each other.
func TestStackOverflow(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module deep\n\ngo 1.24\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(`package main

import "runtime/debug"

func ebb(d int) int { return flood(d+1) + 1 }

func flood(d int) int {
	if d < 0 {
		return 1
	}
	return ebb(d)
}

func main() {
	debug.SetMaxStack(1 << 20)
	println(ebb(0))
}
`), 0o600))
	ran := record(t, dir, "go", "run", ".")
	assert.NotZero(t, ran.ExitCode)
	r := open(t, ran.log)
	failure := r.Info().Failure
	require.NotNil(t, failure)
	assert.Equal(t, "fatal", failure.Kind)
	frames, err := r.Frames(context.Background(), failure.Moment, failure.Thread)
	require.NoError(t, err)
	assert.Greater(t, len(frames), 1000)
	assert.Regexp(t, fmt.Sprintf(`^the stack of the goroutine has reached its limit, %d calls deep: main\.(ebb, main\.flood|flood, main\.ebb) call each other without end$`, len(frames)), failure.Summary)
}

// A panic of the language's runtime has its message in the list of errors, as the program would print it,
// whether it was recovered or ended the program.
func TestMessagesOfRuntimePanics(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module pick\n\ngo 1.24\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(`package main

import "fmt"

type quay struct{ depth int }

func try(what func()) {
	defer func() { fmt.Println(recover()) }()
	what()
}

func main() {
	list, i, none, one, two := []int{1, 2}, 7, -1, 1, 2
	var q *quay
	var m map[string]int
	var a any = "text"
	try(func() { fmt.Println(list[i]) })
	try(func() { fmt.Println(list[none]) })
	try(func() { fmt.Println(list[:i]) })
	try(func() { fmt.Println(list[i:]) })
	try(func() { fmt.Println(list[none:]) })
	try(func() { fmt.Println(list[two:one:two]) })
	try(func() { fmt.Println("ebb"[i:]) })
	try(func() { fmt.Println([4]int(list)) })
	try(func() { fmt.Println(i / len(m)) })
	try(func() { fmt.Println(q.depth) })
	try(func() { m["x"] = 1 })
	try(func() { fmt.Println(a.(int)) })
	fmt.Println("runtime error: index out of range [9] with length 2")
	fmt.Println(list[i+2])
}
`), 0o600))
	ran := record(t, dir, "go", "run", ".")
	assert.NotZero(t, ran.ExitCode)
	r := open(t, ran.log)
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "error"}, replay.Page{Count: 100})
	require.NoError(t, err)
	var texts []string
	for _, at := range hits.Page {
		texts = append(texts, r.Text(at))
	}
	want := strings.Split(strings.TrimSpace(ran.out), "\n")
	for i, text := range want {
		if strings.HasPrefix(text, "interface conversion: ") {
			want[i] = "interface conversion: the value has another type" // the types are not in the log
		}
	}
	assert.Equal(t, want, texts)
}
