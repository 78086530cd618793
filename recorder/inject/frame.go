//go:build go1.23

package inject

import (
	"encoding/binary"
	"runtime"
	"strings"
	"time"
	"unsafe"
)

// Event kinds of the format.
const (
	kindEnter   = 1
	kindLine    = 2
	kindWrite   = 3
	kindCell    = 4
	kindMemory  = 5
	kindElement = 6
	kindDelete  = 7
	kindLeave   = 8
	kindUnwind  = 9
	kindPanic   = 10
	kindRecover = 11
	kindFailure = 12
	kindExit    = 13
	kindResume  = 14
	kindEntries = 15
	kindSpread  = 16
	kindStore   = 17
	kindSend    = 18
	kindWait    = 19
	kindPass    = 20
	kindReceive = 21
	kindRelease = 22
	kindOutput  = 23
	kindMove    = 24
	kindOpen    = 25
	kindExposed = 29

	kindSnapshot = 30
)

// Frame is one activation of a recorded function. Each rewritten function has a variable of this
// type. If the program is not being recorded, it is nil and its methods do nothing. A frame belongs
// to its goroutine.
type Frame struct {
	th       *thread
	depth    int
	function uint32
	last     uint32 // site of the last line
	first    uint32 // the same, plus 1, until a loop there begins its first iteration
	returned bool
	args     int       // position of the number of values of Enter or Leave
	pending  []pending // what the statement that is running assigns to
	sending  []uint64  // the channels that it sends on
	lent     []lent    // what it has lent to code that is not recorded
	later    []lent    // what will be lent when deferred calls run
}

// pending is a place that a statement assigns to; say records it after the statement.
type pending struct {
	say func(key any)
	key any
}

func now() int64 { return int64(time.Since(started)) }

// Enter begins a call. P adds the arguments, and On ends the event.
func Enter(function uint32) *Frame {
	if !active.Load() {
		return nil
	}
	th := currentThread()
	if th.busy {
		return nil
	}
	if c := th.current; c != nil && len(c.lent) > 0 {
		c.exposes()
	}
	depth := th.depth + 1
	if len(th.frames) < depth {
		th.frames = append(th.frames, &Frame{th: th, depth: depth})
	}
	f := th.frames[depth-1]
	f.function, f.last, f.first, f.returned, f.pending, f.sending = function, 0, 0, false, f.pending[:0], f.sending[:0]
	b := th.begin(kindEnter, eventRoom)
	if b == nil {
		return nil
	}
	th.depth = depth
	th.current = f
	b = binary.AppendUvarint(b, uint64(function))
	f.args = len(b)
	th.hold(append(b, 0))
	return f
}

// P adds an argument to the event that Enter began.
func P[T any](f *Frame, p *T) {
	if f != nil {
		f.add(inside(p), planFor(p))
	}
}

// On ends the event that Enter began.
func (f *Frame) On() {
	if f != nil {
		f.th.end()
	}
}

// L says that a line is reached.
func (f *Frame) L(site uint32) {
	if f == nil {
		return
	}
	f.last, f.first = site, site+1
	if verifies {
		f.th.snapshotMaps()
	}
	f.pending, f.sending = f.pending[:0], f.sending[:0] // of a statement that panicked
	th := f.here()
	if len(f.lent) > 0 {
		f.forget()
	}
	if b := th.begin(kindLine, lineRoom); b != nil {
		th.hold(binary.AppendUvarint(b, uint64(site)))
		th.end()
	}
}

// Again records that a loop's line is reached again, and reports whether it is. On the first
// iteration it does nothing, because the line was recorded before the loop.
func (f *Frame) Again(site uint32) bool {
	if f == nil {
		return false
	}
	if f.first == site+1 {
		f.first = 0
		return false
	}
	f.L(site)
	f.first = 0
	return true
}

// C is L as a condition.
func (f *Frame) C(site uint32) bool {
	f.L(site)
	return true
}

// W records a new value of a variable of the call.
func W[T any](f *Frame, variable uint32, p *T) {
	if f != nil {
		f.write(kindWrite, variable, inside(p), planFor(p), false)
	}
}

