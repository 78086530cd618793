package timeline

import (
	"errors"
	"fmt"
	"math"
	"os"
	"unsafe"

	"wraithology/core/event"
)

// callTable writes the table of calls. Calls are numbered as they begin and done
// when they end, so a piece of the table is kept until all of it is done.
type callTable struct {
	f      *os.File
	n      uint32
	pieces map[uint32]*tablePiece
	free   []*activation
	err    error
}

const pieceSize = 512

type tablePiece struct {
	records [pieceSize]callRecord
	done    int
}

func (t *callTable) open(f event.FunctionID, thread event.ThreadID, parent event.CallID, m uint32) *activation {
	if t.pieces == nil {
		t.pieces = map[uint32]*tablePiece{}
	}
	var a *activation
	if n := len(t.free); n > 0 {
		a = t.free[n-1]
		t.free = t.free[:n-1]
	} else {
		a = &activation{}
	}
	a.id, a.touched = event.CallID(t.n), a.touched[:0]
	a.record = callRecord{function: uint32(f), thread: uint32(thread), parent: uint32(parent), enter: m, leave: math.MaxUint32}
	if t.n%pieceSize == 0 {
		t.pieces[t.n/pieceSize] = &tablePiece{}
	}
	t.n++
	return a
}

func (t *callTable) end(a *activation) {
	i := uint32(a.id) / pieceSize
	p := t.pieces[i]
	p.records[uint32(a.id)%pieceSize] = a.record
	if p.done++; p.done == pieceSize {
		t.write(i, pieceSize)
	}
	const kept = 1 << 10 // a buffer that was ever full is not kept for good
	if len(t.free) < kept {
		t.free = append(t.free, a)
	}
}

func (t *callTable) write(piece uint32, n uint32) {
	if t.err == nil {
		_, t.err = t.f.WriteAt(asBytes(t.pieces[piece].records[:n]), int64(piece)*pieceSize*int64(unsafe.Sizeof(callRecord{})))
	}
	delete(t.pieces, piece)
}

func (t *callTable) close() error {
	for i := range t.pieces {
		t.write(i, min(pieceSize, t.n-i*pieceSize))
	}
	if err := errors.Join(t.err, t.f.Close()); err != nil {
		return fmt.Errorf("write the timeline's calls: %w", err)
	}
	return nil
}
