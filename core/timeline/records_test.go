package timeline

import (
	"hash/crc32"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
	"wraithology/core/guard"
)

// aColumn is a column of blocks of 16 numbers, each its own index.
func aColumn(t *testing.T, n int) *records[uint32] {
	r := &records[uint32]{shift: 4, path: t.TempDir() + "/column"}
	for i := range n {
		r.list = append(r.list, uint32(i))
	}
	for from := 0; from < n; from += 16 {
		r.sums = append(r.sums, crc32.Checksum(asBytes(r.list[from:min(from+16, n)]), castagnoli))
	}
	r.fine = make([]uint32, len(r.sums))
	r.check = r.checkAt
	return r
}

func (r *records[T]) isWhole() bool {
	oneWhole.Lock()
	defer oneWhole.Unlock()
	return r.whole == 1
}

// A column that is looked at a lot is verified as a whole; one that is damaged never counts
// as that, and every look at the damaged block says so, and no other look does.
func TestColumnsThatAreUsedALot(t *testing.T) {
	t.Parallel()
	for _, n := range []int{1, 15, 16, 17, 1000} {
		r := aColumn(t, n)
		for i := range manyLooks - 1 {
			require.EqualValues(t, i%n, r.at(i%n))
		}
		assert.Equal(t, len(r.fine) == 1, r.isWhole(), "%d records, one look less", n)
		r.at(0)
		assert.Eventually(t, r.isWhole, 10*time.Second, time.Millisecond, "%d records", n)
		for i := range n {
			require.EqualValues(t, i, *r.ref(i))
		}
	}

	r := aColumn(t, 1000)
	r.list[500]++
	for i := range 2 * manyLooks {
		at := i % len(r.list)
		err := guard.Do(func() error { r.at(at); return nil })
		if damaged := at>>4 == 500>>4; damaged {
			require.ErrorIs(t, err, fault.Damaged, "record %d", at)
		} else {
			require.NoError(t, err, "record %d", at)
		}
	}
	time.Sleep(50 * time.Millisecond)
	assert.False(t, r.isWhole())
	require.NoError(t, guard.Do(func() error { r.slice(0, 496); r.slice(512, 1000); r.slice(7, 7); return nil }))
	require.ErrorIs(t, guard.Do(func() error { r.slice(490, 497); return nil }), fault.Damaged)
	require.ErrorIs(t, guard.Do(func() error { r.slice(0, 1000); return nil }), fault.Damaged)
}