// F is W for a value that foreign code made. Its maps can be read, because nobody else refers to
// them yet.
func F[T any](f *Frame, variable uint32, p *T) {
	if f != nil {
		f.write(kindWrite, variable, inside(p), planFor(p), true)
	}
}

// Y is W for a variable with an address: others can refer to it.
func Y[T any](f *Frame, variable uint32, p *T) {
	if f != nil {
		f.write(kindCell, variable, whole(p), planFor(p), false)
	}
}

// S records a new value of the memory at p.
func S[T any](f *Frame, p *T) {
	if f != nil {
		f.write(kindStore, 0, whole(p), planFor(p), false)
	}
}

// At remembers a place before a statement assigns to it, and returns it. After the statement,
// Stored records its value.
func At[T any](f *Frame, p *T) *T {
	if f != nil {
		f.pending = append(f.pending, pending{say: func(any) { S(f, p) }})
	}
	return p
}

// Map remembers a map before a statement sets one of its entries, and returns it. Stored records
// the entry if Key has its key, else all entries.
func Map[T ~map[K]V, K comparable, V any](f *Frame, m T) T {
	if f != nil {
		f.pending = append(f.pending, pending{say: func(key any) {
			if k, ok := key.(K); ok {
				M(f, m, k)
			} else {
				New(f, m)
			}
		}})
	}
	return m
}

// Key remembers the key of an entry of the last remembered map, and returns it.
func Key[K any](f *Frame, key K) K {
	if f != nil && len(f.pending) > 0 {
		f.pending[len(f.pending)-1].key = key
	}
	return key
}

// Stored records the places that a statement has assigned to.
func (f *Frame) Stored() {
	if f == nil {
		return
	}
	for _, p := range f.pending {
		p.say(p.key)
	}
	f.pending = f.pending[:0]
}

// M records that the entry of a map was set.
func M[T ~map[K]V, K comparable, V any](f *Frame, m T, key K) {
	if f == nil || m == nil {
		return
	}
	if value, ok := m[key]; ok {
		f.element(kindElement, *(*uintptr)(unsafe.Pointer(&m)), inside(&key), planFor(&key), inside(&value), planFor(&value))
		f.th.used(*(*unsafe.Pointer)(unsafe.Pointer(&m)), planFor(&m))
	}
}

// Entry is M for a key that is assigned to the map's key type.
func Entry[T ~map[K]V, K comparable, V any](f *Frame, m T) func(key K) {
	return func(key K) { M(f, m, key) }
}

// New records all entries of a new or cleared map, and returns it.
func New[T ~map[K]V, K comparable, V any](f *Frame, m T) T {
	if f != nil {
		f.here().entries(hide(&m), planFor(&m))
	}
	return m
}

// D records that the entry of a map was deleted.
func D[T ~map[K]V, K comparable, V any](f *Frame, m T, key K) {
	if f != nil && m != nil {
		f.element(kindDelete, *(*uintptr)(unsafe.Pointer(&m)), hide(&key), planFor(&key), nil, nil)
		f.th.used(*(*unsafe.Pointer)(unsafe.Pointer(&m)), planFor(&m))
	}
}

// Ret records that the results are set and the function returns.
func (f *Frame) Ret() {
	if f != nil {
		f.returned = true
	}
}

// Back begins the end of the call. It is the first call in the function that the rewriting defers,
// and must be called by that function itself, or by one that it defers. It reports whether the
// function returns normally; then R records the results.
func (f *Frame) Back() bool {
	if f == nil {
		return false
	}
	if len(f.later) > 0 {
		f.lent = append(f.lent, f.later...)
		clear(f.later)
		f.later = f.later[:0]
	}
	th := f.here()
	if len(f.lent) > 0 {
		f.forget()
	}
	if !f.returned {
		switch callerOfDeferred() {
		case "runtime.gopanic":
			if !th.panicking {
				th.panicking = true
				th.plain(kindPanic, 0)
			}
			th.plain(kindUnwind, 1)
			return false
		case "runtime.Goexit":
			th.plain(kindUnwind, 2)
			return false
		}
	}
	th.panicking = false
	b := th.begin(kindLeave, eventRoom)
	if b == nil {
		return false
	}
	f.args = len(b)
	th.hold(append(b, 0))
	return true
}

