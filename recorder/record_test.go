package recorder_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/execlog"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/history"
	"wraithology/recorder"
)

// truth copies the program that prints the truth into a folder.
func truth(t *testing.T) string {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/truth")))
	return dir
}

// sums returns a checksum of every file below a folder.
func sums(t *testing.T, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			var b []byte
			b, err = os.ReadFile(path)
			out[path] = fmt.Sprintf("%x", sha256.Sum256(b))
		}
		return err
	}))
	return out
}

type recorded struct {
	recorder.Result
	out, err string
	log      string
}

// record records a command in a folder, in a separate process: the recorder works in the current
// folder.
func record(t *testing.T, dir string, command ...string) recorded {
	return recordWith(t, recorder.Options{}, dir, command...)
}

// recordWith is record with other than the usual options.
func recordWith(t *testing.T, o recorder.Options, dir string, command ...string) recorded {
	return recordInto(t, filepath.Join(t.TempDir(), "run.wraith"), o, dir, command...)
}

// recordInto records into a log.
func recordInto(t *testing.T, log string, o recorder.Options, dir string, command ...string) recorded {
	cmd := recorderCommand(t, dir, log, command...)
	options, err := json.Marshal(map[string]any{"Ring": o.Ring, "Detail": o.Detail})
	require.NoError(t, err)
	cmd.Env = append(cmd.Env, "RECORDER_OPTIONS="+string(options))
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err = cmd.Run()
	r := recorded{log: log, out: out.String(), err: errOut.String()}
	if err != nil {
		require.IsType(t, &exec.ExitError{}, err)
		r.ExitCode = err.(*exec.ExitError).ExitCode()
	}
	return r
}

// recorderCommand runs this test binary as the recorder (see TestMain).
func recorderCommand(t *testing.T, dir, log string, command ...string) *exec.Cmd {
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self, append([]string{log}, command...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "BE_THE_RECORDER=1")
	return cmd
}

func TestMain(m *testing.M) {
	if os.Getenv("BE_THE_RECORDER") == "" {
		os.Exit(m.Run())
	}
	os.Unsetenv("BE_THE_RECORDER")
	o := recorder.Options{}
	if text := os.Getenv("RECORDER_OPTIONS"); text != "" {
		if err := json.Unmarshal([]byte(text), &o); err != nil {
			panic(err)
		}
	}
	o.Output, o.Command, o.Stdin, o.Stdout, o.Stderr = os.Args[1], os.Args[2:], os.Stdin, os.Stdout, os.Stderr
	r, err := recorder.Record(context.Background(), o)
	if err != nil {
		fmt.Fprintln(os.Stderr, "recorder:", err)
		os.Exit(200)
	}
	os.Exit(r.ExitCode)
}

func open(t *testing.T, log string) history.Replay {
	r, err := kinds.All.Open(context.Background(), log, evidence.Options{}, nil)
	require.NoError(t, err)
	checkSummary(t, log, r.(history.Replay))
	return r.(history.Replay)
}

// checkSummary compares the summary of a log with what its timeline says.
func checkSummary(t *testing.T, path string, r history.Replay) {
	t.Helper()
	log, err := execlog.OpenFile(path)
	require.NoError(t, err)
	defer log.Close()
	s := log.Summary
	if s == nil {
		return // of an earlier version, or not packed
	}
	info := r.Info()
	require.Equal(t, info.Moments, int64(s.Moments))
	require.Equal(t, info.Threads, s.Threads)
	if s.Threads > 1 {
		return // a timeline has its own numbers of threads
	}
	for _, o := range s.Open {
		frames, err := r.Frames(context.Background(), event.Moment(info.Moments-1), o.Thread)
		require.NoError(t, err)
		require.Len(t, frames, o.Depth, "thread %d", o.Thread)
		for i, c := range o.Calls {
			require.Equal(t, frames[i].Function, log.Functions[c.Function].Name)
			if c.Reached {
				require.Equal(t, frames[i].Line, log.Sites[c.Site].Line)
			}
		}
	}
}

