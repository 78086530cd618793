package recorder_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// The waits of goroutines at a deadlock name what they wait for and who holds it. Earlier on, nobody waits for a lock that
// is free.
func TestWaitsOfGoroutines(t *testing.T) {
	t.Parallel()
	ran := record(t, "testdata/deadlock", "go", "run", ".")
	require.NotZero(t, ran.ExitCode)
	r := open(t, ran.log)
	f := r.Info().Failure
	require.NotNil(t, f)
	assert.Equal(t, "deadlock", f.Kind)
	list, err := r.(replay.WaitGraph).Waits(context.Background(), f.Moment)
	require.NoError(t, err)
	on := map[string][]replay.Wait{}
	for _, w := range list {
		on[w.On+" "+w.Name] = append(on[w.On+" "+w.Name], w)
	}
	require.Len(t, on["wait group wg"], 1)
	require.Len(t, on["channel ch"], 1)
	require.Len(t, on["read-write lock t.rw"], 1)
	require.Len(t, on["mutex b.mu"], 2)
	assert.Equal(t, []event.ThreadID{on["channel ch"][0].Thread}, on["read-write lock t.rw"][0].Holders, "the reader waits for its channel")
	assert.Empty(t, on["channel ch"][0].Holders)
	a, b := on["mutex b.mu"][0], on["mutex b.mu"][1]
	assert.Equal(t, []event.ThreadID{b.Thread}, a.Holders)
	assert.Equal(t, []event.ThreadID{a.Thread}, b.Holders)
	cycles := replay.Cycles(list)
	require.Len(t, cycles, 1)
	assert.ElementsMatch(t, []event.ThreadID{a.Thread, b.Thread}, cycles[0].Threads)
	for m := event.Moment(0); m < f.Moment; m++ {
		list, err := r.(replay.WaitGraph).Waits(context.Background(), m)
		require.NoError(t, err)
		for _, w := range list {
			if w.On == replay.WaitMutex {
				require.NotEmpty(t, w.Holders, "moment %d: nobody holds %s", m, w.Name)
				require.NotContains(t, w.Holders, w.Thread)
			}
		}
	}
}
