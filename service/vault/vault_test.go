package vault

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
	"wraithology/core/room"
)

func open(t *testing.T) *Vault {
	v, err := Open(filepath.Join(t.TempDir(), "vault"))
	require.NoError(t, err)
	return v
}

// files returns the paths of all files in the vault, relative to it.
func (v *Vault) files(t *testing.T) []string {
	var out []string
	require.NoError(t, filepath.WalkDir(v.dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, relErr := filepath.Rel(v.dir, path)
			require.NoError(t, relErr)
			out = append(out, rel)
		}
		return err
	}))
	return out
}

func sumOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// What was put in is found by its hash, once, also when it is put in several times at once.
func TestPut(t *testing.T) {
	t.Parallel()
	v := open(t)
	contents := [][]byte{{}, []byte("fog"), bytes.Repeat([]byte("swell\x00"), 100_000), make([]byte, 3<<20)}
	var all sync.WaitGroup
	for _, data := range contents {
		for range 4 {
			all.Go(func() {
				s, err := v.Put(context.Background(), iotest.HalfReader(bytes.NewReader(data)))
				assert.NoError(t, err)
				assert.Equal(t, Stored{SHA256: sumOf(data), Bytes: int64(len(data))}, s)
			})
		}
	}
	all.Wait()
	assert.Len(t, v.files(t), len(contents))
	for _, data := range contents {
		got, err := os.ReadFile(v.Path(sumOf(data)))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(data, got))
		info, err := os.Stat(v.Path(sumOf(data)))
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, "others may not read it")
	}
}

// An upload that fails leaves nothing, and its error says whether it was cut off.
func TestPutLeavesNothingOfAFailedUpload(t *testing.T) {
	t.Parallel()
	v := open(t)
	gone, cancel := context.WithCancel(context.Background())
	broken := errors.New("the disk is on fire")
	half := func() io.Reader { return strings.NewReader("half of") }
	for name, c := range map[string]struct {
		ctx    context.Context
		r      io.Reader
		cutOff bool
	}{
		"the connection ends": {context.Background(), io.MultiReader(half(), iotest.ErrReader(io.ErrUnexpectedEOF)), true},
		"the sender gives up": {gone, io.MultiReader(half(), readerFunc(func([]byte) (int, error) { cancel(); return 0, nil })), true},
		"reading fails":       {context.Background(), io.MultiReader(half(), iotest.ErrReader(broken)), false},
	} {
		_, err := v.Put(c.ctx, c.r)
		require.Error(t, err, name)
		assert.Equal(t, c.cutOff, errors.Is(err, fault.CutOff), "%s: %v", name, err)
		if c.cutOff {
			assert.Contains(t, err.Error(), "7 bytes", name)
		} else {
			assert.ErrorIs(t, err, broken, name)
		}
		assert.Empty(t, v.files(t), name)
	}
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

// Opening a vault keeps what is complete and removes what is not.
func TestOpenClearsUnfinishedUploads(t *testing.T) {
	t.Parallel()
	v := open(t)
	s, err := v.Put(context.Background(), strings.NewReader("complete"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(v.dir, "incoming", "upload-123"), []byte("half"), 0o600))
	again, err := Open(v.dir)
	require.NoError(t, err)
	assert.Equal(t, []string{s.SHA256[:2] + "/" + s.SHA256}, again.files(t))

	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err = Open(file)
	require.Error(t, err, "a file is in the place of the folder")
}

// An upload that would fill the disk is refused while it comes in, and leaves nothing.
func TestRoom(t *testing.T) {
	t.Parallel()
	v, err := Open(t.TempDir())
	require.NoError(t, err)
	left := []uint64{400 << 20, 300 << 20, 9 << 20}
	v.room = func() (room.Room, error) {
		now := room.Room{Free: left[0], Total: 500 << 20}
		left = left[1:]
		return now, nil
	}
	_, err = v.Put(t.Context(), bytes.NewReader(bytes.Repeat([]byte("swell"), 20<<20)))
	require.ErrorIs(t, err, fault.DiskFull)
	assert.Empty(t, left)
	files, err := os.ReadDir(filepath.Join(v.dir, "incoming"))
	require.NoError(t, err)
	assert.Empty(t, files)
}

// What belongs to nothing goes when it is old; what belongs to something, is new, or was stored again stays.
func TestSweep(t *testing.T) {
	t.Parallel()
	v, err := Open(t.TempDir())
	require.NoError(t, err)
	sums := map[string]string{}
	long := time.Now().Add(-time.Hour)
	for _, name := range []string{"needed", "old", "new", "again"} {
		stored, err := v.Put(t.Context(), strings.NewReader(name))
		require.NoError(t, err)
		sums[name] = stored.SHA256
		if name != "new" {
			require.NoError(t, os.Chtimes(v.Path(stored.SHA256), long, long))
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(v.dir, "notes"), nil, 0o600))
	asked := 0
	require.NoError(t, v.Sweep(t.Context(), time.Minute, func(ctx context.Context, list []string) (map[string]bool, error) {
		asked += len(list)
		_, err := v.Put(ctx, strings.NewReader("again")) // meanwhile
		return map[string]bool{sums["needed"]: true}, err
	}))
	assert.Equal(t, 3, asked)
	for name, sum := range sums {
		_, err := os.Stat(v.Path(sum))
		assert.Equal(t, name != "old", err == nil, name)
	}
	assert.FileExists(t, filepath.Join(v.dir, "notes"))
	require.Error(t, v.Sweep(t.Context(), -time.Hour, func(context.Context, []string) (map[string]bool, error) { return nil, errors.New("away") }))
	assert.FileExists(t, v.Path(sums["needed"]), "nothing goes when nobody knows")
}
