package recorder_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/recorder"
)

// Where goroutines change the same memory and nothing orders them, the recording says that it does not
// know. Of memory that is ordered by whatever means it knows nearly all.
func TestValuesThatGoroutinesChangeAtTheSameTime(t *testing.T) {
	t.Parallel()
	const times = 4
	for range times {
		ran := recordWith(t, recorder.Options{Detail: recorder.Detail{Verify: true}}, "testdata/racing", "go", "run", ".")
		require.Zero(t, ran.ExitCode, ran.err)
		r := open(t, ran.log)
		v, err := r.(replay.Verifier).Verify(context.Background(), replay.Page{Count: 5})
		require.NoError(t, err)
		assert.Empty(t, v.Page)
		assert.Greater(t, v.Compared, int64(2000))

		ordered := recordVerified(t, "testdata/ordered", "go", "run", ".")
		assert.Empty(t, ordered.Page)
		assert.Greater(t, ordered.Compared, int64(2000))
		assert.Less(t, ordered.Unknown, ordered.Compared/20)
	}
}

// The last value is given with what may have changed it.
func TestAValueThatAnotherGoroutineMayChangeSaysSo(t *testing.T) {
	t.Parallel()
	const times = 10 // all goroutines of a run may happen to go one after the other
	unsure := 0
	for i := 0; i < times && unsure == 0; i++ {
		ran := record(t, "testdata/racing", "go", "run", ".")
		require.Zero(t, ran.ExitCode, ran.err)
		r := open(t, ran.log)
		hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: "main.go:34"}, replay.Page{Count: 5000})
		require.NoError(t, err)
		require.NotEmpty(t, hits.Page)
		for _, m := range hits.Page {
			thread, err := r.ThreadOf(m)
			require.NoError(t, err)
			b, ok, err := r.Variable(context.Background(), m, thread, 0, "b")
			require.NoError(t, err)
			require.True(t, ok)
			if depth := b.Value.Deref().Field("depth"); depth.State == event.MayHaveChanged {
				unsure++
				require.NotNil(t, depth.Last)
				require.Regexp(t, `^(other goroutines|goroutine \d+) at the same time`, depth.Why())
			}
		}
	}
	assert.Positive(t, unsure)
}
