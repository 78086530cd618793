package recorder_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/history"
	"wraithology/recorder"
)

const uncalled = "testdata/uncalled"

// spot is a place in a recording of one thread.
type spot struct {
	r  history.Replay
	at event.Moment
}

// reaches returns all moments at which a line of the program was reached.
func reaches(t *testing.T, r history.Replay, text string) []event.Moment {
	t.Helper()
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: find.LineText("main.go", lineIn(t, uncalled, text))}, replay.Page{Count: 1000})
	require.NoError(t, err)
	return hits.Page
}

// at is the last moment at which a line was reached.
func at(t *testing.T, r history.Replay, text string) spot {
	t.Helper()
	all := reaches(t, r, text)
	require.NotEmpty(t, all, text)
	return spot{r, all[len(all)-1]}
}

func (s spot) missed(t *testing.T, target replay.Target) replay.Decisions {
	t.Helper()
	d, err := s.r.(replay.Brancher).Missed(context.Background(), s.at, 1, 0, target)
	require.NoError(t, err)
	return d
}

// origin returns the nodes of a chain, the root first.
func (s spot) origin(t *testing.T, path string) []replay.Origin {
	t.Helper()
	o, err := s.r.(replay.History).Origin(context.Background(), path, s.at, 1, 0, replay.OriginOptions{Depth: 8})
	require.NoError(t, err)
	var list []replay.Origin
	var walk func(replay.Origin)
	walk = func(o replay.Origin) {
		list = append(list, o)
		for _, x := range o.From {
			walk(x)
		}
	}
	walk(o)
	return list
}

func (s spot) value(t *testing.T, name string) replay.Value {
	t.Helper()
	v, ok, err := s.r.Variable(context.Background(), s.at, 1, 0, name)
	require.NoError(t, err)
	require.True(t, ok, name)
	return v.Value
}

func conditions(list []replay.Origin) (out []string) {
	for _, o := range list {
		if o.Kind == replay.FromCondition {
			out = append(out, o.Name)
		}
	}
	return out
}

func TestWhatWasNotCalled(t *testing.T) {
	t.Parallel()
	ran := record(t, uncalled, "go", "run", ".")
	require.Equal(t, 2, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	end := at(t, r, "return [3][]string{closed, lost, sorted}")

	// A function that was passed on and not called: who turned away from the call.
	closed := replay.Target{File: "main.go", Line: lineIn(t, uncalled, "closed = append(closed, n)")}
	for _, target := range []replay.Target{closed, {Function: "main.collect.func1"}, {Write: "closed"}} {
		d := end.missed(t, target)
		require.Len(t, d.List, 1, "%+v", target)
		assert.Equal(t, "closed", d.List[0].Expression)
		assert.True(t, d.List[0].Value)
		assert.Equal(t, "main.(*roster).visit", d.List[0].Function)
	}
	assert.Equal(t, []string{"closed"}, conditions(end.origin(t, "closed")))

	// One that the called function has no use for, and one that other code got.
	for name, why := range map[string]string{"lost": "forget got it as found", "sorted": "passed it to Map"} {
		d := end.missed(t, replay.Target{File: "main.go", Line: lineIn(t, uncalled, map[string]string{"lost": "lost = append(lost, n)", "sorted": "sorted = append(sorted, string(c))"}[name])})
		assert.Empty(t, d.List)
		assert.Equal(t, event.NoMoment, d.Happened)
		assert.Contains(t, d.Note, why)
		assert.Contains(t, end.origin(t, name)[0].Note, why)
	}

	// A line that was reached and did not make the call on it.
	d := at(t, r, `return "silent"`).missed(t, replay.Target{Function: "main.alarm"})
	assert.Equal(t, event.NoMoment, d.Happened)
	assert.Contains(t, d.Note, "was reached, but did not call main.alarm")
}

func TestWhyNothingWasReturned(t *testing.T) {
	t.Parallel()
	r := open(t, record(t, uncalled, "go", "run", ".").log)

	// Results without a statement that assigned them have their zero value.
	first := spot{r, reaches(t, r, `if name == "" {`)[0]}
	assert.Equal(t, "0", first.value(t, "berth").Text())
	assert.Equal(t, "nil", first.value(t, "err").Text())
	when, err := question.Parse("err == null && berth == 0")
	require.NoError(t, err)
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: find.LineText("main.go", lineIn(t, uncalled, `if name == "" {`)), When: when}, replay.Page{Count: 10})
	require.NoError(t, err)
	assert.Equal(t, 2, hits.Total)
	assert.Equal(t, replay.FromConstant, first.origin(t, "berth")[0].Kind)

	// A result that is nothing was decided by a condition, whose operands lead on.
	failed := at(t, r, "if !isLate(tries) {")
	list := failed.origin(t, "list")
	assert.Equal(t, []string{"err != nil"}, conditions(list)[:1])
	assert.Condition(t, func() bool {
		for _, o := range list {
			if o.Name == `fmt.Errorf("%s has no berth", name)` {
				return true
			}
		}
		return false
	}, "%+v", list)

	// An element that nothing was stored in is the zero value of a new one, whatever the length was computed from.
	smooth := failed.origin(t, "smooth[0]")
	assert.Equal(t, "the zero value of a new element", smooth[len(smooth)-1].Name)

	// The operands of a condition are those of the calls in it too.
	d, err := r.(replay.Brancher).Reached(context.Background(), at(t, r, "panic(fmt.Sprint(lists, said, list, err, smooth, tries, skipped))").at, 1, 0, 0)
	require.NoError(t, err)
	var names []string
	for _, o := range d.List[0].Operands {
		names = append(names, o.Name+" = "+o.Value.Text())
	}
	assert.Equal(t, []string{"isLate(tries) = false", "tries = 5"}, names)
}

