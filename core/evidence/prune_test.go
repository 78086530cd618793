package evidence

import (
	"bytes"
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// kept makes folders of timelines: their ages and sizes.
func kept(t *testing.T, dir string, ages map[string]time.Duration, size int) {
	t.Helper()
	for name, age := range ages {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Join(path, "inner"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(path, "inner", "data"), bytes.Repeat([]byte{1}, size), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(path, evidenceFile), []byte("/logs/"+name), 0o600))
		for _, x := range []string{"inner/data", evidenceFile, ""} {
			require.NoError(t, os.Chtimes(filepath.Join(path, x), time.Time{}, time.Now().Add(-age)))
		}
	}
}

func names(t *testing.T, dir string) (list []string) {
	t.Helper()
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, x := range left {
		if !strings.HasPrefix(x.Name(), lockPrefix) {
			list = append(list, x.Name())
		}
	}
	return list
}

func TestOnlyUnusedTimelinesArePruned(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	kept(t, dir, map[string]time.Duration{"new": 0, "used": unusedFor - time.Hour, "unused": unusedFor + time.Hour, "forgotten": 10 * unusedFor, "of the future": -time.Hour,
		".x.partial-1": abandonedAfter + time.Minute, ".x.partial-2": abandonedAfter - time.Minute}, 100)
	for _, lasting := range []bool{false, true} {
		Timelines{Folder: dir, Lasting: lasting}.prune("")
		assert.Equal(t, []string{".x.partial-2", "new", "of the future", "used"}, names(t, dir))
	}
	Timelines{Folder: filepath.Join(dir, "none")}.prune("")

	// A timeline that is being built has an old folder, or none of its files yet, but not both.
	require.NoError(t, os.Mkdir(filepath.Join(dir, ".x.partial-3"), 0o700))
	require.NoError(t, os.Chtimes(filepath.Join(dir, ".x.partial-2"), time.Time{}, time.Now().Add(-5*abandonedAfter)))
	Timelines{Folder: dir}.prune("")
	assert.Contains(t, names(t, dir), ".x.partial-2")
	assert.Contains(t, names(t, dir), ".x.partial-3")
}

func TestTimelinesHaveALimit(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ages := map[string]time.Duration{"a": time.Minute, "b": 2 * time.Minute, "c": 3 * time.Minute, "d": 4 * time.Minute}
	kept(t, dir, ages, 1000)
	list, err := Timelines{Folder: dir}.List()
	require.NoError(t, err)
	require.Len(t, list, 4)
	for i, name := range []string{"a", "b", "c", "d"} {
		assert.Equal(t, name, list[i].Name, "the most recently used one is first")
		assert.Equal(t, "/logs/"+name, list[i].Evidence)
		assert.EqualValues(t, 1000+len("/logs/a"), list[i].Bytes)
	}
	Timelines{Folder: dir, Most: 2100}.prune("")
	assert.Equal(t, []string{"a", "b"}, names(t, dir))

	// The one that is in use stays, however large it is.
	kept(t, dir, ages, 1000)
	Timelines{Folder: dir, Most: 10}.prune("c")
	assert.Equal(t, []string{"c"}, names(t, dir))

	room, err := Timelines{Folder: dir}.Room()
	require.NoError(t, err)
	assert.Positive(t, room)
	assert.LessOrEqual(t, room, int64(defaultRoom))
	room, err = Timelines{Folder: dir, Lasting: true}.Room()
	require.NoError(t, err)
	assert.Zero(t, room, "the service's own")
	removed, err := Timelines{Folder: dir}.Remove(nil)
	require.NoError(t, err)
	assert.Len(t, removed, 1)
	assert.Empty(t, names(t, dir))
}

// A timeline that somebody builds is not removed, also not by somebody else's limit.
func TestLockedTimelinesStay(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	kept(t, dir, map[string]time.Duration{"a": time.Minute, "b": 2 * time.Minute}, 1000)
	timelines := Timelines{Folder: dir, Most: 10}
	unlock, err := timelines.lock(context.Background(), "b")
	require.NoError(t, err)
	_, ok, err := timelines.tryLock("b")
	require.NoError(t, err)
	assert.False(t, ok)
	timelines.prune("")
	assert.Equal(t, []string{"b"}, names(t, dir))
	removed, err := timelines.Remove(nil)
	require.NoError(t, err)
	assert.Empty(t, removed)
	unlock()
	removed, err = timelines.Remove(nil)
	require.NoError(t, err)
	require.Len(t, removed, 1)
	assert.Equal(t, "b", removed[0].Name)
	assert.Empty(t, names(t, dir), "nothing of it stays")

	// Without a folder there is nothing to lock, and the error says so.
	_, err = Timelines{Folder: filepath.Join(dir, "none")}.lock(context.Background(), "b")
	require.ErrorIs(t, err, fs.ErrNotExist)
}
