package cursor

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sleb encodes a signed number (DWARF 5, appendix C).
func sleb(n int64) (b []byte) {
	for {
		low := byte(n & 0x7f)
		n >>= 7
		if n == 0 && low&0x40 == 0 || n == -1 && low&0x40 != 0 {
			return append(b, low)
		}
		b = append(b, low|0x80)
	}
}

// What a writer wrote is read back in its order; cut short anywhere, the first read that is
// not whole and all after it yield zero, and the error stays.
func TestReads(t *testing.T) {
	t.Parallel()
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 5))
		var data []byte
		type read struct {
			end  int
			want any
			get  func(c *Cursor) any
		}
		var reads []read
		for range r.IntN(20) {
			n := r.Uint64() >> r.IntN(64)
			var x read
			switch r.IntN(8) {
			case 0:
				data = append(data, byte(n))
				x = read{want: uint8(n), get: func(c *Cursor) any { return c.U8() }}
			case 1:
				data = binary.LittleEndian.AppendUint16(data, uint16(n))
				x = read{want: uint16(n), get: func(c *Cursor) any { return c.U16() }}
			case 2:
				data = binary.LittleEndian.AppendUint32(data, uint32(n))
				x = read{want: uint32(n), get: func(c *Cursor) any { return c.U32() }}
			case 3:
				data = binary.LittleEndian.AppendUint64(data, n)
				x = read{want: n, get: func(c *Cursor) any { return c.U64() }}
			case 4:
				data = binary.AppendUvarint(data, n)
				x = read{want: n, get: func(c *Cursor) any { return c.Uleb() }}
			case 5:
				data = append(data, sleb(int64(n))...)
				x = read{want: int64(n), get: func(c *Cursor) any { return c.Sleb() }}
				if r.IntN(2) == 0 {
					data = append(data[:len(data)-len(sleb(int64(n)))], sleb(-int64(n))...)
					x.want = -int64(n)
				}
			case 6:
				s := strings.Repeat("x", r.IntN(9))
				data = append(append(data, s...), 0)
				x = read{want: s, get: func(c *Cursor) any { return c.Text() }}
			case 7:
				size := []int{1, 2, 4, 8}[r.IntN(4)]
				n &= 1<<(8*size-1)<<1 - 1
				full := binary.LittleEndian.AppendUint64(nil, n)
				data = append(data, full[:size]...)
				x = read{want: n, get: func(c *Cursor) any { return c.Uint(size) }}
			}
			x.end = len(data)
			reads = append(reads, x)
		}
		cut := len(data)
		if r.IntN(2) == 0 && len(data) > 0 {
			cut = r.IntN(len(data))
		}
		c := New(data[:cut])
		failed := false
		for i, x := range reads {
			got := x.get(c)
			if failed = failed || x.end > cut; failed {
				require.ErrorIs(t, c.Err(), ErrShort, "seed %d, read %d", seed, i)
				require.Zero(t, c.Len())
				require.Zero(t, c.U64())
				require.Empty(t, c.Text())
				continue
			}
			require.Equal(t, x.want, got, "seed %d, read %d", seed, i)
			require.Equal(t, x.end, c.Offset())
			require.Equal(t, cut-x.end, c.Len())
			require.NoError(t, c.Err())
		}
	}
}

// Numbers in LEB128 of more than 64 bits lose the bits beyond, and do not loop forever.
func TestLongNumbers(t *testing.T) {
	t.Parallel()
	long := append(bytes.Repeat([]byte{0xff}, 20), 0x7f)
	c := New(append(long, 9))
	assert.Equal(t, ^uint64(0), c.Uleb())
	assert.EqualValues(t, 9, c.U8())
	c = New(append(long, 9))
	assert.EqualValues(t, -1, c.Sleb())
	assert.EqualValues(t, 9, c.U8())
	c = New(bytes.Repeat([]byte{0x80}, 30))
	c.Uleb()
	require.ErrorIs(t, c.Err(), ErrShort)
}

func TestPlaces(t *testing.T) {
	t.Parallel()
	data := []byte("0123456789")
	c := At(data, 10)
	require.NoError(t, c.Err())
	assert.Zero(t, c.Len())
	require.ErrorIs(t, At(data, 11).Err(), ErrShort)
	require.ErrorIs(t, At(data, 1<<63).Err(), ErrShort)
	c = At(data, 3)
	for _, step := range []struct {
		by int
		ok bool
		at int
	}{{4, true, 7}, {3, true, 10}, {1, false, 10}, {-10, true, 0}, {-1, false, 0}, {2, true, 2}} {
		assert.Equal(t, step.ok, c.Move(step.by))
		assert.Equal(t, step.at, c.Offset())
	}
	for from, to := range map[uint64]int{0: 0, 1: 4, 4: 4, 5: 8, 9: 10} { // the last one ends with the data
		c := At(data, from)
		c.Align(4)
		assert.Equal(t, to, c.Offset())
		assert.NoError(t, c.Err())
	}
	c = New(data)
	assert.Equal(t, "012", string(c.Bytes(3)))
	c.Skip(2)
	assert.Equal(t, "5", string(c.Bytes(1)))
	assert.Nil(t, c.Bytes(5))
	require.ErrorContains(t, c.Err(), "byte 6 of 10, 5 more wanted")
	c = New(data)
	c.Uint(3)
	require.Error(t, c.Err())
}