// The line of a loop is reached by a goto to its label as well as from above, also where continue names that label.
func TestGotosReachTheLoop(t *testing.T) {
	t.Parallel()
	r := open(t, record(t, uncalled, "go", "run", ".").log)
	heads := reaches(t, r, "for i := 0; i < 2; i++ {")
	assert.Len(t, heads, 3*2, "three times two iterations")
	assert.Equal(t, "5", at(t, r, "return tries, skipped").value(t, "tries").Text())
	assert.Equal(t, "1", at(t, r, "return tries, skipped").value(t, "skipped").Text())
}

// A log that lacks the writes of a variable does not say that nothing was assigned to it.
func TestWhatWasNotRecordedIsNotUnassigned(t *testing.T) {
	t.Parallel()
	ran := recordWith(t, recorder.Options{Detail: recorder.Detail{Level: recorder.Lines}}, uncalled, "go", "run", ".")
	lines := at(t, open(t, ran.log), "return tries, skipped")
	assert.Equal(t, event.Unrecorded, lines.value(t, "tries").State)

	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module ring\n\ngo 1.24\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(`package main

func work(n int) (sum int) {
	for i := 0; i < n; i++ {
		sum += i
	}
	return sum
}

func watch() (total int) {
	kept := 42
	total = 7
	for i := 0; i < 60000; i++ {
		if work(3) < 0 {
			kept++
		}
	}
	panic(kept + total)
}

func main() { watch() }
`), 0o600))
	ran = recordWith(t, recorder.Options{Ring: 1 << 20}, dir, "go", "run", ".")
	r := open(t, ran.log)
	f := r.Info().Failure
	require.NotNil(t, f)
	for _, name := range []string{"kept", "total"} {
		v, ok, err := r.Variable(context.Background(), f.Moment, f.Thread, f.Frame, name)
		require.NoError(t, err)
		require.True(t, ok, name)
		assert.Equal(t, event.Unrecorded, v.Value.State, fmt.Sprint(name, " = ", v.Value.Text()))
		assert.Contains(t, v.Value.Why(), "began before")
	}
}
