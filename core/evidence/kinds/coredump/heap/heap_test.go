package heap

import (
	"context"
	"encoding/binary"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// block is memory from an address on.
type block struct {
	at   uint64
	data []byte
}

func (b block) Uint(address uint64, size int) (uint64, bool) {
	if address < b.at || address-b.at+uint64(size) > uint64(len(b.data)) {
		return 0, false
	}
	var word [8]byte
	copy(word[:], b.data[address-b.at:][:size])
	return binary.LittleEndian.Uint64(word[:]), true
}

func (b block) Pointer(address uint64) (uint64, bool) { return b.Uint(address, 8) }

func (b block) put(address, value uint64) {
	binary.LittleEndian.PutUint64(b.data[address-b.at:], value)
}

// Memory that was made to look like a heap, and is none, is read in bounded time, and gives no chunk outside of it.
func TestHostileHeaps(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 4))
	found := 0
	for range 300 {
		const library, main = 1 << 20, 1<<20 + 1<<16
		m := block{library, make([]byte, 1<<17)}
		end := m.at + uint64(len(m.data))
		arena := uint64(library + 64*random.Uint64N(100))
		for i := range uint64(bins) {
			bin := arena + binsAt + 16*i
			m.put(bin, bin-header)
			m.put(bin+8, bin-header)
		}
		m.put(arena+nextAt, arena)
		m.put(arena+topAt, main+16*random.Uint64N(4096))
		for at := uint64(main); at+16 < end; {
			size := 32 + 16*random.Uint64N(40)
			if random.IntN(4) == 0 {
				size = tcacheChunk
			}
			m.put(at+8, size|random.Uint64N(8))
			at += size
		}
		for range random.IntN(400) { // damage, and lists that lead anywhere or in circles
			at := library + 8*random.Uint64N(uint64(len(m.data))/8)
			value := library + 16*random.Uint64N(uint64(len(m.data))/16)
			if random.IntN(2) == 0 {
				value = random.Uint64() >> random.IntN(64)
			}
			m.put(at, value)
		}
		area := Range{main, end}
		h, ok := Find(context.Background(), m, []Range{{library, main}}, area)
		if !ok {
			continue
		}
		found++
		for range 200 {
			address := library + random.Uint64N(2*uint64(len(m.data)))
			c, before, after, ok := h.At(address, area)
			if !ok {
				continue
			}
			for _, x := range []*Chunk{&c, before, after} {
				if x != nil && x.State != Damaged && h.contains(x.Start) {
					assert.LessOrEqual(t, x.User+x.Size, end+8)
				}
			}
		}
		h.Damage()
	}
	assert.Greater(t, found, 100)
}
