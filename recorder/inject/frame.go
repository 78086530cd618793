//go:build go1.23

package inject

import (
	"encoding/binary"
	"reflect"
	"runtime"
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
)

// Frame is one activation of a recorded function. The rewriting gives each
// function a variable of this type; nil, in a program that is not being
// recorded, makes every method a no-op. A frame belongs to its goroutine.
type Frame struct {
	th       *thread
	depth    int
	function uint32
	last     uint32 // site of the last line
	returned bool
	args     int       // where the count of the values of Enter or Leave is
	pending  []pending // what the statement that is running assigns to
	sending  []uint64  // the channels that it sends on
}

// pending is a place that a statement assigns to: once it has, say records it.
type pending struct {
	say func(key any)
	key any
}

func now() int64 { return int64(time.Since(started)) }

// Enter begins the call of a function. The arguments follow with P, and On ends
// the event.
func Enter(function uint32) *Frame {
	if !active.Load() {
		return nil
	}
	th := currentThread()
	if th.busy {
		return nil
	}
	depth := th.depth + 1
	if len(th.frames) < depth {
		th.frames = append(th.frames, &Frame{th: th, depth: depth})
	}
	f := th.frames[depth-1]
	f.function, f.last, f.returned, f.pending, f.sending = function, 0, false, f.pending[:0], f.sending[:0]
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
	f.last = site
	f.pending, f.sending = f.pending[:0], f.sending[:0] // of a statement that panicked
	th := f.here()
	if b := th.begin(kindLine, lineRoom); b != nil {
		th.hold(binary.AppendUvarint(b, uint64(site)))
		th.end()
	}
}

// Again says that a loop's line is reached once more. On the first pass it says
// nothing, since the line itself was said before the loop.
func (f *Frame) Again(site uint32) {
	if f != nil && f.last != site {
		f.L(site)
	}
}

// C is L as a condition.
func (f *Frame) C(site uint32) bool {
	f.L(site)
	return true
}

// W says that a variable of the call has been given a value.
func W[T any](f *Frame, variable uint32, p *T) {
	if f != nil {
		f.write(kindWrite, variable, inside(p), planFor(p), false)
	}
}

// F is W for a value that foreign code made, so that a map may be read: nobody
// else holds it yet.
func F[T any](f *Frame, variable uint32, p *T) {
	if f != nil {
		f.write(kindWrite, variable, inside(p), planFor(p), true)
	}
}

// Y is W for a variable that lives at an address: others may hold a reference to it.
func Y[T any](f *Frame, variable uint32, p *T) {
	if f != nil {
		f.write(kindCell, variable, whole(p), planFor(p), false)
	}
}

// S says that the memory at p has been given a value.
func S[T any](f *Frame, p *T) {
	if f != nil {
		f.write(kindStore, 0, whole(p), planFor(p), false)
	}
}

// At remembers a place that a statement is about to assign to, and returns it.
// Stored, after the statement, records what is there.
func At[T any](f *Frame, p *T) *T {
	if f != nil {
		f.pending = append(f.pending, pending{say: func(any) { S(f, p) }})
	}
	return p
}

// Map remembers a map of which a statement is about to set an entry, and returns
// it. Where Key has told the entry's key, Stored records that entry, else all.
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

// Key tells the key of the entry whose map was remembered last, and returns it.
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

// Try records what is at a place whose way the statement may have changed. To go
// that way again can fail; then nothing is recorded.
func Try(f *Frame, place func() any) {
	if f == nil {
		return
	}
	defer func() { _ = recover() }()
	v := reflect.ValueOf(place())
	f.write(kindStore, 0, v.UnsafePointer(), planOf(v.Type().Elem()), false)
}

// M says that the map's entry for the key has been set.
func M[T ~map[K]V, K comparable, V any](f *Frame, m T, key K) {
	if f == nil || m == nil {
		return
	}
	if value, ok := m[key]; ok {
		f.element(kindElement, *(*uintptr)(unsafe.Pointer(&m)), inside(&key), planFor(&key), inside(&value), planFor(&value))
	}
}

