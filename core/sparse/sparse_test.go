package sparse

import (
	"bytes"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The copy is equal to the input, holes use no space, and a reader that fails is distinguished from
// one that ends.
func TestCopy(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(1, 2))
	for _, size := range []int{0, 1, piece - 1, piece, piece + 1, 40 * piece, 40*piece + 17} {
		data := make([]byte, size)
		for i := range size / piece {
			if i%3 == 0 {
				for j := range piece {
					data[i*piece+j] = byte(random.Uint32())
				}
			}
		}
		for name, r := range map[string]io.Reader{"whole": bytes.NewReader(data), "in halves": iotest.HalfReader(bytes.NewReader(data)), "with its end": iotest.DataErrReader(bytes.NewReader(data))} {
			f, err := os.Create(filepath.Join(t.TempDir(), "copy"))
			require.NoError(t, err)
			n, err := Copy(f, r)
			require.NoError(t, err, name)
			assert.EqualValues(t, size, n)
			got, err := os.ReadFile(f.Name())
			require.NoError(t, err)
			assert.True(t, bytes.Equal(data, got), "%d bytes, %s", size, name)
			if size == 40*piece {
				info, err := f.Stat()
				require.NoError(t, err)
				assert.Less(t, info.Sys().(*syscall.Stat_t).Blocks*512, int64(size/2))
			}
			require.NoError(t, f.Close())
		}
	}
	f, err := os.Create(filepath.Join(t.TempDir(), "broken"))
	require.NoError(t, err)
	n, err := Copy(f, io.MultiReader(bytes.NewReader(make([]byte, 100)), iotest.ErrReader(io.ErrUnexpectedEOF)))
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	assert.EqualValues(t, 100, n)
	require.NoError(t, f.Close())
}