// evaluate evaluates an expression at a moment in the innermost frame.
func evaluate(t *testing.T, r history.Replay, at event.Moment, expression string) (string, error) {
	q, err := question.Parse(expression)
	require.NoError(t, err)
	thread, err := r.ThreadOf(at)
	require.NoError(t, err)
	a, err := q.Ask(context.Background(), r, at, thread, 0)
	return a.Value, err
}

// checkTruth compares every line that the program printed about itself with what
// the recording says at that very line.
func checkTruth(t *testing.T, r history.Replay, output string) {
	ctx := context.Background()
	passed := map[string]int{}
	checked := 0
	for _, l := range strings.Split(output, "\n") {
		fields := strings.Split(l, "\t")
		if len(fields) != 4 || fields[0] != "TRUTH" {
			continue
		}
		line, err := strconv.Atoi(fields[1])
		require.NoError(t, err)
		hits, err := r.Hits(ctx, replay.Checkpoint{Kind: "line", About: find.LineText("main.go", line)}, replay.Page{Count: 100})
		require.NoError(t, err)
		n := passed[fields[1]]
		passed[fields[1]]++
		require.Less(t, n, len(hits.Page), "main.go:%d was passed more often than recorded", line)
		// Goroutines pass a line in any order: one of its hits must fit.
		var got []string
		for i, m := range hits.Page {
			v, err := evaluate(t, r, m, fields[2])
			if err != nil {
				v = err.Error()
			}
			if s, err := strconv.Unquote(v); err == nil {
				v = s
			}
			if fields[2] == "square" || i == n {
				got = append(got, v)
			}
		}
		assert.Contains(t, got, fields[3], "main.go:%d, time %d: %s", line, n+1, fields[2])
		checked++
	}
	assert.GreaterOrEqual(t, checked, 60)
	for line, n := range passed {
		l, _ := strconv.Atoi(line)
		hits, err := r.Hits(ctx, replay.Checkpoint{Kind: "line", About: find.LineText("main.go", l)}, replay.Page{})
		require.NoError(t, err)
		assert.Equal(t, n, hits.Total, "main.go:%s", line)
	}
}

func TestTheRecordingTellsTheTruth(t *testing.T) {
	t.Parallel()
	dir := truth(t)
	before := sums(t, dir)
	plain := exec.Command("go", "run", ".")
	plain.Dir = dir
	want, err := plain.Output()
	require.NoError(t, err)

	got := record(t, dir, "go", "run", ".")
	require.Zero(t, got.ExitCode, got.err)
	assert.Equal(t, before, sums(t, dir), "the user's files have changed")
	lines := func(s string) int { return strings.Count(s, "\n") }
	assert.Equal(t, lines(string(want)), lines(got.out))
	r := open(t, got.log)
	assert.Nil(t, r.Info().Failure)
	assert.Empty(t, r.Info().Gaps)
	checkTruth(t, r, got.out)

	text, err := r.Source("main.go")
	require.NoError(t, err)
	original, err := os.ReadFile(filepath.Join(dir, "main.go"))
	require.NoError(t, err)
	assert.Equal(t, string(original), text)
}

// The race detector sees the recorder's reads; none of them may count as a race.
func TestUnderTheRaceDetector(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("gcc"); err != nil {
		t.Skip("the race detector needs a C compiler")
	}
	got := record(t, truth(t), "go", "run", "-race", ".")
	require.Zero(t, got.ExitCode, got.err)
	assert.NotContains(t, got.err, "DATA RACE")
	checkTruth(t, open(t, got.log), got.out)
}

func lineOf(t *testing.T, text string) int {
	b, err := os.ReadFile("testdata/truth/main.go")
	require.NoError(t, err)
	for i, l := range strings.Split(string(b), "\n") {
		if strings.Contains(l, text) {
			return i + 1
		}
	}
	t.Fatalf("no line has %q", text)
	return 0
}

