package packed

import (
	"bytes"
	"compress/gzip"
	"context"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func pack(t *testing.T, how How, data []byte) []byte {
	var out bytes.Buffer
	var w io.WriteCloser = gzip.NewWriter(&out)
	if how == Zstandard {
		var err error
		w, err = zstd.NewWriter(&out)
		require.NoError(t, err)
	}
	_, err := w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

// file writes bytes to a file and opens it.
func file(t *testing.T, data []byte) *os.File {
	path := filepath.Join(t.TempDir(), "packed")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

func noise(n int) []byte {
	r := rand.New(rand.NewPCG(1, 18))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// read returns what is in an unpacked file.
func read(t *testing.T, f *os.File) []byte {
	info, err := f.Stat()
	require.NoError(t, err)
	b, err := io.ReadAll(io.NewSectionReader(f, 0, info.Size()))
	require.NoError(t, err)
	require.NoError(t, f.Close())
	return b
}

// What was packed is unpacked again, whole and its beginning; pages of zeros take no room.
func TestUnpack(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	for _, how := range []How{Gzip, Zstandard} {
		for _, data := range [][]byte{[]byte("fog"), noise(300_000), make([]byte, 8<<20), append(make([]byte, 1<<20), noise(5000)...)} {
			f := file(t, pack(t, how, data))
			head := make([]byte, 8)
			n, _ := f.ReadAt(head, 0)
			assert.Equal(t, how, Detect(head[:n]))
			for _, n := range []int64{0, 1, 4096, 1 << 30} {
				got, err := Beginning(f, how, n)
				require.NoError(t, err)
				assert.True(t, bytes.Equal(data[:min(int64(len(data)), n)], got))
			}
			last := 0.0
			out, damage, err := Unpack(context.Background(), f, how, folder, 1<<30, func(done float64) {
				assert.GreaterOrEqual(t, done, last)
				last = done
			})
			require.NoError(t, err)
			require.NoError(t, damage)
			assert.Equal(t, 1.0, last)
			if len(data) == 8<<20 {
				info, err := out.Stat()
				require.NoError(t, err)
				assert.Less(t, info.Sys().(*syscall.Stat_t).Blocks*512, int64(1<<20))
			}
			assert.True(t, bytes.Equal(data, read(t, out)))
		}
	}
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, left, "the files have no names")
	assert.Empty(t, Detect([]byte("fog")))
	assert.Empty(t, Detect(nil))
}

// A file may use exactly the allowed number of bytes, and not one more; pages of zeros use none, and are limited too.
func TestTooLarge(t *testing.T) {
	t.Parallel()
	for _, how := range []How{Gzip, Zstandard} {
		f := file(t, pack(t, how, make([]byte, 64_000*zerosOf)))
		for most, fits := range map[int64]bool{64_000: true, 63_999: false} {
			out, damage, err := Unpack(context.Background(), f, how, t.TempDir(), most, nil)
			require.NoError(t, damage)
			if fits {
				require.NoError(t, err)
				assert.Len(t, read(t, out), 64_000*zerosOf)
			} else {
				require.ErrorIs(t, err, ErrTooLarge, "%d", most)
			}
		}
		f = file(t, pack(t, how, bytes.Repeat([]byte{7}, 100_000)))
		for most, fits := range map[int64]bool{100_000: true, 99_999: false, 0: false} {
			out, damage, err := Unpack(context.Background(), f, how, t.TempDir(), most, nil)
			require.NoError(t, damage)
			if fits {
				require.NoError(t, err)
				assert.Len(t, read(t, out), 100_000)
			} else {
				require.ErrorIs(t, err, ErrTooLarge, "%d", most)
				assert.Nil(t, out)
			}
		}
	}
}

// Damage ends the file, and says so; what came before is there. Nothing at all is an error.
func TestDamage(t *testing.T) {
	t.Parallel()
	data := noise(400_000)
	for _, how := range []How{Gzip, Zstandard} {
		whole := pack(t, how, data)
		out, damage, err := Unpack(context.Background(), file(t, whole[:len(whole)/2]), how, t.TempDir(), 1<<30, nil)
		require.NoError(t, err)
		require.Error(t, damage)
		got := read(t, out)
		assert.NotEmpty(t, got)
		assert.True(t, bytes.HasPrefix(data, got))
		_, _, err = Unpack(context.Background(), file(t, whole[:7]), how, t.TempDir(), 1<<30, nil)
		require.Error(t, err)
		_, err = Beginning(file(t, whole[:7]), how, 100)
		require.Error(t, err)
		_, err = Beginning(file(t, []byte("fog")), how, 100)
		require.Error(t, err)

		gone, cancel := context.WithCancel(context.Background())
		cancel()
		_, _, err = Unpack(gone, file(t, whole), how, t.TempDir(), 1<<30, nil)
		require.ErrorIs(t, err, context.Canceled)
		_, _, err = Unpack(context.Background(), file(t, whole), how, "/nowhere", 1<<30, nil)
		require.ErrorIs(t, err, os.ErrNotExist)
	}
}
