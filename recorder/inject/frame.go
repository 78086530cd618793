//go:build go1.23

package inject

import (
	"encoding/binary"
	"runtime"
	"strings"
	"sync/atomic"
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
	kindMade     = 31

	// untimed is set in the kind of an event whose time was not read from the clock.
	untimed = 0x80
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
	broke    bool // a loop is being left before its last step
	// clocked is set while a line runs that calls code which may wait for other goroutines, wake them or
	// change memory. unseen is set then, and while a line runs that makes objects without saying so.
	clocked, unseen bool
	args            int       // position of the number of values of Enter or Leave
	pending         []pending // what the statement that is running assigns to
	sending         []uint64  // the channels that it sends on
	lent            []lent    // what it has lent to code that is not recorded
	later           []lent    // what will be lent when deferred calls run
}

// pending is a place that a statement assigns to; say records it after the statement.
type pending struct {
	say func(key any)
	key any
}

// nanotime is the runtime's monotonic clock. time.Since costs a third more.
//
//go:linkname nanotime runtime.nanotime
func nanotime() int64

func now() int64 { return nanotime() - begun }

// Enter begins a call. P adds the arguments, and On ends the event.
func Enter(function uint32) *Frame {
	if !active.Load() {
		return nil
	}
	th := currentThread()
	if sampling && th.omits(function) || th.busy {
		return nil
	}
	if c := th.current; c != nil {
		if len(c.lent) > 0 {
			c.exposes()
		}
		if c.unseen { // what is not recorded may have changed memory
			th.unseen()
		}
	}
	depth := th.depth + 1
	if len(th.frames) < depth {
		th.frames = append(th.frames, &Frame{th: th, depth: depth})
	}
	f := th.frames[depth-1]
	f.function, f.last, f.first, f.returned, f.broke, f.clocked, f.unseen, f.pending, f.sending = function, 0, 0, false, false, false, false, f.pending[:0], f.sending[:0]
	b := th.begin(kindEnter, eventRoom)
	if b == nil {
		if sampling {
			th.omitted++
		}
		return nil
	}
	if sampling && depth == th.unit+1 {
		th.began, th.salt = th.before+int64(th.start), recordedWhole.Add(1)*prime
	}
	th.depth = depth
	th.current, th.quick = f, nil
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
		f.th.quick = f
	}
}

// L says that a line is reached whose code may wait for other goroutines, wake them, or change
// memory without being recorded. The times of all events are read from the clock until the next line
// is reached.
func (f *Frame) L(site uint32) {
	if f != nil {
		f.clocked, f.unseen, f.th.quick = true, true, nil
		f.th.unseen()
		f.line(site)
	}
}

// O says that a line is reached that makes objects which are not said to be made. The time is not
// read.
func (f *Frame) O(site uint32) {
	if f != nil {
		f.N(site)
		f.unseen, f.th.quick = true, nil
		f.th.unseen()
	}
}

// N says that any other line is reached. The time is not read.
func (f *Frame) N(site uint32) {
	if f == nil {
		return
	}
	th := f.th
	c := &th.chunk
	if th.quick != f || c.n > th.until || verifies {
		f.line(site)
		if f.unseen {
			f.clocked, f.unseen = false, false
			th.unseen()
		}
		th.settle(f)
		return
	}
	f.last, f.first = site, site+1
	b := c.mem[c.n:]
	b[0] = kindLine | untimed
	c.n += 1 + putNumber(b[1:], site)
	c.commit()
}

// settle sets quick to the current frame if its next line needs no clock and nothing before it.
func (th *thread) settle(f *Frame) {
	th.quick = nil
	if !f.unseen && len(f.lent)|len(f.pending)|len(f.sending) == 0 {
		th.quick = f
	}
}

// putNumber is binary.PutUvarint for numbers that are usually small.
func putNumber(b []byte, n uint32) int {
	if n < 1<<7 {
		b[0] = byte(n)
		return 1
	}
	if n < 1<<14 {
		b[1] = byte(n >> 7)
		b[0] = byte(n) | 0x80
		return 2
	}
	return binary.PutUvarint(b, uint64(n))
}