// callerOfDeferred returns the name of the runtime's function that runs the deferred function with
// the call of Back: that of panics, of the end of a goroutine, or another one.
func callerOfDeferred() string {
	var pcs [6]uintptr
	frames := runtime.CallersFrames(pcs[:runtime.Callers(3, pcs[:])])
	for range pcs { // the deferred function, and what the compiler put around it
		if frame, _ := frames.Next(); strings.HasPrefix(frame.Function, "runtime.") {
			return frame.Function
		}
	}
	return ""
}

// R adds a result to the event that Back began.
func R[T any](f *Frame, p *T) {
	if f != nil {
		f.add(inside(p), planFor(p))
	}
}

// Off ends the call.
func (f *Frame) Off() {
	if f == nil {
		return
	}
	th := f.th
	if len(th.kept) > 0 {
		th.drop(f.depth)
	}
	th.depth = f.depth - 1 // a chunk that end begins must not contain this call
	th.end()
	th.current = nil
	if th.depth > 0 {
		th.current = th.frames[th.depth-1]
		return
	}
	log.giveBack(th.chunk)
	th.chunk, th.frames = chunk{}, nil
	if th.rooted {
		threads.Delete(th.number)
		recent[th.number%uint64(len(recent))].CompareAndSwap(th, nil)
	}
}

// Panic records that the program panics with v, and returns v.
func (f *Frame) Panic(v any) any {
	if f != nil {
		f.th.panicking = true
		f.value(kindPanic, hide(&v), planFor(&v))
	}
	return v
}

// Recover records the result of the program's recover, and returns it.
func (f *Frame) Recover(v any) any {
	if f != nil && v != nil {
		if th := f.th; !th.panicking && f.depth > 1 && th.depth == f.depth {
			// The runtime panicked in the call that deferred this one; nothing has said so yet.
			th.frames[f.depth-2].value(kindPanic, hide(&v), planFor(&v))
		}
		f.th.panicking = false
		f.value(kindRecover, hide(&v), planFor(&v))
	}
	return v
}

// Exit records that the program exits with a code, and returns the code.
func (f *Frame) Exit(code int) int {
	if f != nil {
		f.th.plain(kindExit, uint64(uint32(code)))
	}
	return code
}

// begin starts an event and returns the chunk's bytes so far, or nil if nothing can be recorded.
// The caller must call hold with the result of its appends, and end.
func (th *thread) begin(kind byte, room int) []byte {
	if !active.Load() {
		return nil
	}
	t := th.last
	if kind != kindMemory && kind != kindSpread && kind != kindSnapshot { // these tell of the same moment
		t = now()
	}
	c := &th.chunk
	if len(c.mem)-c.n < room {
		*c = log.chunk(th.id, t, *c)
		if c.mem == nil {
			return nil
		}
		th.last = t
		if log.ring > 0 {
			th.sayStack()
		}
	}
	th.start = c.n
	b := append(c.mem[:c.n], kind)
	b = binary.AppendUvarint(b, uint64(max(t-th.last, 0)))
	th.last = max(t, th.last)
	th.busy = true
	return b
}

// maxSaid limits the open calls at the beginning of a chunk.
const maxSaid = 500

// sayStack begins a chunk with the open calls, because earlier chunks may be missing when the log
// is read.
func (th *thread) sayStack() {
	c := &th.chunk
	b := c.mem[:c.n]
	for i := range min(th.depth, maxSaid) {
		f := th.frames[i]
		b = append(b, kindOpen, 0)
		b = binary.AppendUvarint(b, uint64(f.last))
		b = binary.AppendUvarint(b, uint64(i+1))
		b = binary.AppendUvarint(b, uint64(f.function))
	}
	if th.current != nil && th.current.depth < th.depth {
		b = append(b, kindResume, 0)
		b = binary.AppendUvarint(b, uint64(th.current.depth))
	}
	c.n = len(b)
	c.commit()
}