// New says what a map holds that was made just now, and returns it.
func New[T ~map[K]V, K comparable, V any](f *Frame, m T) T {
	if f != nil {
		f.here().entries(hide(&m), planFor(&m))
	}
	return m
}

// D says that the map has no entry for the key any more.
func D[T ~map[K]V, K comparable, V any](f *Frame, m T, key K) {
	if f != nil && m != nil {
		f.element(kindDelete, *(*uintptr)(unsafe.Pointer(&m)), hide(&key), planFor(&key), nil, nil)
	}
}

// Ret says that the results are set and the function is about to return.
func (f *Frame) Ret() {
	if f != nil {
		f.returned = true
	}
}

// Back begins the end of the call, first thing in the function that the
// rewriting defers. It reports whether the function returns normally; then its
// results follow with R. It must be called by that deferred function itself.
func (f *Frame) Back() bool {
	if f == nil {
		return false
	}
	th := f.here()
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

// callerOfDeferred names the function that runs the deferred function which
// called Back: the panicking machinery, the end of the goroutine, or else.
func callerOfDeferred() string {
	var pcs [1]uintptr
	if runtime.Callers(4, pcs[:]) == 0 {
		return ""
	}
	frame, _ := runtime.CallersFrames(pcs[:]).Next()
	return frame.Function
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
	th.depth = f.depth - 1 // a chunk that end begins must not name this call any more
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

// Panic says that the program panics with v, and returns it.
func (f *Frame) Panic(v any) any {
	if f != nil {
		f.th.panicking = true
		f.value(kindPanic, hide(&v), planFor(&v))
	}
	return v
}

// Recover says what the program's recover returned, and returns it.
func (f *Frame) Recover(v any) any {
	if f != nil && v != nil {
		f.th.panicking = false
		f.value(kindRecover, hide(&v), planFor(&v))
	}
	return v
}

// Exit says that the program ends itself with a code, and returns it.
func (f *Frame) Exit(code int) int {
	if f != nil {
		f.th.plain(kindExit, uint64(uint32(code)))
	}
	return code
}

// begin starts an event and returns the chunk's bytes so far, or nil if nothing can be recorded.
// Whoever begins must hold what it appended and end.
func (th *thread) begin(kind byte, room int) []byte {
	if !active.Load() {
		return nil
	}
	t := th.last
	if kind != kindMemory && kind != kindSpread { // these tell of the same moment
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

// maxSaid limits the open calls that a chunk begins with.
const maxSaid = 500

// sayStack begins a chunk with the calls that are open, since those before it may
// be gone when the log is read.
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

// hold takes what was appended to the bytes that begin returned.
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

// here returns the frame's thread, once its log says that what follows happens
// in this frame.
func (f *Frame) here() *thread {
	if f.th.current != f {
		f.th.resume(f)
	}
	return f.th
}

// resume says that what follows happens in f, although calls that f made, or
// that run its body as a function, are still open.
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

// hide returns p without the compiler's knowing: recording a variable must not
// make it escape to the heap. The pointer is never kept.
//
//go:nocheckptr
func hide[T any](p *T) unsafe.Pointer {
	x := uintptr(unsafe.Pointer(p))
	//lint:ignore SA4016 the operation is what hides the pointer
	return unsafe.Pointer(x ^ 0)
}

// never is false; what is assigned under it tells the compiler what escapes.
var (
	never bool
	//lint:ignore U1000 it is never read: assigning to it is the point
	hole any
)

// inside hides p and lets what *p refers to escape: an object must keep its address as long as the
// program can refer to it, and a stack that grows moves what is on it.
func inside[T any](p *T) unsafe.Pointer {
	if never {
		hole = *p
	}
	return hide(p)
}

// whole lets *p itself escape: others may hold a reference to it.
func whole[T any](p *T) unsafe.Pointer {
	if never {
		hole = p
	}
	return unsafe.Pointer(p)
}