func TestEveryEndIsInTheLog(t *testing.T) {
	t.Parallel()
	dir := truth(t)
	for how, want := range map[string]struct {
		code          int
		kind, summary string
		line          string
	}{
		"exit":     {7, "exit", "ended with code 7", ""},
		"panic":    {2, "panic", `gate "lower": no sensor`, `panic(fmt.Errorf("gate`},
		"nil":      {2, "panic", "nil pointer dereference", "fmt.Println(none.width)"},
		"deadlock": {2, "deadlock", "goroutine 1 waits for a lock", ""},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			got := record(t, dir, "go", "run", ".", how)
			assert.Equal(t, want.code, got.ExitCode)
			f := open(t, got.log).Info().Failure
			require.NotNil(t, f)
			assert.Equal(t, want.kind, f.Kind)
			assert.Contains(t, f.Summary, want.summary)
			frames, err := open(t, got.log).Frames(context.Background(), f.Moment, f.Thread)
			require.NoError(t, err)
			if how == "panic" || how == "nil" {
				assert.Equal(t, "main.end", frames[0].Function)
				assert.Equal(t, lineOf(t, want.line), frames[0].Line)
				assert.Equal(t, "main.main", frames[1].Function)
				// The runtime's own words name the user's file and line.
				assert.Contains(t, got.err, fmt.Sprintf("%s/main.go:%d", dir, frames[0].Line))
			}
		})
	}
}

// A signal reaches the program; one that nothing can catch leaves all that was
// recorded before it.
func TestSignals(t *testing.T) {
	t.Parallel()
	dir := truth(t)
	for _, s := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL} {
		t.Run(s.String(), func(t *testing.T) {
			t.Parallel()
			log := filepath.Join(t.TempDir(), "run.wraith")
			cmd := recorderCommand(t, dir, log, "go", "run", ".", "wait")
			out, err := cmd.StdoutPipe()
			require.NoError(t, err)
			cmd.Stderr = io.Discard
			require.NoError(t, cmd.Start())
			text := make([]byte, 0, 1<<16)
			for buf := make([]byte, 4096); !bytes.Contains(text, []byte("waiting")); {
				n, err := out.Read(buf)
				require.NoError(t, err)
				text = append(text, buf[:n]...)
			}
			time.Sleep(300 * time.Millisecond) // it says so just before it sleeps
			if s == syscall.SIGTERM {          // to the recorder, which passes it on
				require.NoError(t, cmd.Process.Signal(s))
			} else { // to the program itself
				require.NoError(t, syscall.Kill(childOf(t, cmd.Process.Pid), s))
			}
			_, _ = io.Copy(io.Discard, out)
			_ = cmd.Wait()
			assert.Equal(t, 128+int(s), cmd.ProcessState.ExitCode())
			r := open(t, log)
			require.NotNil(t, r.Info().Failure)
			assert.Equal(t, "signal", r.Info().Failure.Kind)
			hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: find.LineText("main.go", lineOf(t, "time.Sleep(time.Minute)"))}, replay.Page{})
			require.NoError(t, err)
			assert.Equal(t, 1, hits.Total)
		})
	}
}

