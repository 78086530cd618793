package timeline

import (
	"errors"
	"fmt"
	"math"
	"os"
	"unsafe"

	"wraithology/core/event"
)

// pieces writes a file of records that begin in order and end in any order. A piece of the file
// stays in memory until all its records have ended.
type pieces[T any] struct {
	f    *os.File
	n    uint32
	open map[uint32]*piece[T]
	err  error
}

const pieceSize = 512

type piece[T any] struct {
	records [pieceSize]T
	done    int
}

// begin numbers another record.
func (p *pieces[T]) begin() uint32 {
	if p.open == nil {
		p.open = map[uint32]*piece[T]{}
	}
	i := p.n
	if i%pieceSize == 0 {
		p.open[i/pieceSize] = &piece[T]{}
	}
	p.n++
	return i
}

// end stores the record with a number.
func (p *pieces[T]) end(i uint32, record T) {
	x := p.open[i/pieceSize]
	x.records[i%pieceSize] = record
	if x.done++; x.done == pieceSize {
		p.write(i/pieceSize, pieceSize)
	}
}

func (p *pieces[T]) write(i uint32, n uint32) {
	if p.err == nil {
		records := p.open[i].records[:n]
		_, p.err = p.f.WriteAt(asBytes(records), int64(i)*pieceSize*int64(unsafe.Sizeof(records[0])))
	}
	delete(p.open, i)
}

func (p *pieces[T]) close() error {
	for i := range p.open {
		p.write(i, min(pieceSize, p.n-i*pieceSize))
	}
	if err := errors.Join(p.err, p.f.Close()); err != nil {
		return fmt.Errorf("write the timeline: %w", err)
	}
	return nil
}

// callTable writes the table of calls.
type callTable struct {
	pieces[callRecord]
	free []*activation
}

func (t *callTable) open(f event.FunctionID, thread event.ThreadID, parent event.CallID, m uint32) *activation {
	var a *activation
	if n := len(t.free); n > 0 {
		a = t.free[n-1]
		t.free = t.free[:n-1]
	} else {
		a = &activation{}
	}
	a.id, a.touched = event.CallID(t.begin()), a.touched[:0]
	a.record = callRecord{function: uint32(f), thread: uint32(thread), parent: uint32(parent), enter: m, leave: math.MaxUint32}
	return a
}

func (t *callTable) end(a *activation) {
	t.pieces.end(uint32(a.id), a.record)
	const kept = 1 << 10 // reuse buffers, but not large ones
	if len(t.free) < kept {
		t.free = append(t.free, a)
	}
}
