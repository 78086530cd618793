package recorder_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/history"
)

const lives = "testdata/lives"

// written returns the values that a path got, oldest first, of the object that it leads to at a moment.
func written(t *testing.T, r history.Replay, at event.Moment, path string) []string {
	t.Helper()
	list, err := r.Writes(context.Background(), path, at, 1, 0, replay.Page{Count: 1000})
	require.NoError(t, err, path)
	var values []string
	for _, w := range list.Page {
		values = append(values, w.New.Text())
	}
	return values
}

// What was at an address before an object was made is another object.
func TestObjectsAreToldApartByTheirLives(t *testing.T) {
	t.Parallel()
	ran := record(t, lives, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	assert.Equal(t, []string{"0", "399"}, written(t, r, atMark(t, r, lives, "literal"), "last.id"))
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: "main.go:23"}, replay.Page{Count: 10})
	require.NoError(t, err)
	require.Len(t, hits.Page, 3)
	for i, at := range hits.Page {
		want := []string{"0", []string{"", "1", "2"}[i]}
		if i == 0 {
			want = []string{"0", "0"} // stored once more
		}
		assert.Equal(t, want, written(t, r, at, "v.id"), "call %d", i)
	}
	end := atMark(t, r, lives, "end")
	assert.Equal(t, []string{"0", "7"}, written(t, r, end, "depths[1]"), "through the copy of append")
	assert.Equal(t, []string{"9"}, written(t, r, end, "depths[3]"))
	assert.Equal(t, []string{"11"}, written(t, r, end, "depths[4]"))
	assert.Equal(t, []string{"0", "299"}, written(t, r, end, "*table[0]"))

	// The object does not exist yet before it is made: nothing of a former one is told.
	first := hits.Page[0]
	assert.NotContains(t, written(t, r, first, "v.name"), `"vessel 1"`)
}

// Lines that wait for nobody have estimated times, in order, between those that were read.
func TestTimesAreEstimatedOnlyWhereNobodyIsWaitedFor(t *testing.T) {
	t.Parallel()
	r := open(t, record(t, lives, "go", "run", ".").log)
	at := atMark(t, r, lives, "end")
	place, err := r.Place(at)
	require.NoError(t, err)
	assert.False(t, place.Estimated, "it prints")
	estimated, read := 0, 0
	last := place.Time
	for m := at; m > 0; m-- {
		p, err := r.Place(m)
		require.NoError(t, err)
		require.LessOrEqual(t, p.Time, last)
		last = p.Time
		if p.Estimated {
			estimated++
			assert.NotEqual(t, event.Enter, p.Kind)
			assert.NotEqual(t, event.Store, p.Kind)
		} else {
			read++
		}
	}
	assert.Greater(t, estimated, read/4)
}
