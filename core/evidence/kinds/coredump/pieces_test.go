package coredump

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"wraithology/core/event"
)

// Pieces of any number of bits, from any bit on, give each bit of the value; bytes with a bit that has no
// source are missing.
func TestAssembledBits(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(5, 16))
	for range 20_000 {
		size := uint64(1 + random.IntN(20))
		type bit struct {
			known bool
			value byte
		}
		var list []bitRun
		var want []bit
		for range 1 + random.IntN(5) {
			x := bitRun{from: uint64(random.IntN(70)), bits: uint64(random.IntN(60)), state: event.Unrecorded, why: "no memory"}
			if random.IntN(4) > 0 {
				x.bytes = make([]byte, 1+random.IntN(16))
				for i := range x.bytes {
					x.bytes[i] = byte(random.Uint32())
				}
			}
			list = append(list, x)
			for i := range x.bits {
				n := x.from + i
				if n/8 >= uint64(len(x.bytes)) {
					want = append(want, bit{})
				} else {
					want = append(want, bit{true, x.bytes[n/8] >> (n % 8) & 1})
				}
			}
		}
		for uint64(len(want)) < size*8 {
			want = append(want, bit{})
		}
		data, missing := assemble(size, list)
		require.Len(t, data, int(size))
		for i := range size {
			lacks := false
			for _, m := range missing {
				require.Less(t, m.From, m.To)
				require.LessOrEqual(t, m.To, size)
				lacks = lacks || m.From <= i && i < m.To
			}
			all, whole := byte(0), true
			for k, b := range want[i*8 : i*8+8] {
				all |= b.value << k
				whole = whole && b.known
			}
			require.Equal(t, !whole, lacks, "byte %d of %+v", i, list)
			if whole {
				require.Equal(t, all, data[i], "byte %d of %+v", i, list)
			}
		}
	}
}
