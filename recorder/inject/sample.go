//go:build go1.23

package inject

import (
	"encoding/binary"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
)

// With sampling, some calls are recorded whole and the others not at all. The calls that are chosen from are those
// of a goroutine's outermost own function, such as a handler. The first function of the program, and the first call
// of each goroutine's first function, are always recorded, because they can last for as long as the
// program; what they call is chosen from.

var (
	sampling bool
	every    uint64  // one call of this number is recorded; 0 with a budget
	budget   float64 // the share of the processor's time that recording may take; 0 without
	units    sync.Map
	// recordedWhole counts the calls that were recorded whole.
	recordedWhole atomic.Uint64
)

// unit counts the calls of a function that were chosen from. omitted are those that were left out; entry is
// where the log has their number.
type unit struct {
	seen, omitted atomic.Uint64
	entry         atomic.Pointer[[]byte]
}

func init() {
	n, _ := strconv.ParseUint(os.Getenv("WRAITH_SAMPLE"), 10, 64)
	every = max(n, sampleEvery)
	share, _ := strconv.ParseFloat(os.Getenv("WRAITH_BUDGET"), 64)
	if budget = max(share, budgetShare); every == 0 && budget == 0 {
		return
	}
	sampling = true
}

// omits reports whether a call is left out, and notes that it is.
func (th *thread) omits(function uint32) bool {
	switch {
	case th.omitted > 0:
	case th.busy:
	case th.depth > th.unit:
		return false // within a call that is recorded
	case th.chooses(function):
		return false
	}
	th.omitted++
	return true
}

// chooses reports whether a call is recorded that is chosen from.
func (th *thread) chooses(function uint32) bool {
	x, ok := units.Load(function)
	if !ok {
		x, _ = units.LoadOrStore(function, &unit{})
	}
	u := x.(*unit)
	n := u.seen.Add(1)
	switch {
	case n == 1:
		if th.announce(); th.depth == 0 && (th.rooted || th.number == 1) {
			th.unit = 1
		}
		return true
	case every > 0 && (n-1)%every == 0, every == 0 && affordable():
		th.announce()
		return true
	}
	u.omit(function)
	return false
}

// omit notes in the log that a call was left out.
func (u *unit) omit(function uint32) {
	n := u.omitted.Add(1)
	if n == 1 {
		r := appendHead(nil, majorArray, 3)
		r = appendHead(r, majorUint, recordOmitted)
		r = appendHead(r, majorUint, uint64(function))
		entry := log.record(binary.BigEndian.AppendUint64(append(r, majorUint<<5|27), 1))
		u.entry.Store(&entry)
		return
	}
	if b := u.entry.Load(); b != nil && len(*b) >= 8 {
		binary.BigEndian.PutUint64((*b)[len(*b)-8:], n) // the last one to write may not be the largest
	}
}

// returned notes the end of a call that was left out.
func returned() {
	th := currentThread()
	if th.omitted == 0 {
		return
	}
	if th.omitted--; th.omitted == 0 && !th.announced {
		threads.Delete(th.number)
		recent[th.number%uint64(len(recent))].CompareAndSwap(th, nil)
	}
}

// nanosecondsPerByte is what a byte of the log costs, at most, in programs that were measured.
const nanosecondsPerByte = 25

var (
	written atomic.Int64 // bytes of chunks that have been begun
	used    atomic.Int64 // the processor's time, when it was last read
	usedAt  atomic.Int64
)

// affordable reports whether recording has taken less than its share of the processor's time.
func affordable() bool {
	const fresh = 1_000_000 // nanoseconds for which the processor's time is not read again
	if t := now(); t-usedAt.Load() > fresh {
		usedAt.Store(t)
		var u syscall.Rusage
		if syscall.Getrusage(syscall.RUSAGE_SELF, &u) == nil {
			used.Store(u.Utime.Nano() + u.Stime.Nano())
		}
	}
	return float64(written.Load()*nanosecondsPerByte) < budget*float64(used.Load())
}
