package receive

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// faultyFile is a spool file on a disk that breaks.
type faultyFile struct {
	spoolFile
	fails func() bool
}

var errDisk = errors.New("input/output error")

// Write writes a part of what it is given before it fails.
func (f faultyFile) Write(b []byte) (int, error) {
	if f.fails() {
		n, _ := f.spoolFile.Write(b[:len(b)/2])
		return n, errDisk
	}
	return f.spoolFile.Write(b)
}

func (f faultyFile) Sync() error {
	if f.fails() {
		return errDisk
	}
	return f.spoolFile.Sync()
}

// What was acknowledged is in the spool files once, in its order, whatever the disk refuses to write, to sync or to create; no file is used again after an
// error, and what was refused is in none.
func TestSpoolOnABrokenDisk(t *testing.T) {
	t.Parallel()
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 7))
		dir := t.TempDir()
		s := newStream(dir, 7)
		broken := false // after an error of the file that is open
		s.open = func(path string) (spoolFile, error) {
			if rng.IntN(4) == 0 {
				return nil, errDisk
			}
			broken = false
			f, err := openSpool(path)
			return faultyFile{f, func() bool {
				assert.False(t, broken, "a file is used after an error")
				broken = rng.IntN(6) == 0
				return broken
			}}, err
		}
		var want, refused []string
		for i := range 60 {
			text := fmt.Sprintf("request %d", i)
			if err := s.take(t.Context(), 3, []byte(text), maxWaiting); err != nil {
				require.ErrorIs(t, err, errDisk)
				refused = append(refused, text)
				continue
			}
			want = append(want, text)
		}
		require.NoError(t, s.close())
		var got []string
		list, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, f := range list {
			require.NoError(t, readSpool(filepath.Join(dir, f.Name()), func(b []byte) error { got = append(got, string(b)); return nil }))
		}
		require.Equal(t, want, got)
		require.NotEmpty(t, refused)
	}
}
