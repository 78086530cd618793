package timeline

import (
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math/bits"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sync/errgroup"

	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/mapped"
)

// sumsFile holds the checksums (CRC-32C) of the columns' blocks, column by column in the
// order of Timeline.columns.
const sumsFile = "sums"

// mostBlock is the maximum size of a block, in bytes. A first look-up in a long timeline verifies a
// block of several columns, so small blocks answer faster.
const mostBlock = 16 << 10

// blockShift returns the binary logarithm of the number of records in a block, so that no record is
// in two blocks.
func blockShift(size uintptr) uint { return uint(bits.Len(uint(mostBlock/size))) - 1 }

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// writeSums writes the checksums of all columns in dir.
func writeSums(dir string) error {
	columns := new(Timeline).columns()
	lists := make([][]uint32, len(columns))
	var g errgroup.Group
	g.SetLimit(4)
	for i, c := range columns {
		g.Go(func() (err error) {
			lists[i], err = sumsOf(filepath.Join(dir, c.name), blockBytes(c.size()))
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return fmt.Errorf("compute the timeline's checksums: %w", err)
	}
	var all []uint32
	for _, list := range lists {
		all = append(all, list...)
	}
	return os.WriteFile(filepath.Join(dir, sumsFile), asBytes(all), 0o600)
}

func sumsOf(path string, block uintptr) (list []uint32, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, block)
	for {
		n, err := io.ReadFull(f, b)
		if n > 0 {
			list = append(list, crc32.Checksum(b[:n], castagnoli))
		}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return list, nil
		case err != nil:
			return nil, err
		}
	}
}

// records is a column of a timeline, mapped into memory. Each block is verified on first use, so
// that opening a long column costs nothing. Damage ends the current question: guard.Do returns the
// error, and the timeline is built again next time. A column that is used a lot is also verified as
// a whole in the background; after that, access is fast.
type records[T any] struct {
	list []T
	verified
	sums  []uint32 // of the blocks
	fine  []uint32 // 1 where a block was verified
	shift uint
	looks atomic.Int64 // counted up to manyLooks
	owner *Timeline    // whose collection ends the mapping
	path  string
}

// manyLooks is the number of look-ups after which a column is verified as a whole.
const manyLooks = 1 << 14

// mostWhole limits the size of columns that are verified as a whole, in bytes, to leave the disk to
// others.
const mostWhole = 4 << 30

// verified says whether a column needs no checks. It has no type parameter and is called through a
// field, so that the compiler inlines need into loops over millions of records.
type verified struct {
	whole uint32      // 1 where all blocks were verified
	check func(i int) // records.checkAt
}

// need verifies the block of record i if necessary.
func (v *verified) need(i int) {
	if atomic.LoadUint32(&v.whole) == 0 {
		v.check(i)
	}
}

// at returns a record.
func (r *records[T]) at(i int) T {
	r.need(i)
	return r.list[i]
}

// ref returns a record where it is.
func (r *records[T]) ref(i int) *T {
	r.need(i)
	return &r.list[i]
}

// slice returns the records from one to before another.
func (r *records[T]) slice(from, to int) []T {
	for i := from; i < to; i = (i>>r.shift + 1) << r.shift {
		r.need(i)
	}
	return r.list[from:to]
}

func (r *records[T]) len() int { return len(r.list) }

// checkAt verifies the block of record i if necessary.
func (r *records[T]) checkAt(i int) {
	block := i >> r.shift
	if atomic.LoadUint32(&r.fine[block]) == 0 {
		if !r.verify(block) {
			r.damaged(fmt.Sprintf("in block %d", block))
		}
		if len(r.fine) == 1 {
			atomic.StoreUint32(&r.whole, 1)
		}
	}
	if r.looks.Load() < manyLooks && r.looks.Add(1) == manyLooks && len(asBytes(r.list)) <= mostWhole {
		go r.verifyWhole()
	}
}

// verify reports whether the checksum of a block is right.
func (r *records[T]) verify(block int) bool {
	from := block << r.shift
	to := min(from+1<<r.shift, len(r.list))
	if crc32.Checksum(asBytes(r.list[from:to]), castagnoli) != r.sums[block] {
		return false
	}
	atomic.StoreUint32(&r.fine[block], 1)
	return true
}

// oneWhole limits verification as a whole to one column at a time.
var oneWhole sync.Mutex

// verifyWhole verifies the remaining blocks. Damage is reported by the question that uses it.
func (r *records[T]) verifyWhole() {
	oneWhole.Lock()
	defer oneWhole.Unlock()
	err := guard.Do(func() error {
		for block := range r.fine {
			if atomic.LoadUint32(&r.fine[block]) == 0 && !r.verify(block) {
				return fault.Damaged
			}
		}
		return nil
	})
	if err == nil {
		atomic.StoreUint32(&r.whole, 1)
	}
	runtime.KeepAlive(r.owner)
}

// damaged ends the question and marks the timeline to be built again.
func (r *records[T]) damaged(where string) {
	_ = os.Remove(filepath.Join(filepath.Dir(r.path), indexFile)) // without it the timeline counts as incomplete
	guard.Raise(fmt.Errorf("%w: the timeline's file %s, %s", fault.Damaged, filepath.Base(r.path), where))
}

// size returns the size of a record, in bytes.
func (r *records[T]) size() uintptr {
	var x T
	return unsafe.Sizeof(x)
}

// mapFrom maps a file of the timeline in dir. sums are the checksums of its blocks. The mapping
// ends when owner is garbage-collected.
func (r *records[T]) mapFrom(owner *Timeline, dir, name string, sums []uint32) error {
	f, err := os.Open(filepath.Join(dir, name))
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%w: it has no file %s", errStale, name)
	}
	if err != nil {
		return fmt.Errorf("open the timeline: %w", err)
	}
	defer f.Close()
	b, err := mapped.File(owner, f)
	if err != nil {
		return fmt.Errorf("open the timeline: %w", err)
	}
	r.list = unsafe.Slice((*T)(unsafe.Pointer(unsafe.SliceData(b))), len(b)/int(r.size()))
	r.shift, r.path, r.owner, r.check = blockShift(r.size()), f.Name(), owner, r.checkAt
	r.sums, r.fine = sums, make([]uint32, blocks(len(b), r.size()))
	if len(r.sums) != len(r.fine) {
		return fmt.Errorf("%w: it has %d checksums of %s, not %d", errStale, len(r.sums), name, len(r.fine))
	}
	return nil
}

// blockBytes returns the size of a block in bytes.
func blockBytes(size uintptr) uintptr { return size << blockShift(size) }

// blocks returns the number of blocks in a file.
func blocks(bytes int, size uintptr) int {
	block := int(blockBytes(size))
	return (bytes + block - 1) / block
}
