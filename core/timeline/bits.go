package timeline

import (
	"errors"
	"fmt"
	"math"
	"math/bits"
	"slices"
)

// groupSize is the number of values in a group of a bit-packed column. It equals the number of bits of
// a word, so that a group of values of n bits has n words.
const groupSize = 64

// groupRecord is the smallest value of a group, in two halves, and the word at which its values
// begin. The next record is the end of its words, and so the number of bits of its values.
type groupRecord struct{ low, high, at uint32 }

func (r *groupRecord) base() uint64 { return uint64(r.high)<<32 | uint64(r.low) }

// bitPacked is a column of numbers that are stored relative to the smallest one of their group, each
// group with as many bits as it needs (frame of reference: Goldstein, Ramakrishnan and Shaft,
// "Compressing Relations and Indexes", 1998). Any of them is found in constant time.
type bitPacked struct {
	groups records[groupRecord]
	words  records[uint64]
}

// at returns a value.
func (p *bitPacked) at(i int) uint64 {
	g := i / groupSize
	p.groups.need(g)
	p.groups.need(g + 1)
	r := &p.groups.list[g]
	width := p.groups.list[g+1].at - r.at
	if width == 0 {
		return r.base()
	}
	bit := uint32(i%groupSize) * width
	word := int(r.at + bit/64)
	p.words.need(word)
	x := p.words.list[word] >> (bit % 64)
	if bit%64+width > 64 {
		p.words.need(word + 1)
		x |= p.words.list[word+1] << (64 - bit%64)
	}
	return r.base() + x&(1<<width-1)
}

// bitPackedColumn writes a bit-packed column. The first error stays.
type bitPackedColumn struct {
	groups *column[groupRecord]
	words  *column[uint64]
	group  []uint64
	n      int64
	err    error
}

// groupsOf is the name of the file with the groups of a column, whose words are in another file.
func groupsOf(name string) string { return name + ".groups" }

func newBitPackedColumn(dir, name string) (*bitPackedColumn, error) {
	c := &bitPackedColumn{group: make([]uint64, 0, groupSize)}
	return c, errors.Join(begin(&c.groups, dir, groupsOf(name)), begin(&c.words, dir, name))
}

func (c *bitPackedColumn) add(x uint64) {
	c.group = append(c.group, x)
	c.n++
	if len(c.group) == groupSize {
		c.endGroup()
	}
}

// endGroup writes a group. The last one of a column may have fewer values than the others.
func (c *bitPackedColumn) endGroup() {
	base := slices.Min(c.group)
	width := bits.Len64(slices.Max(c.group) - base)
	c.mark(base)
	var packed [groupSize]uint64
	for i, x := range c.group {
		x -= base
		bit := i * width
		packed[bit/64] |= x << (bit % 64)
		if bit%64+width > 64 {
			packed[bit/64+1] |= x >> (64 - bit%64)
		}
	}
	c.words.addAll(packed[:width])
	c.group = c.group[:0]
}

func (c *bitPackedColumn) mark(base uint64) {
	if c.words.n > math.MaxUint32 && c.err == nil {
		c.err = fmt.Errorf("write the timeline: a column has more than %d bytes; record less at once", math.MaxUint32*8)
	}
	c.groups.add(groupRecord{uint32(base), uint32(base >> 32), uint32(c.words.n)})
}

func (c *bitPackedColumn) close() error {
	if len(c.group) > 0 {
		c.endGroup()
	}
	c.mark(0)
	return errors.Join(c.err, c.groups.close(), c.words.close())
}

func (c *bitPackedColumn) abandon() {
	c.groups.f.Close()
	c.words.f.Close()
}
