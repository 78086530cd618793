package timeline_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/executionlog"
	"wraithology/core/execlog"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/timeline"
)

// digest reads all of a timeline.
func digest(tl *timeline.Timeline) uint64 {
	h := fnv.New64a()
	for m := range tl.Len() {
		e := tl.Event(m)
		fmt.Fprintln(h, tl.Kind(m), tl.ID(m), tl.Time(m), tl.Thread(m), tl.CallOf(m), tl.Process(m), e.Kind, e.ID, e.Time, e.Data, tl.Site(m).Line)
	}
	list := func(l timeline.List) {
		for i := range l.Len() {
			fmt.Fprint(h, l.At(i), " ")
		}
		fmt.Fprintln(h)
	}
	for c := range tl.Calls() {
		fmt.Fprintln(h, tl.Call(event.CallID(c)))
		list(tl.CallLines(event.CallID(c)))
		list(tl.WritesOf(event.CallID(c), 0))
	}
	for id := event.ThreadID(1); int(id) <= tl.Threads(); id++ {
		fmt.Fprintln(h, tl.ThreadInfo(id), tl.Next(id, 0), tl.OnThread(id, 9))
		list(tl.ThreadCalls(id))
	}
	list(tl.SiteMoments(0))
	list(tl.Enters(0))
	list(tl.Returns(0))
	for c := range tl.Covering(1, 1<<14, 8, tl.Len()-1) {
		fmt.Fprintln(h, c)
	}
	return h.Sum64()
}

// withStores is a log long enough for columns of several blocks, with stores to memory.
func withStores(t *testing.T) *execlog.Log {
	var stores []byte
	for i := range 10_000 {
		stores = append(stores, byte(event.Store), 0)
		stores = binary.AppendUvarint(stores, uint64(i)<<4)
		stores = append(stores, 1, 7)
	}
	return aLog(t, 12_000, stores...)
}

// A byte that is changed, or bytes that are cut off, anywhere in the files of a timeline,
// also while it is open: every answer is what it was, or an error that says so, and after
// an error the timeline is built again.
func TestDamageIsNoticed(t *testing.T) {
	t.Parallel()
	log := withStores(t)
	dir := filepath.Join(t.TempDir(), "timeline")
	require.NoError(t, timeline.Build(context.Background(), executionlog.Source(log), dir, false, nil))
	whole := map[string][]byte{}
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, f := range files {
		whole[f.Name()], err = os.ReadFile(filepath.Join(dir, f.Name()))
		require.NoError(t, err)
	}
	read := func(tl *timeline.Timeline) (sum uint64, err error) {
		err = guard.Do(func() error { sum = digest(tl); return nil })
		return sum, err
	}
	tl, err := timeline.Open(dir, log.Reader(), log.Size())
	require.NoError(t, err)
	want, err := read(tl)
	require.NoError(t, err)

	random := rand.New(rand.NewPCG(1, 2))
	noticed, tries := 0, 5
	if testing.Short() {
		tries = 1
	}
	for name, b := range whole {
		if len(b) == 0 {
			continue
		}
		for try := range tries {
			for n, original := range whole { // as it was before
				require.NoError(t, os.WriteFile(filepath.Join(dir, n), original, 0o600))
			}
			open, err := timeline.Open(dir, log.Reader(), log.Size())
			require.NoError(t, err)
			at, path := random.IntN(len(b)), filepath.Join(dir, name)
			label := fmt.Sprintf("%s, byte %d of %d, try %d", name, at, len(b), try)
			if try%3 == 2 {
				require.NoError(t, os.Truncate(path, int64(at)))
			} else {
				f, err := os.OpenFile(path, os.O_WRONLY, 0)
				require.NoError(t, err)
				_, err = f.WriteAt([]byte{b[at] ^ byte(1+random.IntN(255))}, int64(at))
				require.NoError(t, err)
				require.NoError(t, f.Close())
			}
			check := func(tl *timeline.Timeline) {
				got, err := read(tl)
				if err == nil {
					assert.Equal(t, want, got, label)
					return
				}
				noticed++
				require.ErrorIs(t, err, fault.Damaged, label)
				if try%3 != 2 {
					_, err = timeline.Open(dir, log.Reader(), log.Size())
					assert.True(t, timeline.Stale(err), "%s: it would be used again", label)
				}
			}
			if try%2 == 0 {
				check(open)
			} else if tl, err := timeline.Open(dir, log.Reader(), log.Size()); err != nil {
				noticed++
				assert.True(t, timeline.Stale(err), "%s: %v", label, err)
			} else {
				check(tl)
			}
		}
	}
	assert.Greater(t, noticed, 6*tries)
}
