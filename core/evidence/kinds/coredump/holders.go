package coredump

import (
	"context"
	"encoding/binary"
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/elfcore"
)

// waitsForMutex describes the owner of the POSIX mutex that a thread waits for in the kernel; empty
// if it waits for none.
func (d *Dump) waitsForMutex(t *elfcore.Thread) string {
	at, ok := d.futexOf(t)
	if !ok {
		return ""
	}
	owner, ok := d.mutexOwnerNumber(at)
	if !ok || owner == uint64(t.ID) {
		return ""
	}
	if _, ok := d.threadNumbered(owner); !ok {
		return ""
	}
	return fmt.Sprintf("waiting for the mutex at 0x%x (%s), which thread %d holds", at, d.describeAddress(at), owner)
}

// maxHolding limits the goroutines that are named as possible holders of a mutex, maxLooked those
// that are examined.
const (
	maxHolding = 3
	maxLooked  = 20_000
)

// mayHold names goroutines that may hold a Go mutex with waiters. A mutex does not record its
// owner. Candidates are goroutines with a pointer in a variable of an own function to the object
// with the mutex that do not wait for it.
func (r *goRuntime) mayHold(ctx context.Context, semaphore uint64) string {
	var names []string
	looked := 0
	for i := range r.d.threads {
		t := &r.d.threads[i]
		if t.goroutine == nil || r.semaphores[t.goroutine.record.Address] == semaphore || !r.onStack(t.goroutine, semaphore) {
			continue
		}
		if looked++; looked > maxLooked || ctx.Err() != nil {
			break
		}
		function, ok := r.inHand(ctx, t.ID, semaphore)
		if !ok {
			continue
		}
		if len(names) == maxHolding {
			names = append(names, "others")
			break
		}
		names = append(names, fmt.Sprintf("goroutine %d in %s", t.ID, function))
	}
	return strings.Join(names, ", ")
}

// maxObject is the maximum distance of a semaphore from the start of its object.
const maxObject = 4096

// onStack reports whether a goroutine's stack contains a pointer that may lead to the object with a
// semaphore. It is a quick filter before inHand.
func (r *goRuntime) onStack(g *goroutine, semaphore uint64) bool {
	sp := g.record.In("sched").Uint("sp")
	stack := g.record.In("stack")
	low, high := stack.Uint("lo"), stack.Uint("hi")
	if sp < low || sp >= high {
		sp = low
	}
	b := r.d.core.Memory.Known(sp, min(high-sp, 64<<10))
	for i := 0; i+8 <= len(b); i += 8 {
		if v := binary.LittleEndian.Uint64(b[i:]); v <= semaphore && semaphore-v < maxObject {
			return true
		}
	}
	return false
}

// inHand finds an own function on a goroutine's stack with a pointer to the object with a
// semaphore.
func (r *goRuntime) inHand(ctx context.Context, id event.ThreadID, semaphore uint64) (string, bool) {
	list, err := r.d.framesOf(ctx, 0, id)
	if err != nil {
		return "", false
	}
	for i := range list {
		if !list[i].Own {
			continue
		}
		for _, v := range list[i].variables() {
			x := r.d.variable(&list[i], v).Value
			if x.State != event.Known || x.Nil || x.Address > semaphore {
				continue
			}
			object := x.Type
			switch x.Form() {
			case event.Pointer:
				object = r.d.memory.Type(object.Elem)
			case event.Struct:
			default:
				continue
			}
			if object != nil && semaphore-x.Address < object.Size {
				return list[i].Function, true
			}
		}
	}
	return "", false
}

// WaitsFor implements replay.Waiter for goroutines that wait for a mutex.
func (d *Dump) WaitsFor(ctx context.Context, at event.Moment, t event.ThreadID) (string, error) {
	th, err := d.thread(at, t)
	if err != nil || th.goroutine == nil {
		return "", err
	}
	semaphore, ok := d.golang.semaphores[th.goroutine.record.Address]
	if !ok || !strings.Contains(th.State, "Mutex") {
		return "", nil
	}
	holders := d.golang.mayHold(ctx, semaphore)
	if holders == "" {
		return "", ctx.Err()
	}
	return "may be held by " + holders, ctx.Err()
}