// childOf finds the recorded program among the recorder's children.
func childOf(t *testing.T, parent int) int {
	for range 200 {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", parent, parent))
		require.NoError(t, err)
		tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", parent))
		for _, task := range tasks {
			more, _ := os.ReadFile(task)
			b = append(b, more...)
		}
		if fields := strings.Fields(string(b)); len(fields) > 0 {
			pid, err := strconv.Atoi(fields[len(fields)-1])
			require.NoError(t, err)
			return pid
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatal("the recorder has no child")
	return 0
}

func TestGoTestIsPassedThrough(t *testing.T) {
	t.Parallel()
	dir := truth(t)
	plain := exec.Command("go", "test", "-vet=off", "./...")
	plain.Dir = dir
	want, _ := plain.Output()
	got := record(t, dir, "go", "test", "./...")
	assert.Equal(t, 1, got.ExitCode)
	times := regexp.MustCompile(`\d+\.\d+s`)
	assert.Equal(t, times.ReplaceAllString(string(want), "T"), times.ReplaceAllString(got.out, "T"))
	r := open(t, got.log)
	f := r.Info().Failure
	require.NotNil(t, f)
	assert.Equal(t, "failed-assertion", f.Kind)
	assert.Equal(t, "TestSquareIsWrong/side_3: area = 9", f.Summary)
	s, err := ask.Run(context.Background(), ask.Subject{Recording: r}, ask.StackRequest{Place: ask.Place{Moment: f.Moment, Thread: f.Thread}})
	require.NoError(t, err)
	frame := s.Threads[0].Frames[0]
	assert.Equal(t, "truth_test.go", frame.File)
	assert.Contains(t, frame.Variables, ask.Variable{Name: "got", Path: "got", Scope: "local", Type: "float64", Value: "9", State: "known", Written: frame.Variables[1].Written, Children: []ask.Variable{}})
}

func TestABuiltProgramWritesItsLogWhenItRuns(t *testing.T) {
	t.Parallel()
	dir := truth(t)
	bin := filepath.Join(t.TempDir(), "truth")
	got := record(t, dir, "go", "build", "-o", bin, ".")
	require.Zero(t, got.ExitCode, got.err)
	out, err := exec.Command(bin).Output()
	require.NoError(t, err)
	r := open(t, got.log)
	checkTruth(t, r, string(out))
	assert.Equal(t, "truth", r.Info().Program)
	assert.NotEmpty(t, r.Info().BuildID)
	assert.NotEmpty(t, r.Info().Host)

	// The same program, recorded: now the log says how it ended as well.
	again := record(t, dir, bin, "exit")
	assert.Equal(t, 7, again.ExitCode)
	assert.Empty(t, open(t, again.log).Info().Gaps)
}

func TestWhatCannotBeRecorded(t *testing.T) {
	t.Parallel()
	dir := truth(t)
	for _, c := range []struct {
		command []string
		says    string
	}{
		{[]string{"go", "vet", "./..."}, "go vet; go run, go test and go build can be recorded"},
		{[]string{"go", "run", "-overlay", "x.json", "."}, "-overlay"},
		{[]string{"true"}, "nothing recorded"},
	} {
		got := record(t, dir, c.command...)
		assert.Equal(t, 200, got.ExitCode)
		assert.Contains(t, got.err, c.says)
	}
	for _, c := range []struct {
		detail recorder.Detail
		says   string
	}{
		{recorder.Detail{Packages: []string{"truth/...", "berths/..."}}, `--packages "berths/..." matches nothing that is built`},
		{recorder.Detail{Functions: []string{"main", "asign"}}, `--functions "asign" matches nothing that is built`},
		{recorder.Detail{AskOn: []string{"Office.Assign"}}, `--ring-on-error "Office.Assign" matches nothing that is built`},
	} {
		got := recordWith(t, recorder.Options{Detail: c.detail}, dir, "go", "run", ".")
		assert.Equal(t, 200, got.ExitCode)
		assert.Contains(t, got.err, c.says)
		assert.Empty(t, got.out, "the program has not run")
		assert.NoFileExists(t, got.log)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "broken.go"), []byte("package main\n\nvar x int = \"fog\"\n"), 0o600))
	got := record(t, dir, "go", "run", ".")
	assert.Equal(t, 1, got.ExitCode)
	assert.Contains(t, got.err, "broken.go:3")
	assert.NoFileExists(t, got.log)
}

// A program that did not change is not built again to be recorded again, and its tests run again.
func TestRecordingAgainBuildsNothingNew(t *testing.T) {
	t.Parallel()
	for _, command := range [][]string{{"go", "test", "./..."}, {"go", "run", "."}} {
		first := record(t, "testdata/truth", command...)
		again := record(t, "testdata/truth", command...)
		require.Equal(t, first.ExitCode, again.ExitCode, again.err)
		one, other := open(t, first.log).Info(), open(t, again.log).Info()
		assert.Equal(t, one.BuildID, other.BuildID)
		assert.NotEmpty(t, one.BuildID)
		assert.Positive(t, other.Moments)
		assert.Equal(t, command, other.Command)
		assert.True(t, one.Started.Before(other.Started))
	}
}
