// Package ordered sorts records by key in bounded memory: records that do not fit are sorted into
// runs in a file, and the runs are merged (Knuth, The Art of Computer Programming, volume 3,
// section 5.4).
package ordered

import (
	"bufio"
	"cmp"
	"container/heap"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
)

// Key orders records: by High, then by Low. Records with equal keys keep their order.
type Key struct{ High, Low uint64 }

// Compare returns -1, 0 or +1.
func (k Key) Compare(o Key) int {
	if k.High != o.High {
		return cmp.Compare(k.High, o.High)
	}
	return cmp.Compare(k.Low, o.Low)
}

// Piece is the default size in bytes of the records that are sorted in memory at once. Two pieces
// are in memory at a time.
const Piece = 32 << 20

// entry is where a record of a piece is.
type entry struct {
	Key
	at, size uint32
}

type piece struct {
	bytes   []byte
	entries []entry
}

func (p *piece) sort() {
	slices.SortFunc(p.entries, func(a, b entry) int {
		if c := a.Compare(b.Key); c != 0 {
			return c
		}
		return cmp.Compare(a.at, b.at)
	})
}

// Sorter takes records and gives them back in order.
type Sorter struct {
	dir     string
	most    int
	now     *piece
	free    *piece
	file    *os.File
	runs    []run
	written int64
	writing chan error // the piece that is being written
}

// run is a sorted piece in the file.
type run struct{ at, size int64 }

// New returns a sorter that stores sorted pieces of most bytes in a file in dir. Close removes the
// file.
func New(dir string, most int) *Sorter {
	return &Sorter{dir: dir, most: min(most, 1<<30), now: &piece{}}
}

const entrySize = 24

// Add adds a record. Its bytes are copied.
func (s *Sorter) Add(k Key, record []byte) error {
	p := s.now
	if len(p.entries) > 0 && len(p.bytes)+len(record)+(len(p.entries)+1)*entrySize > s.most {
		if err := s.spill(); err != nil {
			return err
		}
		p = s.now
	}
	p.entries = append(p.entries, entry{k, uint32(len(p.bytes)), uint32(len(record))})
	p.bytes = append(p.bytes, record...)
	return nil
}

// spill sorts and writes the piece in the background.
func (s *Sorter) spill() error {
	if err := s.settle(); err != nil {
		return err
	}
	if s.file == nil {
		f, err := os.CreateTemp(s.dir, "sort-*")
		if err != nil {
			return fmt.Errorf("create a file for sorting: %w", err)
		}
		s.file = f
		if err := os.Remove(f.Name()); err != nil {
			return fmt.Errorf("create a file for sorting: %w", err)
		}
	}
	full := s.now
	s.now = s.free
	if s.now == nil {
		s.now = &piece{}
	}
	s.free = full
	size := int64(len(full.bytes) + len(full.entries)*headSize)
	s.runs = append(s.runs, run{s.written, size})
	at := s.written
	s.written += size
	s.writing = make(chan error, 1)
	go func() { s.writing <- full.write(io.NewOffsetWriter(s.file, at)) }()
	return nil
}

// settle waits until the last piece is written.
func (s *Sorter) settle() error {
	if s.writing == nil {
		return nil
	}
	err := <-s.writing
	s.writing = nil
	s.free.bytes, s.free.entries = s.free.bytes[:0], s.free.entries[:0]
	return err
}

// headSize is the size of the head of each record in the file: its key and its length.
const headSize = 20

func (p *piece) write(to io.Writer) error {
	p.sort()
	w := bufio.NewWriterSize(to, 1<<20)
	var head [headSize]byte
	for _, e := range p.entries {
		binary.LittleEndian.PutUint64(head[0:], e.High)
		binary.LittleEndian.PutUint64(head[8:], e.Low)
		binary.LittleEndian.PutUint32(head[16:], e.size)
		_, _ = w.Write(head[:]) // its errors stick and Flush returns them
		_, _ = w.Write(p.bytes[e.at : e.at+e.size])
	}
	if err := w.Flush(); err != nil {
		return fmt.Errorf("sort on the disk: %w", err)
	}
	return nil
}

// Each yields all records in order. The bytes of a record are valid until yield returns.
func (s *Sorter) Each(ctx context.Context, yield func(k Key, record []byte) error) error {
	if s.file == nil {
		s.now.sort()
		for i, e := range s.now.entries {
			if i%(1<<14) == 0 && ctx.Err() != nil {
				return ctx.Err()
			}
			if err := yield(e.Key, s.now.bytes[e.at:e.at+e.size]); err != nil {
				return err
			}
		}
		return nil
	}
	if err := s.spill(); err != nil {
		return err
	}
	if err := s.settle(); err != nil {
		return err
	}
	s.now, s.free = &piece{}, nil
	return s.merge(ctx, yield)
}

// source is a run that is being merged.
type source struct {
	r      *bufio.Reader
	order  int
	key    Key
	record []byte
}

func (s *source) next() (bool, error) {
	var head [headSize]byte
	if _, err := io.ReadFull(s.r, head[:]); errors.Is(err, io.EOF) {
		return false, nil
	} else if err != nil {
		return false, fmt.Errorf("sort on the disk: %w", err)
	}
	s.key = Key{binary.LittleEndian.Uint64(head[0:]), binary.LittleEndian.Uint64(head[8:])}
	s.record = slices.Grow(s.record[:0], int(binary.LittleEndian.Uint32(head[16:])))[:binary.LittleEndian.Uint32(head[16:])]
	if _, err := io.ReadFull(s.r, s.record); err != nil {
		return false, fmt.Errorf("sort on the disk: %w", err)
	}
	return true, nil
}

type sources []*source

func (q sources) Len() int { return len(q) }
func (q sources) Less(i, j int) bool {
	if c := q[i].key.Compare(q[j].key); c != 0 {
		return c < 0
	}
	return q[i].order < q[j].order
}
func (q sources) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *sources) Push(x any)   { *q = append(*q, x.(*source)) }
func (q *sources) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

// merge merges the runs. The total size of their read buffers is limited.
func (s *Sorter) merge(ctx context.Context, yield func(k Key, record []byte) error) error {
	const together, least = 64 << 20, 16 << 10
	buffer := min(max(together/len(s.runs), least), 1<<20)
	var queue sources
	for i, r := range s.runs {
		x := &source{r: bufio.NewReaderSize(io.NewSectionReader(s.file, r.at, r.size), buffer), order: i}
		if ok, err := x.next(); err != nil {
			return err
		} else if ok {
			queue = append(queue, x)
		}
	}
	heap.Init(&queue)
	for n := 0; len(queue) > 0; n++ {
		if n%(1<<14) == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		x := queue[0]
		if err := yield(x.key, x.record); err != nil {
			return err
		}
		if ok, err := x.next(); err != nil {
			return err
		} else if ok {
			heap.Fix(&queue, 0)
		} else {
			heap.Pop(&queue)
		}
	}
	return nil
}

// Close gives back what the sorter holds.
func (s *Sorter) Close() error {
	err := s.settle()
	s.now, s.free = &piece{}, nil
	if s.file != nil {
		err = errors.Join(err, s.file.Close())
		s.file, s.runs = nil, nil
	}
	return err
}
