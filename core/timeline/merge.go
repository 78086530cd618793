package timeline

import (
	"cmp"
	"container/heap"
	"context"
	"fmt"
	"math"
	"slices"

	"wraithology/core/event"
)

// cursorQueue orders threads by the time of their next event. Threads with equal times keep the
// order of the log.
type cursorQueue []*cursor

func (c *cursor) before(d *cursor) bool {
	return c.e.Time < d.e.Time || c.e.Time == d.e.Time && c.order < d.order
}

func (q cursorQueue) Len() int           { return len(q) }
func (q cursorQueue) Less(i, j int) bool { return q[i].before(q[j]) }
func (q cursorQueue) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *cursorQueue) Push(x any)        { *q = append(*q, x.(*cursor)) }
func (q *cursorQueue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

// runnerUp returns the thread that comes after the first, or nil.
func (q cursorQueue) runnerUp() *cursor {
	switch {
	case len(q) < 2:
		return nil
	case len(q) > 2 && q[2].before(q[1]):
		return q[2]
	}
	return q[1]
}

// cursors makes one cursor for each thread of the log, in order of their first
// blocks' times.
func (b *builder) cursors() []*cursor {
	blocks := b.log.Blocks
	var list []*cursor
	for from := 0; from < len(blocks); {
		to := from
		c := &cursor{order: from, current: -1, caller: event.NoCall, process: blocks[from].Process}
		for to < len(blocks) && blocks[to].Process == blocks[from].Process && blocks[to].Thread == blocks[from].Thread {
			to++
		}
		c.blocks = blocks[from:to]
		list = append(list, c)
		from = to
	}
	slices.SortStableFunc(list, func(a, b *cursor) int { return cmp.Compare(a.blocks[0].Base, b.blocks[0].Base) })
	return list
}

func (b *builder) merge(ctx context.Context) error {
	waiting := b.cursors()
	var queue cursorQueue
	for n := 0; ; {
		for len(waiting) > 0 && (len(queue) == 0 || waiting[0].blocks[0].Base <= queue[0].e.Time) {
			if c := waiting[0]; b.advance(c) {
				heap.Push(&queue, c)
			}
			waiting = waiting[1:]
		}
		if len(queue) == 0 {
			if len(waiting) == 0 {
				return nil
			}
			continue
		}
		c, other := queue[0], queue.runnerUp()
		until := int64(math.MaxInt64)
		if len(waiting) > 0 {
			until = waiting[0].blocks[0].Base
		}
		more := true
		for more && c.e.Time < until && (other == nil || c.before(other)) {
			if n%(1<<16) == 0 {
				if err := b.check(ctx); err != nil {
					return err
				}
			}
			if b.kinds.n >= maxMoments || b.words.n >= maxWords {
				b.losses = append(b.losses, event.Loss{What: "the log has too many moments; later ones are missing"})
				return nil
			}
			b.take(c)
			n++
			more = b.advance(c)
		}
		if more {
			heap.Fix(&queue, 0)
		} else {
			b.endThread(c)
			heap.Pop(&queue)
		}
	}
}

func (b *builder) check(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return fmt.Errorf("build the timeline: %w", err)
	}
	if b.progress != nil {
		b.progress(float64(b.read) / float64(max(len(b.log.Blocks), 1)))
	}
	return nil
}

// advance moves a cursor to its thread's next event. The next block is unpacked in the background.
func (b *builder) advance(c *cursor) bool {
	for {
		if c.walk != nil {
			if c.walk.Next() {
				c.e = c.walk.Event()
				return true
			}
			if err := c.walk.Err(); err != nil {
				b.lose(c, err)
			}
			c.walk = nil
			c.blocks = c.blocks[1:]
		}
		if len(c.blocks) == 0 {
			return false
		}
		b.read++
		var got unpackedBlock
		if c.next != nil {
			got = <-c.next
		} else {
			got.payload, got.err = b.log.Payload(c.blocks[0])
		}
		c.next = nil
		if len(c.blocks) > 1 {
			c.next = b.ahead(c.blocks[1])
		}
		if got.err != nil {
			b.lose(c, got.err)
			c.blocks = c.blocks[1:]
			continue
		}
		c.payload = got.payload
		c.walk = event.NewWalk(got.payload, c.blocks[0].Base)
	}
}

func (b *builder) ahead(block event.Block) chan unpackedBlock {
	out := make(chan unpackedBlock, 1)
	go func() {
		b.unpacked <- struct{}{}
		payload, err := b.log.Payload(block)
		<-b.unpacked
		out <- unpackedBlock{payload, err}
	}()
	return out
}

func (b *builder) lose(c *cursor, err error) {
	b.losses = append(b.losses, event.Loss{Offset: c.blocks[0].Offset, Bytes: c.blocks[0].Bytes, What: err.Error()})
}

// begin gives a cursor's thread its number.
func (b *builder) begin(c *cursor) {
	block := c.blocks[0]
	th, ok := b.log.Tables.Thread(block.Process, block.Thread)
	if !ok {
		th = event.Thread{Process: block.Process, Number: uint64(block.Thread)}
	}
	b.thread(c, th)
}

// thread numbers a cursor's thread.
func (b *builder) thread(c *cursor, th event.Thread) {
	c.state = &threadState{errorCaller: event.NoCall}
	c.state.record = threadRecord{number: th.Number, started: th.Started, process: uint32(th.Process), creator: uint32(len(b.creators)), first: uint32(b.kinds.n)}
	b.creators = append(b.creators, th.Creator...)
	if th.Name != "" {
		b.creators = append(append(b.creators, 0), th.Name...)
	}
	c.state.record.length = uint32(len(b.creators)) - c.state.record.creator
	b.threads = append(b.threads, c.state)
	c.thread = event.ThreadID(len(b.threads))
}
