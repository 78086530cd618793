package coredump

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/elfcore"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/replay"
)

// Waits implements replay.WaitGraph.
func (d *Dump) Waits(ctx context.Context, at event.Moment) ([]replay.Wait, error) {
	threads, err := d.Threads(ctx, at)
	if err != nil {
		return nil, err
	}
	var out []replay.Wait
	for _, t := range threads {
		th, err := d.thread(at, t.ID)
		if err != nil {
			return nil, err
		}
		w, ok, err := d.waitOf(ctx, th)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		w.Thread = t.ID
		out = append(out, w)
	}
	return out, ctx.Err()
}

func (d *Dump) waitOf(ctx context.Context, th *thread) (out replay.Wait, ok bool, err error) {
	var w waiting
	if th.goroutine == nil && d.golang != nil {
		return out, false, nil // threads of Go's runtime run goroutines
	}
	frames, err := d.framesOf(ctx, 0, th.ID)
	if err != nil {
		if ctx.Err() != nil {
			return out, false, ctx.Err()
		}
		return out, false, nil // its stack was not kept
	}
	if th.goroutine != nil {
		w, ok = d.golang.wait(th.goroutine)
	} else {
		w, ok = d.nativeWait(&d.core.Threads[th.lwp], frames)
	}
	if !ok {
		return out, false, nil
	}
	here := 0
	for i := range frames {
		if frames[i].Own {
			here = i
			break
		}
	}
	if len(frames) > 0 {
		w.Function, w.File, w.Line = frames[here].Function, frames[here].File, frames[here].Line
	}
	if at := w.address; at != 0 && w.On != replay.WaitThread {
		w.Name = d.nameOf(frames, at)
	}
	if th.goroutine != nil && (w.On == replay.WaitMutex || w.On == replay.WaitReadWrite) {
		if w.Note, err = d.WaitsFor(ctx, 0, th.ID); err != nil {
			return w.Wait, false, err
		}
	}
	return w.Wait, true, nil
}

// blockers are the functions of the C library in which a thread waits, and for what. They are the innermost frames.
var blockers = []struct{ name, on string }{
	{"pthread_mutex", replay.WaitMutex}, {"lll_lock_wait", replay.WaitMutex}, {"pthread_cond_", replay.WaitCondition}, {"pthread_rwlock_", replay.WaitReadWrite}, {"sem_wait", replay.WaitSemaphore}, {"sem_timedwait", replay.WaitSemaphore}, {"sem_clockwait", replay.WaitSemaphore},
	{"pthread_barrier_wait", replay.WaitBarrier}, {"pthread_join", replay.WaitThread}, {"pthread_clockjoin", replay.WaitThread}, {"pthread_timedjoin", replay.WaitThread}, {"nanosleep", replay.WaitTimer}, {"usleep", replay.WaitTimer},
	{"epoll_wait", replay.WaitInput}, {"epoll_pwait", replay.WaitInput}, {"poll", replay.WaitInput}, {"select", replay.WaitInput}, {"read", replay.WaitInput}, {"recv", replay.WaitInput}, {"accept", replay.WaitInput}, {"futex", replay.WaitLock}, {"wait4", replay.WaitThread},
}

// mostBlocking is how many innermost frames may be those of the C library's waiting.
const mostBlocking = 6

// nativeWait returns what a thread waits for in the C library.
func (d *Dump) nativeWait(t *elfcore.Thread, frames []frame) (w waiting, ok bool) {
	for i := 0; i < len(frames) && i < mostBlocking && !ok; i++ {
		name := plainFunction(frames[i].Function)
		for _, b := range blockers {
			if name == b.name || strings.HasPrefix(name, b.name) && len(b.name) > len("select") {
				w.On, ok = b.on, true
				break
			}
		}
		if frames[i].Own {
			break
		}
	}
	at, known := d.futexOf(t)
	if !known {
		return w, ok
	}
	if !ok { // the C library's frames have no names
		if _, is := d.mutexOwner(at); !is {
			return w, false
		}
		w.On, ok = replay.WaitMutex, true
	}
	switch w.address = at; w.On {
	case replay.WaitMutex:
		if owner, is := d.mutexOwner(at); is {
			w.Holders = append(w.Holders, owner)
		}
	case replay.WaitThread:
		if id, read := d.core.Memory.Uint(at, 4); read {
			if owner, is := d.threadNumbered(id); is && owner != event.ThreadID(t.ID) {
				w.Holders = append(w.Holders, owner)
			}
		}
	case replay.WaitReadWrite:
		// glibc, struct __pthread_rwlock_arch_t: the words that are waited for, and the writer.
		const writerAt = 24
		for _, offset := range []uint64{0, 8, 12} {
			if id, read := d.core.Memory.Uint(at-offset+writerAt, 4); read && id != 0 {
				if owner, is := d.threadNumbered(id); is {
					w.address = at - offset
					w.Holders = append(w.Holders, owner)
					break
				}
			}
		}
	}
	return w, ok
}

// plainFunction removes what the C library puts before the name of an inner function.
func plainFunction(name string) string {
	for {
		plain := strings.TrimLeft(name, "_")
		for _, prefix := range []string{"GI_", "libc_", "new_"} {
			plain = strings.TrimPrefix(plain, prefix)
		}
		if plain == name {
			return name
		}
		name = plain
	}
}

// waiting is a wait, with the address of what is waited for.
type waiting struct {
	replay.Wait
	address uint64
}

// futexOf returns the address of the futex that a thread waits for in the kernel.
func (d *Dump) futexOf(t *elfcore.Thread) (at uint64, ok bool) {
	const futexAMD64 = 202
	if d.core.Arch != machine.AMD64 || !t.Registers.InCall || t.Registers.Call != futexAMD64 {
		return 0, false
	}
	return t.Registers.Get(d.core.Arch.Named("rdi"))
}

