package debuginfo

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
)

// The index of a package gives each unit's parts; an index that is cut off, or has no such unit,
// gives none.
func TestShares(t *testing.T) {
	t.Parallel()
	var b []byte
	word := func(n ...uint32) {
		for _, x := range n {
			b = binary.LittleEndian.AppendUint32(b, x)
		}
	}
	word(5, 3, 2, 4) // version, columns, units, slots
	for _, id := range []uint64{0, 0xabc, 0x77, 0} {
		b = binary.LittleEndian.AppendUint64(b, id)
	}
	word(0, 2, 1, 0)    // rows of the slots
	word(1, 3, 6)       // kinds of section
	word(0, 10, 20)     // offsets of the first unit
	word(100, 110, 120) // of the second
	word(100, 5, 40)    // sizes of the first
	word(300, 15, 44)   // of the second
	assert.Equal(t, map[string]share{".debug_info": {100, 300}, ".debug_abbrev": {110, 15}, ".debug_str_offsets": {120, 44}}, shares(b, 0xabc))
	assert.Equal(t, map[string]share{".debug_info": {0, 100}, ".debug_abbrev": {10, 5}, ".debug_str_offsets": {20, 40}}, shares(b, 0x77))
	assert.Nil(t, shares(b, 0x78))
	for n := range b {
		assert.Nil(t, shares(b[:n], 0xabc), "cut at %d", n)
	}
}
