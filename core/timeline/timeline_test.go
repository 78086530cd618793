package timeline_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/executionlog"
	"wraithology/core/evidence/kinds/executionlog/logtest"
	"wraithology/core/execlog"
	"wraithology/core/timeline"
)

// aLog is a log of one call that reaches its line n times.
func aLog(t *testing.T, n int, more ...byte) *execlog.Log {
	t.Helper()
	var out bytes.Buffer
	w, err := execlog.NewWriter(&out, event.Header{Program: "loop"}, execlog.Zstd)
	require.NoError(t, err)
	require.NoError(t, w.Function(event.Function{ID: 0, Name: "main.main", Own: true}))
	require.NoError(t, w.Site(event.Site{ID: 0, Line: 1}))
	require.NoError(t, w.Type(1, event.Type{ID: 1, Name: "huge", Form: event.Int, Size: 1 << 40}))
	payload := []byte{byte(event.Enter), 0, 0, 0}
	for i := range n {
		payload = append(payload, byte(event.Line))
		payload = binary.AppendUvarint(payload, uint64(pause(i)))
		payload = append(payload, 0)
	}
	require.NoError(t, w.Events(1, 1, 5, append(payload, more...)))
	require.NoError(t, w.Flush())
	log, err := execlog.Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	return log
}

// pause is the time before a moment: mostly short or none, with hours and decades between.
func pause(i int) int64 {
	switch {
	case i == 9_000:
		return 50 * 365 * 24 * int64(time.Hour)
	case i > 12_000 && i%5000 == 0:
		return 3*int64(time.Hour) + int64(i)
	case i > 5_000 && i < 8_000:
		return int64(i % 3)
	}
	return int64(i%7)<<28 + int64(i%11)
}

// Times are exact to the nanosecond, whatever else is in the same evidence.
func TestLongListsAndTimes(t *testing.T) {
	t.Parallel()
	const n = 20_000
	tl := logtest.Timeline(t, aLog(t, n))
	require.Equal(t, event.Moment(n+1), tl.Len())
	list := tl.SiteMoments(0)
	require.Equal(t, n, list.Len())
	want := int64(5)
	for i := range n {
		require.Equal(t, event.Moment(i+1), list.At(i))
		want += pause(i)
		require.Equal(t, want, tl.Time(event.Moment(i+1)), "moment %d", i+1)
		require.Equal(t, want, tl.Event(event.Moment(i+1)).Time, "moment %d", i+1)
	}
	for m := range event.Moment(n + 3) { // the moments of the list are 1 to n, over many segments
		require.Equal(t, min(int(m), n)-1, list.Before(m))
		require.Equal(t, min(int(m), n), list.After(m))
	}
	assert.Equal(t, -1, list.Before(event.NoMoment))
	assert.Equal(t, n-1, list.Before(1<<40))
	all := list.AppendTo([]event.Moment{0})
	require.Len(t, all, n+1)
	for i, m := range all {
		require.Equal(t, event.Moment(i), m)
	}
}

func TestATimelineIsUsedWholeOrNotAtAll(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	log := aLog(t, 100)
	dir := filepath.Join(t.TempDir(), "timeline")
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	require.ErrorIs(t, timeline.Build(stopped, executionlog.Source(log), dir, false, nil), context.Canceled)
	_, err := timeline.Open(dir, log.Reader(), log.Size())
	require.True(t, timeline.Stale(err), "a build that was stopped leaves nothing: %v", err)
	left, err := os.ReadDir(filepath.Dir(dir))
	require.NoError(t, err)
	require.Empty(t, left)

	for _, lasting := range []bool{true, false} {
		require.NoError(t, os.RemoveAll(dir))
		require.NoError(t, timeline.Build(ctx, executionlog.Source(log), dir, lasting, nil))
		tl, err := timeline.Open(dir, log.Reader(), log.Size())
		require.NoError(t, err)
		require.Equal(t, event.Moment(101), tl.Len())
	}
	require.NoError(t, timeline.Build(ctx, executionlog.Source(log), dir, false, nil), "somebody else may build the same")

	other := aLog(t, 101)
	_, err = timeline.Open(dir, other.Reader(), other.Size())
	require.True(t, timeline.Stale(err), "of another log: %v", err)
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, f := range files {
		path := filepath.Join(dir, f.Name())
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		if len(text) == 0 {
			continue
		}
		require.NoError(t, os.WriteFile(path, text[:len(text)-1], 0o600))
		_, err = timeline.Open(dir, log.Reader(), log.Size())
		require.True(t, timeline.Stale(err), "%s is cut off: %v", f.Name(), err)
		require.NoError(t, os.WriteFile(path, text, 0o600))
	}
	_, err = timeline.Open(dir, log.Reader(), log.Size())
	require.NoError(t, err)
}

// A log can claim that each event covers or moves a terabyte: the memory for it must not exceed
// what a real log of that length needs.
func TestClaimsDoNotFillTheDisk(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("nothing in it is concurrent")
	}
	var claims []byte
	for i := range 60_000 {
		claims = append(claims, byte(event.Store), 0)
		claims = binary.AppendUvarint(claims, uint64(i)<<20)
		claims = append(claims, 1, 7)
		claims = append(claims, byte(event.Move), 0)
		claims = binary.AppendUvarint(claims, uint64(i)<<24)
		claims = binary.AppendUvarint(binary.AppendUvarint(claims, 1<<40), 1<<40)
	}
	log := aLog(t, 1, claims...)
	dir := filepath.Join(t.TempDir(), "timeline")
	require.NoError(t, timeline.Build(context.Background(), executionlog.Source(log), dir, false, nil))
	size := int64(0)
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, f := range files {
		info, err := f.Info()
		require.NoError(t, err)
		size += info.Size()
	}
	assert.Less(t, size, int64(400<<20))
}