// mutexOwner returns the thread that owns the mutex at an address.
func (d *Dump) mutexOwner(at uint64) (event.ThreadID, bool) {
	number, ok := d.mutexOwnerNumber(at)
	if !ok {
		return 0, false
	}
	return d.threadNumbered(number)
}

// mutexOwnerNumber returns the kernel's number of the thread that owns the mutex at an address (glibc, struct
// __pthread_mutex_s: lock, count, owner).
func (d *Dump) mutexOwnerNumber(at uint64) (uint64, bool) {
	const ownerAt, mostState = 8, 2
	lock, ok := d.core.Memory.Uint(at, 4)
	owner, ok2 := d.core.Memory.Uint(at+ownerAt, 4)
	return owner, ok && ok2 && lock != 0 && lock <= mostState && owner != 0
}

// threadNumbered returns the thread with a number of the kernel.
func (d *Dump) threadNumbered(number uint64) (event.ThreadID, bool) {
	for i := range d.core.Threads {
		if uint64(d.core.Threads[i].ID) == number {
			id := event.ThreadID(number)
			if d.golang != nil {
				id += threadsBase
			}
			return id, true
		}
	}
	return 0, false
}

// goWaits are the runtime's words for what goroutines wait for (package runtime, waitReason).
var goWaits = map[string]string{
	"chan receive": replay.WaitChannel, "chan send": replay.WaitChannel, "chan receive (nil chan)": replay.WaitChannel, "chan send (nil chan)": replay.WaitChannel, "select": replay.WaitSelect, "select (no cases)": replay.WaitSelect,
	"sync.Mutex.Lock": replay.WaitMutex, "sync.RWMutex.Lock": replay.WaitReadWrite, "sync.RWMutex.RLock": replay.WaitReadWrite, "sync.WaitGroup.Wait": replay.WaitGroup, "sync.Cond.Wait": replay.WaitCondition,
	"semacquire": replay.WaitSemaphore, "sleep": replay.WaitTimer, "IO wait": replay.WaitInput,
}

// wait returns what a goroutine waits for.
func (r *goRuntime) wait(g *goroutine) (w waiting, ok bool) {
	if g.status != statusWaiting {
		return w, false
	}
	if w.On, ok = goWaits[r.state(g)]; !ok {
		return w, false
	}
	w.address = r.semaphores[g.record.Address]
	if w.address == 0 && w.On == replay.WaitChannel {
		w.address = g.record.To("waiting").Uint("c")
	}
	return w, true
}

// nameOf names what is at an address: a variable of the innermost own frames that leads there, a symbol, or the address.
func (d *Dump) nameOf(frames []frame, at uint64) string {
	own := 0
	for i := range frames {
		if !frames[i].Own {
			continue
		}
		if own++; own > mostOwn {
			break
		}
		for _, v := range frames[i].variables() {
			x := d.variable(&frames[i], v).Value
			if path, ok := d.leads(v.Name, x, at); ok {
				return path
			}
		}
	}
	symbol, offset, within := strings.Cut(d.symbol(at), " + ")
	for i := range frames {
		if symbol == "" || !frames[i].Own || frames[i].function == nil {
			continue
		}
		if v, ok := d.global(&frames[i], symbol); ok {
			if path, ok := d.leads(symbol, d.variable(&frames[i], v).Value, at); ok {
				return path
			}
		}
		break
	}
	if n, err := strconv.ParseUint(offset, 10, 64); within && (err != nil || n >= largestLock) {
		return symbol + " + " + offset
	}
	if symbol != "" {
		return symbol
	}
	return fmt.Sprintf("0x%x", at)
}

// largestLock is the size of the largest object of the C library that threads wait at.
const largestLock = 56

// mostOwn limits the frames whose variables are looked at, mostSteps the fields that a path goes through.
const (
	mostOwn   = 3
	mostSteps = 6
)

// leads returns the path of the part of a variable at an address: of an object, or of what a pointer points to.
func (d *Dump) leads(name string, x replay.Value, at uint64) (string, bool) {
	if x.State != event.Known || x.Type == nil || x.Nil {
		return "", false
	}
	switch x.Form() {
	case event.Chan:
		return name, x.Address == at
	case event.Pointer:
		of := d.memory.Type(x.Type.Elem)
		if of == nil || at < x.Address || at-x.Address >= max(of.Size, 1) {
			return "", false
		}
		return d.fieldAt(name, of, at-x.Address, mostSteps), true
	case event.Struct:
		if x.Address == 0 || at < x.Address || at-x.Address >= x.Type.Size {
			return "", false
		}
		return d.fieldAt(name, x.Type, at-x.Address, mostSteps), true
	}
	return "", false
}

// fieldAt extends a path to the field at an offset. It ends at the types of locks.
func (d *Dump) fieldAt(path string, of *event.Type, offset uint64, steps int) string {
	if of == nil || of.Form != event.Struct || steps == 0 || strings.HasPrefix(of.Name, "sync.") || strings.HasPrefix(of.Name, "std::") || strings.HasPrefix(of.Name, "pthread_") || strings.HasPrefix(of.Name, "__pthread") || strings.HasPrefix(of.Name, "sem_") {
		return path
	}
	for _, f := range of.Fields {
		inner := d.memory.Type(f.Type)
		if inner != nil && offset >= f.Offset && offset-f.Offset < inner.Size {
			return d.fieldAt(path+"."+f.Name, inner, offset-f.Offset, steps-1)
		}
	}
	return path
}