// planOfInt is the plan of int, once an int has been recorded.
var planOfInt atomic.Pointer[plan]

// I is W for an int.
func (f *Frame) I(variable uint32, x int) {
	if f == nil {
		return
	}
	th := f.th
	c := &th.chunk
	pl := planOfInt.Load()
	if th.quick != f || c.n > th.until || pl == nil {
		if pl == nil {
			planOfInt.Store(planFor(&x))
		}
		W(f, variable, &x)
		return
	}
	b := c.mem[c.n:]
	b[0] = kindWrite | untimed
	n := 1 + putNumber(b[1:], variable)
	n += putNumber(b[n:], pl.id)
	if x >= 0 && x < 24 {
		b[n] = byte(x)
		n++
	} else {
		n = len(appendInt(b[:n], int64(x)))
	}
	c.n += n
	c.commit()
}

// scalar records a new value of a variable that is a number or a truth value.
func (th *thread) scalar(variable uint32, p unsafe.Pointer, pl *plan) {
	c := &th.chunk
	b := append(c.mem[:c.n], kindWrite|untimed)
	b = binary.AppendUvarint(b, uint64(variable))
	b = binary.AppendUvarint(b, uint64(pl.id))
	b = th.item(b, p, pl, 0, len(b)+valueRoom, 0)
	c.n = len(b)
	c.commit()
}

// Unsaid says that a statement may have stored something that cannot be named after it.
func (f *Frame) Unsaid() {
	if f != nil {
		f.th.unseen()
	}
}

func (f *Frame) line(site uint32) {
	f.last, f.first = site, site+1
	f.pending, f.sending = f.pending[:0], f.sending[:0] // of a statement that panicked
	th := f.here()
	if verifies {
		th.snapshotMaps()
	}
	if len(f.lent) > 0 {
		f.forget()
	}
	if b := th.begin(kindLine, lineRoom); b != nil {
		th.hold(binary.AppendUvarint(b, uint64(site)))
		th.end()
	}
}

// Again records that the line of a loop is reached again, and reports whether it is. On the first
// iteration it does nothing, because the line was recorded before the loop. It is L for the line of
// a loop; AgainN is N, and AgainO is O.
func (f *Frame) Again(site uint32) bool {
	if f.begins(site) {
		return false
	}
	f.L(site)
	f.first = 0
	return true
}

// AgainN is Again for N.
func (f *Frame) AgainN(site uint32) bool {
	if f.begins(site) {
		return false
	}
	f.N(site)
	f.first = 0
	return true
}

// AgainO is Again for O.
func (f *Frame) AgainO(site uint32) bool {
	if f.begins(site) {
		return false
	}
	f.O(site)
	f.first = 0
	return true
}

// Breaks says that a loop is left before its last step.
func (f *Frame) Breaks() {
	if f != nil {
		f.broke = true
	}
}

// Ends reports whether a loop that has been left has taken its last step.
func (f *Frame) Ends() bool {
	if f == nil {
		return false
	}
	ends := !f.broke
	f.broke = false
	return ends
}

