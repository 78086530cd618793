package recorder_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/execlog"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/history"
	"wraithology/e2e/generated"
	"wraithology/recorder"
)

const lent = "testdata/lent"

// atMark returns the first moment at which the line with a mark in a comment is reached.
func atMark(t *testing.T, r history.Replay, dir, mark string) event.Moment {
	t.Helper()
	return allAtMark(t, r, dir, mark)[0]
}

// allAtMark lists the moments of a mark.
func allAtMark(t *testing.T, r history.Replay, dir, mark string) []event.Moment {
	t.Helper()
	source, err := os.ReadFile(filepath.Join(dir, "main.go"))
	require.NoError(t, err)
	before, _, ok := strings.Cut(string(source), "// "+mark+"\n")
	require.True(t, ok, mark)
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: find.LineText("main.go", strings.Count(before, "\n")+1)}, replay.Page{Count: 100})
	require.NoError(t, err)
	require.NotEmpty(t, hits.Page, mark)
	return hits.Page
}

// What code that is not recorded changes is known where the statement goes on, wherever in it the
// call is.
func TestMemoryOfForeignCallsIsReadAgain(t *testing.T) {
	t.Parallel()
	ran := record(t, lent, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	for _, c := range []struct{ mark, expression, want string }{
		{"header", "o.Qty", "3"}, {"header", "o.Tags[1]", "b"}, {"header", `o.Lots["x"]`, "1"},
		{"condition", "o.Qty + n", "11"}, {"picked", "missing.missing", "3"},
		{"sorted", "list[0] * 100 + list[1] * 10 + list[2]", "123"}, {"flushed", "size(buffer.buf)", "6"},
		{"moved", "list[0] * 1000 + list[1] * 100 + list[2] * 10 + list[3]", "1156"}, {"moved", "n", "3"},
		{"known again", `lots["fog"]`, "2"},
		{"end", "returned", "5"}, {"end", "o.Qty", "6"}, {"end", `lots["swell"]`, "2"}, {"end", "main.total", "8"},
	} {
		got, err := evaluate(t, r, atMark(t, r, lent, c.mark), c.expression)
		require.NoError(t, err, "%s: %s", c.mark, c.expression)
		assert.Equal(t, c.want, strings.Trim(got, `"`), "%s: %s", c.mark, c.expression)
	}
	level := variableAt(t, r, atMark(t, r, lent, "end"), "main.level")
	assert.EqualValues(t, 4, level.Deref().Int, "the flag was set by code that got no reference to it then")
}

func variableAt(t *testing.T, r history.Replay, at event.Moment, name string) replay.Value {
	t.Helper()
	thread, err := r.ThreadOf(at)
	require.NoError(t, err)
	v, ok, err := r.Variable(context.Background(), at, thread, 0, name)
	require.NoError(t, err)
	require.True(t, ok, name)
	return v.Value
}

// What may have changed, and cannot be read again, is not shown as known: with the place, and the
// value that was known.
func TestWhatMayHaveChangedSaysSo(t *testing.T) {
	t.Parallel()
	ran := record(t, lent, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	at := atMark(t, r, lent, "unknown")
	lots := variableAt(t, r, at, "lots")
	entries, _ := lots.Children(replay.Page{Count: 10})
	require.Len(t, entries, 1)
	assert.Equal(t, event.MayHaveChanged, entries[0].Value.State)
	assert.Regexp(t, `^boxes\.PushBack, line \d+; it was 1$`, entries[0].Value.Why())
	assert.Equal(t, `map[string]int(1){"fog": 1?}`, lots.Text())
	_, err := evaluate(t, r, at, `lots["fog"] == 1`)
	require.ErrorContains(t, err, "may have changed: boxes.PushBack")

	thread, err := r.ThreadOf(at)
	require.NoError(t, err)
	writes, err := r.Writes(context.Background(), `lots["fog"]`, atMark(t, r, lent, "known again"), thread, 0, replay.Page{Count: 10})
	require.NoError(t, err)
	var values []string
	for _, w := range writes.Page {
		values = append(values, string(w.New.State)+" "+w.New.Text())
	}
	assert.Equal(t, []string{"known 1", "may-have-changed ", "known 2"}, values[:3])
}

// recordVerified records with snapshots and returns what the recording has wrong.
func recordVerified(t *testing.T, dir string, command ...string) replay.Verification {
	t.Helper()
	ran := recordWith(t, recorder.Options{Detail: recorder.Detail{Verify: true}}, dir, command...)
	require.Zero(t, ran.ExitCode, ran.err)
	v, err := open(t, ran.log).(replay.Verifier).Verify(context.Background(), replay.Page{Count: 5})
	require.NoError(t, err)
	return v
}

func TestVerify(t *testing.T) {
	t.Parallel()
	v := recordVerified(t, lent, "go", "run", ".")
	assert.Empty(t, v.Page)
	assert.Zero(t, v.Total)
	assert.Greater(t, v.Compared, int64(300))
	assert.Less(t, v.Unknown, v.Compared/20)

	// A recording without snapshots cannot be verified.
	_, err := open(t, record(t, lent, "go", "run", ".").log).(replay.Verifier).Verify(context.Background(), replay.Page{Count: 5})
	kind, _ := fault.Of(err)
	assert.Equal(t, fault.NoSnapshots, kind)
}

// truthBatch is the number of generated programs in one build.
const truthBatch = 25

// No value of a recording differs from the program's, in programs with every form of statement.
// make truth runs more of them.
func TestGeneratedStatementsAreToldAsTheyWere(t *testing.T) {
	t.Parallel()
	programs := 10
	if testing.Short() {
		programs = 2
	}
	if n, err := strconv.Atoi(os.Getenv("WRAITH_TRUTH")); err == nil {
		programs = n
	}
	for first := 1; first <= programs; first += truthBatch {
		last := min(first+truthBatch-1, programs)
		t.Run(fmt.Sprint(first, " to ", last), func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(generated.Statements(uint64(first), uint64(last))), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module generated\n\ngo 1.24\n"), 0o600))
			v := recordVerified(t, dir, "go", "run", ".")
			for _, d := range v.Page {
				t.Errorf("moment %d, %s line %d: %s is recorded as %s, and was %s", d.Moment, d.Function, d.Line, d.Name, d.Recorded, d.Actual)
			}
			assert.Zero(t, v.Total)
			assert.Greater(t, v.Compared, int64(1000*(last-first+1)))
			assert.Less(t, v.Unknown, v.Compared/10)
			t.Logf("%d values compared, %d unknown, %d differences", v.Compared, v.Unknown, v.Total)
		})
	}
}

// What a goroutine lent is recorded before its deferred calls release others, which may change the
// same memory, and not again.
func TestLentMemoryIsReadBeforeOthersAreReleased(t *testing.T) {
	t.Parallel()
	ran := record(t, "testdata/handover", "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	l, err := execlog.OpenFile(ran.log)
	require.NoError(t, err)
	defer l.Close()
	reads, released := map[uint32]int{}, map[uint32]bool{}
	for _, b := range l.Blocks {
		payload, err := l.Payload(b)
		require.NoError(t, err)
		walk := event.NewWalk(payload, b.Base)
		for walk.Next() && b.Thread > 1 {
			switch walk.Event().Kind {
			case event.Release:
				released[b.Thread] = walk.Event().ID == uint32(event.OpDone)
			case event.Entries, event.Exposed:
				reads[b.Thread]++
				assert.False(t, released[b.Thread], "thread %d reads or exposes a map after others were released", b.Thread)
			}
		}
	}
	assert.Len(t, released, 4)
	assert.Len(t, reads, 4)
}

// An object that code which is not recorded makes, where the log has another one from before its memory was used again, is not that one.
func TestMemoryThatForeignCodeUsesAgain(t *testing.T) {
	t.Parallel()
	const dir = "testdata/reused"
	ran := record(t, dir, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	moored := allAtMark(t, r, dir, "moored")
	require.Len(t, moored, 40)
	path, err := replay.ParsePath("vessels.root.next.Value")
	require.NoError(t, err)
	changed := 0
	for round, at := range moored {
		v, err := replay.Follow(context.Background(), r, at, 1, 0, path)
		require.NoError(t, err)
		switch {
		case v.State == event.Known:
			assert.Equal(t, fmt.Sprintf("%d", -round), v.Text(), "round %d", round)
		case v.State == event.MayHaveChanged:
			changed++
		}
	}
	assert.Positive(t, changed, "no memory was used again: the test says nothing")
}

// The collector frees what only a variable refers to that is not used any more, and code that is not recorded makes other
// objects there. Then the variable shows the list that it had, or none, and never one of the others.
func TestMemoryOfVariablesThatAreNotUsedAnyMore(t *testing.T) {
	t.Parallel()
	const dir = "testdata/unused"
	ran := record(t, dir, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	changed := 0
	for _, mark := range []string{"moored", "ended"} {
		marks := allAtMark(t, r, dir, mark)
		require.Len(t, marks, 20)
		for round, at := range marks {
			for path, name := range map[string]string{"vessels[0]": "Plover", "vessels[1]": "Fulmar", "alive[0]": "Gannet", "alive[1]": "Petrel"} {
				p, err := replay.ParsePath(path)
				require.NoError(t, err)
				v, err := replay.Follow(context.Background(), r, at, 1, 0, p)
				require.NoError(t, err)
				want := fmt.Sprintf("%q", fmt.Sprint(name, " ", round))
				switch {
				case v.State == event.MayHaveChanged:
					changed++
					assert.NotEqual(t, "alive", path[:5], "%s in round %d", path, round)
					require.NotNil(t, v.Last)
					assert.Equal(t, want, replay.Value{Value: *v.Last, Memory: v.Memory}.Text())
				case mark == "ended" && path[:5] == "alive" && v.State != event.Known: // it may be in use again
				default:
					assert.Equal(t, event.Known, v.State, "%s in round %d", path, round)
					assert.Equal(t, want, v.Text(), "%s in round %d", path, round)
				}
			}
		}
	}
	assert.Positive(t, changed, "no memory was used again: the test says nothing")
}
