package timeline

import (
	"errors"
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"

	"github.com/klauspost/compress/s2"
)

// Events are kept in blocks that are compressed with S2. The place of an event is the number of its
// block, times blockSize, plus its offset in the block. An event is in one block only; one that is
// larger than a block takes the numbers of several.
const (
	placeBits = 13
	blockSize = 1 << placeBits // bytes
)

// mostUnpacked limits the unpacked blocks that all timelines of the process keep, in bytes.
const mostUnpacked = 128 << 20

// eventBytes holds the bytes of the events of a timeline.
type eventBytes struct {
	starts bitPacked // where each block begins in file, and where the last one ends
	file   records[byte]
	blocks []atomic.Pointer[unpackedEvents]
	cache  *unpackedBlocks
}

// unpackedEvents is a block that is kept in memory.
type unpackedEvents struct {
	bytes []byte
	used  atomic.Bool // since it was last considered for removal
	at    *atomic.Pointer[unpackedEvents]
}

// unpackedBlocks keeps blocks of any number of timelines. When they are too large, those go that were not used
// since the last round (the clock algorithm: Corbató, "A Paging Experiment with the Multics System",
// 1968).
type unpackedBlocks struct {
	sync.Mutex
	ring  []*unpackedEvents
	hand  int
	size  int
	limit int // bytes
}

// unpacked are the blocks of all timelines of the process.
var unpacked = unpackedBlocks{limit: mostUnpacked}

// open prepares the blocks after their files were mapped.
func (d *eventBytes) open(owner *Timeline) {
	n := 0
	if g := d.starts.groups.len(); g > 1 {
		n = (g - 1) * groupSize
	}
	d.blocks, d.cache = make([]atomic.Pointer[unpackedEvents], n), &unpacked
	runtime.AddCleanup(owner, d.cache.forget, d.blocks)
}

// forget removes the blocks of a timeline that is no longer used.
func (c *unpackedBlocks) forget(blocks []atomic.Pointer[unpackedEvents]) {
	c.Lock()
	defer c.Unlock()
	for i := range blocks {
		if b := blocks[i].Load(); b != nil {
			b.at.Store(nil)
		}
	}
	kept := c.ring[:0]
	for _, b := range c.ring {
		if b.at.Load() == b {
			kept = append(kept, b)
			continue
		}
		c.size -= len(b.bytes)
	}
	clear(c.ring[len(kept):])
	c.ring, c.hand = kept, 0
}

// from returns the bytes of a block from a place on.
func (d *eventBytes) from(place uint64) []byte {
	block := d.block(int(place >> placeBits))
	at := place % blockSize
	if at > uint64(len(block)) {
		d.file.damaged("an event is beyond its block")
	}
	return block[at:]
}

// block returns the bytes of a block, from memory if it was used lately.
func (d *eventBytes) block(i int) []byte {
	if b := d.blocks[i].Load(); b != nil {
		if !b.used.Load() {
			b.used.Store(true)
		}
		return b.bytes
	}
	bytes := d.unpack(i, nil)
	d.cache.keep(&unpackedEvents{bytes: bytes, at: &d.blocks[i]})
	return bytes
}

// keep adds a block to those in memory.
func (c *unpackedBlocks) keep(b *unpackedEvents) {
	c.Lock()
	defer c.Unlock()
	if !b.at.CompareAndSwap(nil, b) {
		return // somebody else unpacked it at the same time
	}
	c.ring = append(c.ring, b)
	c.size += len(b.bytes)
	for c.size > c.limit && len(c.ring) > 1 {
		c.hand %= len(c.ring)
		old := c.ring[c.hand]
		if old == b || old.used.Swap(false) {
			c.hand++
			continue
		}
		old.at.CompareAndSwap(old, nil)
		c.size -= len(old.bytes)
		last := len(c.ring) - 1
		c.ring[c.hand], c.ring[last] = c.ring[last], nil
		c.ring = c.ring[:last]
	}
}

// glance returns the bytes of a block without keeping them, in the buffer if they are not in memory.
func (d *eventBytes) glance(i int, buffer []byte) []byte {
	if b := d.blocks[i].Load(); b != nil {
		return b.bytes
	}
	return d.unpack(i, buffer)
}

func (d *eventBytes) unpack(i int, buffer []byte) []byte {
	packed := d.file.slice(int(d.starts.at(i)), int(d.starts.at(i+1)))
	bytes, err := s2.Decode(buffer[:cap(buffer)], packed)
	if err != nil { // its checksum was right
		d.file.damaged(err.Error())
	}
	return bytes
}

// eventBytesColumn writes the bytes of the events. Blocks are compressed beside the building. The first
// error stays.
type eventBytesColumn struct {
	file    *column[byte]
	starts  *bitPackedColumn
	block   []byte
	next    uint64 // the number of the block
	packing chan packing
	ended   chan struct{}
}

// packing is a block that is being compressed. It takes one number or more.
type packing struct {
	out     chan []byte
	numbers uint64
}

func newEventBytesColumn(dir string) (*eventBytesColumn, error) {
	c := &eventBytesColumn{block: make([]byte, 0, blockSize), packing: make(chan packing, max(runtime.GOMAXPROCS(0), 2)), ended: make(chan struct{})}
	starts, err := newBitPackedColumn(dir, startsFile)
	if err = errors.Join(err, begin(&c.file, dir, dataFile)); err != nil {
		return nil, err
	}
	c.starts = starts
	go c.write()
	return c, nil
}

// write writes the blocks in order.
func (c *eventBytesColumn) write() {
	defer close(c.ended)
	for p := range c.packing {
		c.starts.add(uint64(c.file.n))
		c.file.addAll(<-p.out)
		for range p.numbers - 1 {
			c.starts.add(uint64(c.file.n))
		}
	}
	c.starts.add(uint64(c.file.n))
}

// add appends an event and returns its place.
func (c *eventBytesColumn) add(raw []byte) uint64 {
	if len(c.block)+len(raw) > blockSize {
		c.endBlock()
	}
	place := c.place()
	c.block = append(c.block, raw...)
	return place
}

// place is the place of the next event, if it fits into the block.
func (c *eventBytesColumn) place() uint64 { return c.next<<placeBits + uint64(len(c.block)) }

func (c *eventBytesColumn) endBlock() {
	if len(c.block) == 0 {
		return
	}
	p := packing{out: make(chan []byte, 1), numbers: (uint64(len(c.block)) + blockSize - 1) / blockSize}
	block := c.block
	c.packing <- p
	go func() { p.out <- s2.Encode(nil, block) }()
	c.next += p.numbers
	c.block = make([]byte, 0, blockSize)
}

func (c *eventBytesColumn) close() error {
	c.endBlock()
	close(c.packing)
	<-c.ended
	if err := errors.Join(c.starts.close(), c.file.close()); err != nil {
		return fmt.Errorf("write the events: %w", err)
	}
	return nil
}

func (c *eventBytesColumn) abandon() {
	close(c.packing)
	<-c.ended
	c.starts.abandon()
	c.file.f.Close()
}