// begins reports whether a loop begins its first iteration, or nothing is recorded.
func (f *Frame) begins(site uint32) bool {
	if f == nil {
		return true
	}
	if f.first == site+1 {
		f.first = 0
		return true
	}
	return false
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

// B is Y for a variable that begins to exist.
func B[T any](f *Frame, variable uint32, p *T) {
	if f != nil {
		pl := planFor(p)
		f.made(whole(p), pl.size)
		f.write(kindCell, variable, whole(p), pl, false)
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
		f.th.quick = nil
		f.pending = append(f.pending, pending{say: func(any) { S(f, p) }})
	}
	return p
}

// Map remembers a map before a statement sets one of its entries, and returns it. Stored records
// the entry if Key has its key, else all entries.
func Map[T ~map[K]V, K comparable, V any](f *Frame, m T) T {
	if f != nil {
		f.th.quick = nil
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
		th := f.here()
		th.changes++
		th.entries(hide(&m), planFor(&m))
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
		if sampling {
			returned()
		}
		return false
	}
	f.th.quick = nil
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
	th.current, th.quick = nil, nil
	if sampling {
		if th.depth == th.unit {
			written.Add(th.before + int64(th.chunk.n) - th.began)
		}
		th.unit = min(th.unit, th.depth)
	}
	if th.depth > 0 {
		th.current = th.frames[th.depth-1]
		th.settle(th.current)
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
	c := &th.chunk
	t, mark := th.last, byte(0)
	switch {
	case kind == kindMemory || kind == kindSpread || kind == kindSnapshot: // these tell of the same moment
	case kind == kindStore || kind == kindCell: // stamp reads it
	case (kind == kindLine || kind == kindWrite || kind == kindMade || kind == kindResume) && c.n <= th.until && th.current != nil && !th.current.clocked:
		mark = untimed
	default:
		t = now()
	}
	if len(c.mem)-c.n < room {
		if mark != 0 {
			t, mark = now(), 0
		}
		th.before += int64(c.n)
		*c = log.chunk(th.id, t, *c)
		if c.mem == nil { // the disk is full
			th.until, th.quick = -1, nil
			return nil
		}
		th.last, th.until = t, len(c.mem)-lineRoom
		if log.ring > 0 {
			th.sayStack()
		}
	}
	if t != th.last {
		th.until = min(c.n+maxUnread, len(c.mem)-lineRoom)
	}
	th.start = c.n
	b := append(c.mem[:c.n], kind|mark)
	if mark == 0 {
		b = binary.AppendUvarint(b, uint64(max(t-th.last, 0)))
		th.last = max(t, th.last)
	}
	th.busy = true
	return b
}

// stamp gives an event that tells what memory holds its time. The clock is read after the memory:
// another thread may change that in between, and its change would seem to be earlier than it was.
func (th *thread) stamp(b []byte) []byte {
	t := now()
	var time [binary.MaxVarintLen64]byte
	n := binary.PutUvarint(time[:], uint64(max(t-th.last, 0)))
	at := th.start + 1
	b = append(b, time[:n-1]...) // begin left one byte for it
	copy(b[at+n:], b[at+1:len(b)-n+1])
	copy(b[at:], time[:n])
	th.last = max(t, th.last)
	th.until = min(len(b)+maxUnread, len(th.chunk.mem)-lineRoom)
	return b
}

// maxUnread limits the bytes of the events in a row whose times are not read.
const maxUnread = 1000

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
	th.current, th.quick = f, nil
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
	if kind == kindWrite && pl.form <= formFloat && f.th.quick == f && f.th.chunk.n <= f.th.until {
		f.th.scalar(variable, p, pl)
		return
	}
	th := f.here()
	b := th.begin(kind, eventRoom)
	if b == nil {
		return
	}
	if kind != kindStore {
		b = binary.AppendUvarint(b, uint64(variable))
	}
	if kind == kindWrite {
		th.hold(th.encode(b, p, pl, 0))
	} else {
		says(uint64(uintptr(p)), pl.size)
		noteStore(uint64(uintptr(p)), pl.size)
		if kind == kindCell && !knows(p) {
			outdate(uint64(uintptr(p)))
		}
		th.hold(th.stamp(th.encode(binary.AppendUvarint(b, uint64(uintptr(p))), p, pl, 0)))
	}
	th.end()
	if fresh && pl.form == formMap {
		th.entries(p, pl)
	}
}

func (f *Frame) element(kind byte, address uintptr, key unsafe.Pointer, keyPlan *plan, value unsafe.Pointer, valuePlan *plan) {
	th := f.here()
	th.changes++ // the number of entries belongs to what refers to the map
	b := th.begin(kind, eventRoom)
	if b == nil {
		return
	}
	b = th.encode(binary.AppendUvarint(b, uint64(address)), key, keyPlan, 0)
	switch {
	case valuePlan == nil:
	case keyPlan.form == formText && IsSecretName(secretNames, *(*string)(key)):
		b = appendRedacted(binary.AppendUvarint(b, uint64(valuePlan.id)))
	default:
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
