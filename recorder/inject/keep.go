//go:build go1.23

package inject

import (
	"sync"
	"sync/atomic"
)

// kept are small objects to which code that is not recorded may have kept a reference, such as the
// variable of a command-line flag. They are read again after each call of such code. Only objects
// without references are kept, so that the recorder keeps little alive.
var (
	kept      [maxKept]atomic.Pointer[lent]
	keptCount atomic.Int32 // also those that had to make room
	keepLock  sync.Mutex
)

const (
	maxKept     = 64
	maxKeptSize = 64 // bytes
)

// keepable reports whether an object is small and refers to nothing but text.
func (l *lent) keepable() bool {
	return l.at != nil && !l.entries && l.count+l.more == 0 && l.plan.size <= maxKeptSize && !l.plan.leads && l.plan.form != formOpaque && l.plan.form != formChan && l.plan.form != formFunc
}

// keep remembers an object. The one that must make room may have changed from then on.
func keep(th *thread, l *lent) {
	keepLock.Lock()
	defer keepLock.Unlock()
	for i := range min(int(keptCount.Load()), maxKept) {
		if k := kept[i].Load(); k.at == l.at && k.plan == l.plan {
			return
		}
	}
	object := *l
	at := int(keptCount.Load()) % maxKept
	if old := kept[at].Load(); old != nil {
		old.expose(th)
	}
	kept[at].Store(&object)
	keptCount.Add(1)
}

// rereadKept records the kept objects that have changed.
func rereadKept(th *thread) {
	for i := range min(int(keptCount.Load()), maxKept) {
		if k := kept[i].Load(); k != nil {
			k.object(th)
		}
	}
}

// Kept remembers the target of a pointer that code that is not recorded has made.
func Kept[T any](f *Frame, by *Lender, p *T) {
	if f != nil && p != nil {
		l := lent{at: whole(p), plan: planFor(p), own: true, by: by}
		switch {
		case l.keepable():
			keep(f.here(), &l)
		case l.plan.form == formStruct:
			f.keep(&l)
		}
	}
}

// maxKeptHere limits the foreign objects that a goroutine keeps.
const maxKeptHere = 32

// keptHere is a foreign object that a call of a goroutine has passed to code that is not recorded,
// such as the buffer of a writer. It is read again after calls of such code until the call ends.
type keptHere struct {
	lent
	depth int // of the call
}

// keep remembers a foreign object until the call ends.
func (f *Frame) keep(l *lent) {
	th := f.th
	for _, k := range th.kept {
		if k.at == l.at && k.plan == l.plan {
			return
		}
	}
	if len(th.kept) < maxKeptHere {
		th.kept = append(th.kept, keptHere{*l, f.depth})
	}
}

// drop forgets the objects of a call that ends, and of those that it made.
func (th *thread) drop(depth int) {
	n := len(th.kept)
	for n > 0 && th.kept[n-1].depth >= depth {
		n--
	}
	clear(th.kept[n:])
	th.kept = th.kept[:n]
}
