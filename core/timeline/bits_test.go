package timeline

import (
	"bytes"
	"math/rand/v2"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"wraithology/core/fault"
	"wraithology/core/guard"
)

// mapPacked maps a bit-packed column that was written to dir.
func mapPacked(t *testing.T, p *bitPacked, dir, name string) {
	owner := &Timeline{}
	t.Cleanup(func() { runtime.KeepAlive(owner) })
	for file, c := range map[string]mapping{name: &p.words, groupsOf(name): &p.groups} {
		sums, err := sumsOf(filepath.Join(dir, file), blockBytes(c.size()))
		require.NoError(t, err)
		require.NoError(t, c.mapFrom(owner, dir, file, sums))
	}
}

// A bit-packed column returns the numbers that were written: of any width, also where a group's
// numbers are equal, or use all bits, and with any number of them.
func TestBitPackedColumnsAreWhatWasWritten(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 4))
	dir := t.TempDir()
	for _, n := range []int{0, 1, 2, 63, 64, 65, 128, 1000, 70_000} {
		var want []uint64
		base, width := uint64(0), 0
		for i := range n {
			if i%50 == 0 { // groups with one width, and with two
				base, width = random.Uint64()>>random.IntN(65), random.IntN(65)
			}
			want = append(want, base+random.Uint64()&(1<<width-1))
		}
		c, err := newBitPackedColumn(dir, "x")
		require.NoError(t, err)
		for _, x := range want {
			c.add(x)
		}
		require.EqualValues(t, n, c.n)
		require.NoError(t, c.close())
		var p bitPacked
		mapPacked(t, &p, dir, "x")
		for range 2 {
			for _, i := range random.Perm(n) {
				require.Equal(t, want[i], p.at(i), "number %d of %d", i, n)
			}
		}
		assert.NotNil(t, guard.Do(func() error { p.at(n + groupSize); return nil }), "beyond the end")
	}
}

// A column of numbers that hardly differ is small: the bits of the differences and 12 bytes a group.
func TestBitPackedColumnsAreSmall(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	c, err := newBitPackedColumn(dir, "x")
	require.NoError(t, err)
	for i := range uint64(64 * 1000) {
		c.add(1<<60 + i)
	}
	require.NoError(t, c.close())
	assert.EqualValues(t, 6*1000, c.words.n)
	assert.EqualValues(t, 1001, c.groups.n)
}

// Events of any size are what was written, read in any order by several goroutines, while the cache
// holds only a few blocks; and the cache never exceeds its limit by more than a block.
func TestEventBytesAreWhatWasWritten(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(5, 6))
	dir := t.TempDir()
	c, err := newEventBytesColumn(dir)
	require.NoError(t, err)
	var events [][]byte
	var places []uint64
	for i := range 3000 {
		size := 1 + random.IntN(200)
		switch i % 400 {
		case 1:
			size = blockSize - 1 + random.IntN(3)
		case 2:
			size = random.IntN(5 * blockSize)
		}
		raw := bytes.Repeat([]byte{byte(i), byte(i >> 8)}, size/2+1)[:size]
		before := c.place()
		place := c.add(raw)
		require.GreaterOrEqual(t, place, before)
		events, places = append(events, raw), append(places, place)
	}
	require.NoError(t, c.close())
	owner := &Timeline{}
	d := eventBytes{}
	sums, err := sumsOf(filepath.Join(dir, dataFile), blockBytes(1))
	require.NoError(t, err)
	require.NoError(t, d.file.mapFrom(owner, dir, dataFile, sums))
	mapPacked(t, &d.starts, dir, startsFile)
	d.open(owner)
	d.cache = &unpackedBlocks{limit: 5 * blockSize}
	largest := 5 * blockSize

	var g errgroup.Group
	for worker := range uint64(4) {
		order := rand.New(rand.NewPCG(worker, 7))
		g.Go(func() error {
			buffer := make([]byte, 0, blockSize)
			for range 2000 {
				i := order.IntN(len(events))
				block, at := int(places[i]>>placeBits), places[i]%blockSize
				assert.True(t, bytes.HasPrefix(d.block(block)[at:], events[i]), "event %d", i)
				assert.True(t, bytes.HasPrefix(d.glance(block, buffer)[at:], events[i]), "event %d, once", i)
			}
			return nil
		})
	}
	require.NoError(t, g.Wait())
	kept := 0
	for i := range d.blocks {
		if b := d.blocks[i].Load(); b != nil {
			kept += len(b.bytes)
		}
	}
	assert.Equal(t, d.cache.size, kept)
	assert.LessOrEqual(t, kept, d.cache.limit+largest)
	assert.Positive(t, kept)

	other := &unpackedEvents{bytes: make([]byte, 10), at: new(atomic.Pointer[unpackedEvents])}
	d.cache.keep(other)
	d.cache.forget(d.blocks)
	assert.Equal(t, []*unpackedEvents{other}, d.cache.ring)
	assert.Equal(t, 10, d.cache.size)
	for i := range d.blocks {
		require.Nil(t, d.blocks[i].Load())
	}
	require.ErrorIs(t, guard.Do(func() error { d.file.sums[0]++; d.file.fine[0] = 0; d.file.whole = 0; d.block(0); return nil }), fault.Damaged)
	runtime.KeepAlive(owner)
}
