package runtimetrace_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"runtime"
	"runtime/trace"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/history"
)

// told is the traced program's own account.
type account struct {
	mu      sync.Mutex
	numbers []string // of the goroutines, as the runtime names them
	sent    int      // line on which they send
}

func (x *account) note(line int) {
	b := make([]byte, 64)
	name, _, _ := strings.Cut(string(b[:runtime.Stack(b, false)]), " [")
	x.mu.Lock()
	defer x.mu.Unlock()
	x.numbers, x.sent = append(x.numbers, name), line
}

func (x *account) noted() int {
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.numbers)
}

// moor is what the traced goroutines do: wait for a lock in a region, and for somebody
// to take a value.
func moor(ctx context.Context, x *account, quay *sync.Mutex, out chan<- int) {
	defer trace.StartRegion(ctx, "moor").End()
	quay.Lock()
	time.Sleep(2 * time.Millisecond)
	quay.Unlock()
	trace.Log(ctx, "berth", "Kelp Quay 1")
	_, _, line, _ := runtime.Caller(0)
	x.note(line + 2)
	out <- 1
}

func traced(x *account) {
	ctx, task := trace.NewTask(context.Background(), "arrival")
	out := make(chan int)
	var quay sync.Mutex
	var done sync.WaitGroup
	for range 4 {
		done.Go(func() { moor(ctx, x, &quay, out) })
	}
	for x.noted() < 4 {
		time.Sleep(time.Millisecond)
	}
	time.Sleep(10 * time.Millisecond) // until they wait
	for range 4 {
		<-out
	}
	done.Wait()
	task.End()
}

func open(t *testing.T, b []byte) history.Replay {
	path := filepath.Join(t.TempDir(), "trace")
	require.NoError(t, os.WriteFile(path, b, 0o600))
	r, err := kinds.All.Open(context.Background(), path, evidence.Options{}, nil)
	require.NoError(t, err)
	require.Equal(t, "runtime-trace", r.Info().Kind)
	return r.(history.Replay)
}

func hits(t *testing.T, r history.Replay, c replay.Checkpoint) []event.Moment {
	h, err := r.Hits(context.Background(), c, replay.Page{Count: 1000})
	require.NoError(t, err)
	return h.Page
}

// TestTraces reads traces of this very process, the flight recorder's too, and
// compares them with what the traced code knows: one trace at a time can be made.
func TestTraces(t *testing.T) {
	for how, record := range map[string]func(t *testing.T, run func()) []byte{
		"a trace": func(t *testing.T, run func()) []byte {
			var b bytes.Buffer
			require.NoError(t, trace.Start(&b))
			run()
			trace.Stop()
			return b.Bytes()
		},
		"the flight recorder": func(t *testing.T, run func()) []byte {
			f := trace.NewFlightRecorder(trace.FlightRecorderConfig{MinAge: time.Minute})
			require.NoError(t, f.Start())
			run()
			var b bytes.Buffer
			_, err := f.WriteTo(&b)
			require.NoError(t, err)
			f.Stop()
			return b.Bytes()
		},
	} {
		t.Run(how, func(t *testing.T) {
			x := &account{}
			before := time.Now()
			b := record(t, func() { traced(x) })
			after := time.Now()
			r := open(t, b)
			check(t, r, x)
			started := r.Info().Started
			assert.True(t, started.After(before.Add(-time.Second)) && started.Before(after.Add(time.Second)), "the time of day: %s", started)
			for cut := len(b) / 9; cut < len(b); cut += len(b) / 9 { // what is cut off is read up to there, or refused
				path := filepath.Join(t.TempDir(), "cut")
				require.NoError(t, os.WriteFile(path, b[:cut], 0o600))
				if r, err := kinds.All.Open(context.Background(), path, evidence.Options{}, nil); err != nil {
					require.ErrorIs(t, err, fault.Unreadable)
				} else {
					assert.NotEmpty(t, r.Info().Gaps)
				}
			}
		})
	}
}

func check(t *testing.T, r history.Replay, x *account) {
	ctx := context.Background()
	regions := hits(t, r, replay.Checkpoint{Kind: "enter", About: "region moor"})
	require.Len(t, regions, 4)
	names := map[string]bool{}
	for _, m := range regions {
		id, err := r.ThreadOf(m)
		require.NoError(t, err)
		names[threadAt(t, r, m, id).Name] = true
		took, _, err := r.Timing(m)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, took, 2*time.Millisecond, "each held the lock for so long")
	}
	for _, n := range x.numbers {
		assert.True(t, names[n], "%s of %v", n, names)
	}
	want := hits(t, r, replay.Checkpoint{Kind: "output", About: "kelp quay"})
	require.Len(t, want, 4)
	sends, locks := 0, 0
	for m := range event.Moment(r.Info().Moments) {
		p, err := r.Place(m)
		require.NoError(t, err)
		if p.Kind != event.Wait {
			continue
		}
		th := threadAt(t, r, m, p.Thread)
		if !names[th.Name] {
			continue
		}
		frames, err := r.Frames(ctx, m, p.Thread)
		require.NoError(t, err)
		var stack []string
		for _, f := range frames {
			stack = append(stack, f.Function)
			if strings.HasSuffix(f.Function, ".moor") {
				assert.True(t, f.Own)
				if strings.HasPrefix(th.State, "waits for room in a channel") {
					assert.Equal(t, x.sent, f.Line, "it waits where it sends")
				}
			}
		}
		switch {
		case strings.HasPrefix(th.State, "waits for room in a channel"):
			sends++
			assert.Contains(t, th.State, "had woken it at moment")
		case strings.HasPrefix(th.State, "waits for a lock"):
			locks++
			assert.Contains(t, stack, "region moor")
		}
	}
	assert.Equal(t, 4, sends, "all wait for somebody to receive")
	assert.Positive(t, locks)
	tasks := hits(t, r, replay.Checkpoint{Kind: "enter", About: "task arrival"})
	assert.Len(t, tasks, 1)
}

func threadAt(t *testing.T, r history.Replay, m event.Moment, id event.ThreadID) replay.Thread {
	threads, err := r.Threads(context.Background(), m)
	require.NoError(t, err)
	for _, th := range threads {
		if th.ID == id {
			return th
		}
	}
	require.Fail(t, "the thread is not there", "%d at %d", id, m)
	return replay.Thread{}
}

// TestNoTrace refuses what is none.
func TestNoTrace(t *testing.T) {
	t.Parallel()
	const head = "go 1.22 trace\x00\x00\x00"
	for _, text := range []string{head, head + strings.Repeat("\xff", 4000), "go 1.99 trace\x00\x00\x00"} {
		path := filepath.Join(t.TempDir(), "x")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := kinds.All.Open(context.Background(), path, evidence.Options{}, nil)
		require.ErrorIs(t, err, fault.Unreadable)
	}
}
