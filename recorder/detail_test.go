package recorder_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/history"
	"wraithology/recorder"
)

var waits = filepath.Join("testdata", "waits")

func outputs(t *testing.T, r history.Replay) (texts []string) {
	t.Helper()
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "output"}, replay.Page{Count: 100})
	require.NoError(t, err)
	for _, m := range hits.Page {
		found, err := r.Search(context.Background(), replay.NewSearch("e", "string"), replay.Page{Count: 100_000})
		require.NoError(t, err)
		for _, f := range found.Page {
			if f.Moment == m {
				texts = append(texts, f.Value.Value.Text)
			}
		}
	}
	return texts
}

func TestWaitsAndOutputHaveTheirMoments(t *testing.T) {
	t.Parallel()
	run := record(t, waits, "go", "run", ".", "3")
	require.Equal(t, 3, run.ExitCode, run.err)
	r := open(t, run.log)
	texts := strings.Join(outputs(t, r), "\n")
	for _, want := range []string{"printed 3", "logged 3", "structured", "to stderr"} {
		assert.Contains(t, texts, want)
	}
	assert.Contains(t, run.out, "printed 3\n")
	assert.Contains(t, run.err, "to stderr\n")

	last := event.Moment(r.Info().Moments - 1)
	threads, err := r.Threads(context.Background(), last)
	require.NoError(t, err)
	states := map[string]string{}
	for _, th := range threads {
		frames, err := r.Frames(context.Background(), last, th.ID)
		require.NoError(t, err)
		if len(frames) > 0 {
			states[frames[0].Function] = th.State
		}
	}
	assert.Regexp(t, `^waits for a value from a channel at 0x[0-9a-f]+, to the end$`, states["main.receives"])
	assert.Regexp(t, `^waits for a lock at 0x[0-9a-f]+, to the end$`, states["main.locks"])
	assert.Equal(t, "running", states["main.main"])

	// While main waited for the third goroutine, the log says so, and who ended it.
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: find.LineText("main.go", lineWith(t, "<-done"))}, replay.Page{Count: 1})
	require.NoError(t, err)
	threads, err = r.Threads(context.Background(), hits.Page[0]+1)
	require.NoError(t, err)
	assert.Regexp(t, `^waits for a value from a channel at .*, until thread \d+ sent at moment \d+$`, threads[0].State)
}

func lineWith(t *testing.T, text string) int { return lineIn(t, waits, text) }

// lineIn returns the number of the line of a folder's main.go that has a text.
func lineIn(t *testing.T, folder, text string) int {
	t.Helper()
	source, err := os.ReadFile(filepath.Join(folder, "main.go"))
	require.NoError(t, err)
	for i, l := range strings.Split(string(source), "\n") {
		if strings.TrimSpace(l) == text {
			return i + 1
		}
	}
	t.Fatal("no such line: " + text)
	return 0
}

func kindsOf(t *testing.T, r history.Replay) map[event.Kind]int {
	t.Helper()
	out := map[event.Kind]int{}
	for m := event.Moment(0); m < event.Moment(r.Info().Moments); m++ {
		p, err := r.Place(m)
		require.NoError(t, err)
		out[p.Kind]++
	}
	return out
}

func TestDetailLeavesOutWhatWasNotAskedFor(t *testing.T) {
	t.Parallel()
	r := open(t, recordWith(t, recorder.Options{Detail: recorder.Detail{Level: recorder.Calls}}, waits, "go", "run", ".", "3").log)
	calls := kindsOf(t, r)
	assert.Zero(t, calls[event.Line]+calls[event.Write]+calls[event.Cell])
	assert.Equal(t, calls[event.Enter]-3, calls[event.Leave], "main and two goroutines never return")
	assert.Contains(t, r.Info().Failure.Summary, "code 3")
	assert.Contains(t, r.Info().Gaps[0].What, "not recorded")

	r = open(t, recordWith(t, recorder.Options{Detail: recorder.Detail{Level: recorder.Lines}}, waits, "go", "run", ".", "3").log)
	lines := kindsOf(t, r)
	assert.Positive(t, lines[event.Line])
	assert.Zero(t, lines[event.Write]+lines[event.Cell])
	assert.Equal(t, calls[event.Enter], lines[event.Enter])

	r = open(t, recordWith(t, recorder.Options{Detail: recorder.Detail{Functions: []string{"finish"}}}, waits, "go", "run", ".", "3").log)
	assert.Equal(t, 2, kindsOf(t, r)[event.Enter], "finish, and what says what the package's variables hold")
}

func TestARingIsWrittenOnlyWhenSomethingGoesWrong(t *testing.T) {
	t.Parallel()
	o := recorder.Options{Ring: 1 << 20}
	run := recordWith(t, o, waits, "go", "run", ".", "0")
	require.Zero(t, run.ExitCode, run.err)
	assert.NoFileExists(t, run.log)

	run = recordWith(t, o, waits, "go", "run", ".", "3")
	require.Equal(t, 3, run.ExitCode, run.err)
	r := open(t, run.log)
	info := r.Info()
	require.NotNil(t, info.Failure)
	assert.Contains(t, info.Failure.Summary, "code 3")
	assert.Contains(t, info.Gaps[0].What, "the last 1 MB")
	frames, err := r.Frames(context.Background(), info.Failure.Moment, info.Failure.Thread)
	require.NoError(t, err)
	require.Len(t, frames, 2, "calls that began before what the ring holds are on the stack all the same")
	assert.Equal(t, "main.finish", frames[0].Function)
	assert.Equal(t, "main.main", frames[1].Function)
	assert.Equal(t, lineWith(t, "if err := finish(total, code); err != nil {"), frames[1].Line)
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "enter", About: "work"}, replay.Page{})
	require.NoError(t, err)
	assert.Greater(t, hits.Total, 1000)
	assert.Less(t, hits.Total, 60_000, "the beginning is gone")
}

func TestARingIsWrittenWhenAsked(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	run := recordWith(t, recorder.Options{Ring: 1 << 20, Detail: recorder.Detail{AskOn: []string{"finish"}}}, waits, "go", "run", ".", "3")
	require.Equal(t, 3, run.ExitCode, run.err)
	assert.FileExists(t, run.log)

	// A program that runs on: the log is written beside, and it continues.
	log := filepath.Join(dir, "run.wraith")
	cmd := recorderCommand(t, filepath.Join("testdata", "truth"), log, "go", "run", ".", "wait")
	cmd.Env = append(cmd.Env, `RECORDER_OPTIONS={"Ring":1048576}`)
	require.NoError(t, cmd.Start())
	defer func() { _, _ = cmd.Process.Wait() }()
	defer func() { _ = cmd.Process.Signal(syscall.SIGTERM) }()
	written := filepath.Join(dir, "run-1.wraith")
	asked := false
	require.Eventually(t, func() bool {
		if spools, _ := filepath.Glob(filepath.Join(dir, ".wraith-recording-*", "spool", "*.wraith")); len(spools) > 0 && !asked {
			time.Sleep(300 * time.Millisecond) // it has begun: let it do something
			asked = cmd.Process.Signal(syscall.SIGUSR1) == nil
		}
		_, err := os.Stat(written)
		return err == nil
	}, 60*time.Second, 50*time.Millisecond)
	assert.Positive(t, open(t, written).Info().Moments)
}