// complete makes the event with the bytes b part of the log, without what it refers to.
func (th *thread) complete(b []byte) {
	th.hold(b)
	th.chunk.commit()
	th.busy = false
}

// hold stores the bytes that were appended to the result of begin.
func (th *thread) hold(b []byte) { th.chunk.n = len(b) }

// end makes the event part of the log, and then writes what it refers to.
func (th *thread) end() {
	if !th.busy {
		return
	}
	th.chunk.commit()
	th.busy = false
	if len(th.queue) > 0 {
		th.writeQueue()
	}
}

func (th *thread) plain(kind byte, n uint64) {
	b := th.begin(kind, lineRoom)
	if b == nil {
		return
	}
	if kind == kindPanic {
		b = append(b, 0)
	} else {
		b = binary.AppendUvarint(b, n)
	}
	th.hold(b)
	th.end()
}

// here returns the frame's thread, after recording that the following events belong to this frame.
func (f *Frame) here() *thread {
	if f.th.current != f {
		f.th.resume(f)
	}
	if len(f.lent) > 0 {
		f.reread()
	}
	return f.th
}

// resume records that the following events belong to f, although its calls are still open.
func (th *thread) resume(f *Frame) {
	th.current = f
	th.plain(kindResume, uint64(f.depth))
}

func (f *Frame) add(p unsafe.Pointer, pl *plan) {
	th := f.th
	if !th.busy || th.chunk.mem == nil {
		return
	}
	b := th.chunk.mem[:th.chunk.n]
	if b[f.args] == 255 || cap(b)-len(b) < eventRoom/2 {
		return
	}
	b[f.args]++
	th.hold(th.encode(b, p, pl, 0))
}

func (f *Frame) write(kind byte, variable uint32, p unsafe.Pointer, pl *plan, fresh bool) {
	th := f.here()
	b := th.begin(kind, eventRoom)
	if b == nil {
		return
	}
	if kind != kindStore {
		b = binary.AppendUvarint(b, uint64(variable))
	}
	if kind != kindWrite {
		noteStore(uint64(uintptr(p)), pl.size)
		if kind == kindCell && !knows(p) {
			outdate(uint64(uintptr(p)))
		}
		b = binary.AppendUvarint(b, uint64(uintptr(p)))
	}
	th.hold(th.encode(b, p, pl, 0))
	th.end()
	if fresh && pl.form == formMap {
		th.entries(p, pl)
	}
}

func (f *Frame) element(kind byte, address uintptr, key unsafe.Pointer, keyPlan *plan, value unsafe.Pointer, valuePlan *plan) {
	th := f.here()
	b := th.begin(kind, eventRoom)
	if b == nil {
		return
	}
	b = th.encode(binary.AppendUvarint(b, uint64(address)), key, keyPlan, 0)
	if valuePlan != nil {
		b = th.encode(b, value, valuePlan, 0)
	}
	th.hold(b)
	th.end()
}

func (f *Frame) value(kind byte, p unsafe.Pointer, pl *plan) {
	th := f.here()
	if b := th.begin(kind, eventRoom); b != nil {
		th.hold(th.encode(append(b, 1), p, pl, 0))
		th.end()
	}
}

// hide returns p without letting it escape: recording a variable must not
// move it to the heap. The pointer is never kept.
//
//go:nocheckptr
func hide[T any](p *T) unsafe.Pointer {
	x := uintptr(unsafe.Pointer(p))
	//lint:ignore SA4016 the operation is what hides the pointer
	return unsafe.Pointer(x ^ 0)
}

// never is false. Assignments under it tell the compiler what escapes.
var (
	never bool
	//lint:ignore U1000 it is never read: assigning to it is the point
	hole any
)

// inside hides p and lets what *p refers to escape: an object must keep its address as long as the
// program can refer to it, but stacks move when they grow.
func inside[T any](p *T) unsafe.Pointer {
	if never {
		hole = *p
	}
	return hide(p)
}

// whole lets *p itself escape: others can refer to it.
func whole[T any](p *T) unsafe.Pointer {
	if never {
		hole = p
	}
	return unsafe.Pointer(p)
}
