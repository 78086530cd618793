package receive

import (
	"bytes"
	"compress/gzip"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/semaphore"

	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/fault"
)

func gzipped(t *testing.T, b []byte) []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	_, err := z.Write(b)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return out.Bytes()
}

// A body takes memory by its size when unpacked, is refused if there is none left, and gives back
// what it took, in whatever pieces it comes.
func TestBodiesTakeMemoryBySize(t *testing.T) {
	t.Parallel()
	content := bytes.Repeat([]byte("the fog is back. "), 3*bodyStep/17)
	steps := int64(len(content)/bodyStep + 1)
	for name, body := range map[string]func() io.Reader{
		"plain":                func() io.Reader { return bytes.NewReader(content) },
		"packed":               func() io.Reader { return bytes.NewReader(gzipped(t, content)) },
		"plain, byte by byte":  func() io.Reader { return iotest.OneByteReader(bytes.NewReader(content)) },
		"packed, half by half": func() io.Reader { return iotest.HalfReader(bytes.NewReader(gzipped(t, content))) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			packed := strings.HasPrefix(name, "packed")
			memory := semaphore.NewWeighted(steps * bodyStep)
			b, release, err := unpack(body(), packed, memory)
			require.NoError(t, err)
			assert.Equal(t, content, b)
			assert.False(t, memory.TryAcquire(1), "it has taken less than it is large")
			_, second, err := unpack(body(), packed, memory)
			require.ErrorIs(t, err, fault.Busy)
			second()
			release()
			assert.True(t, memory.TryAcquire(steps*bodyStep), "some memory was not given back")
			memory.Release(steps * bodyStep)

			less := semaphore.NewWeighted((steps - 1) * bodyStep)
			_, release, err = unpack(body(), packed, less)
			require.ErrorIs(t, err, fault.Busy)
			release()
			assert.True(t, less.TryAcquire((steps-1)*bodyStep))
		})
	}
}

func TestBodiesThatAreRefused(t *testing.T) {
	t.Parallel()
	whole := gzipped(t, []byte(strings.Repeat("fog", 1000)))
	for name, x := range map[string]struct {
		body   io.Reader
		packed bool
		is     error
	}{
		"not packed":              {strings.NewReader("fog"), true, otlp.ErrMalformed},
		"cut off":                 {bytes.NewReader(whole[:len(whole)-6]), true, otlp.ErrMalformed},
		"one byte more":           {io.LimitReader(zeros{}, MaxRequest+1), false, fault.TooLarge},
		"without end":             {zeros{}, false, fault.TooLarge},
		"one byte more, unpacked": {bytes.NewReader(gzipped(t, make([]byte, MaxRequest+1))), true, fault.TooLarge},
		"a broken connection":     {iotest.ErrReader(io.ErrUnexpectedEOF), false, io.ErrUnexpectedEOF},
	} {
		memory := semaphore.NewWeighted(bodiesInMemory)
		_, release, err := unpack(x.body, x.packed, memory)
		require.ErrorIs(t, err, x.is, name)
		release()
		assert.True(t, memory.TryAcquire(bodiesInMemory), name)
	}
	b, release, err := unpack(io.LimitReader(zeros{}, MaxRequest), false, semaphore.NewWeighted(bodiesInMemory))
	require.NoError(t, err)
	defer release()
	assert.Len(t, b, MaxRequest)
}

// zeros has no end.
type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }
