//go:build go1.23

package inject

import (
	"encoding/binary"
	"hash/maphash"
	"math"
	"reflect"
	"runtime"
	"runtime/debug"
	"sync/atomic"
	"unsafe"
)

// Limits of one event. Values beyond them are recorded as unrecorded.
const (
	maxText     = textLimit
	maxElements = elementLimit
	maxEntries  = 256
	maxNesting  = 12
	maxFollow   = followLimit // steps from a variable along references
	maxObjects  = 48          // objects written after one event
	valueRoom   = 6 << 10     // bytes for one value
	spreadStep  = 16          // elements in one piece of a long list
)

// pointee is the target of a reference in a recorded value. It is recorded too, unless the log has
// its current contents.
type pointee struct {
	address unsafe.Pointer
	plan    *plan
	count   int // number of elements from the address on; 0 for a single value
	hops    int
}

// known is what the log has of the objects at some addresses. After a collision an object is written
// again.
var known [1 << 16]entry

// entry is what the log has of an object.
type entry struct {
	// sum is a hash of what the log last said of the object: its address, its type and its bytes. The
	// top 16 bits are a tag of the address.
	sum atomic.Uint64
	// contents is a hash of what the object was when it was last written.
	contents atomic.Uint64
	// checked says by whom and when it was last compared with the log.
	checked atomic.Uint64
	// followed says by whom and when its references were last followed, and in the two lowest bits after
	// how many references.
	followed atomic.Uint64
}

const hashBits = 48

// entryOf returns the entry of an address.
func entryOf(address uint64) *entry {
	return &known[(address>>3)*prime>>48&uint64(len(known)-1)]
}

// prime mixes hashes: 2^64 divided by the golden ratio.
const prime = 0x9e3779b97f4a7c15

// inEpoch is a hash of an object for the thread and its epoch.
func (th *thread) inEpoch(q pointee, count int) uint64 {
	sum := (th.epoch*prime^uint64(th.id))*prime ^ uint64(uintptr(q.address))
	return (sum*prime ^ uint64(q.plan.id)<<32 ^ uint64(count)) * prime
}

// seesAll reports whether memory changes only by stores that are in the log.
func (th *thread) seesAll() bool {
	return seesStores && !sampling && th.by == nil && th.current != nil && !th.current.unseen
}

// check identifies a comparison of an object with the log: it needs not be repeated by the same
// thread until there is another object, or code has run whose stores are not seen. The log has the
// stores that are seen.
func (th *thread) check(q pointee, count int, size uintptr) uint64 {
	sum := th.inEpoch(q, count)
	sum = (sum ^ sum>>29 ^ objectsIn(uint64(uintptr(q.address)), size)) * prime
	return sum ^ sum>>32 | 1<<63 // 0 is none
}

// tagOf returns the tag of an address in its place.
func tagOf(address uint64) uint64 {
	return (address >> 3) * prime << 16 &^ (1<<hashBits - 1)
}

// knows reports whether the log may have the object at an address. If it says no, the object may
// still be known.
func knows(at unsafe.Pointer) bool {
	address := uint64(uintptr(at))
	return entryOf(address).sum.Load()&^(1<<hashBits-1) == tagOf(address)
}

// outdate notes that the log has the object at an address, but maybe not its current contents: it is
// written when it is met next, also if it is the same.
func outdate(address uint64) {
	e := entryOf(address)
	e.sum.Store(tagOf(address))
	e.checked.Store(0)
}

// stores counts the stores of own code to each 64-byte line of memory (lines can share counters).
// An object in changed lines is written again, because there can be another object at the same
// address.
var stores [1 << 14]atomic.Uint32

func line(address uint64) *atomic.Uint32 {
	return &stores[(address>>6)*prime>>50&uint64(len(stores)-1)]
}

const maxLines = 64

func noteStore(address uint64, size uintptr) { note(address, size, 1) }

// manyStores is the number of stores to a line after which the objects there are written again as a
// whole, although the log has each of the stores: it must not have to apply too many of them.
const manyStores = 64

// noteMade notes that what is at an address from now on is another object, or is not in the log yet.
func (th *thread) noteMade(address uint64, size uintptr) {
	th.changes++
	note(address, size, manyStores)
}

func note(address uint64, size uintptr, n uint32) {
	for i := uint64(0); i <= min(uint64(size), maxLines<<6); i += 64 {
		line(address + i).Add(n)
	}
}

// objectsIn changes when there can be other objects in some lines, or many stores were made there.
func objectsIn(address uint64, size uintptr) (sum uint64) {
	for i := uint64(0); i <= min(uint64(size), maxLines<<6); i += 64 {
		sum = sum*31 + uint64(line(address+i).Load()/manyStores)
	}
	return sum
}

func storesIn(address uint64, size uintptr) (sum uint64) {
	for i := uint64(0); i <= min(uint64(size), maxLines<<6); i += 64 {
		sum = sum*31 + uint64(line(address+i).Load())
	}
	return sum
}

// said has a bit for each region of memory of which the log has something; regions can share bits.
var said [1 << 12]atomic.Uint64

const (
	regionShift = 8 // 256 bytes
	maxRegions  = 256
)

// says notes that the log has something of some memory.
func says(address uint64, size uintptr) {
	for r := address >> regionShift; r <= (address+uint64(max(size, 1))-1)>>regionShift; r++ {
		word, bit := regionOf(r)
		if word.Load()&bit == 0 {
			word.Or(bit)
		}
	}
}

// mayHave reports whether the log may have something of some memory.
func mayHave(address uint64, size uintptr) bool {
	first, last := address>>regionShift, (address+uint64(max(size, 1))-1)>>regionShift
	if last-first > maxRegions {
		return true
	}
	for r := first; r <= last; r++ {
		if word, bit := regionOf(r); word.Load()&bit != 0 {
			return true
		}
	}
	return false
}

func regionOf(r uint64) (word *atomic.Uint64, bit uint64) {
	h := r * prime >> 46
	return &said[h>>6&uint64(len(said)-1)], 1 << (h & 63)
}

type sliceHeader struct {
	data             unsafe.Pointer
	length, capacity int
}

var seed = maphash.MakeSeed()

// encode appends a value with its type. If reading memory faults, because another goroutine changes
// it, the value is unrecorded.
func (th *thread) encode(b []byte, p unsafe.Pointer, pl *plan, hops int) []byte {
	b = binary.AppendUvarint(b, uint64(pl.id))
	if !pl.deep { // addresses are recorded, not followed
		return th.item(b, p, pl, hops, len(b)+valueRoom, 0)
	}
	return th.guarded(b, p, pl, hops)
}

func (th *thread) guarded(b []byte, p unsafe.Pointer, pl *plan, hops int) (out []byte) {
	before, queued := len(b), len(th.queue)
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		if recover() != nil {
			th.queue = th.queue[:queued]
			out = append(b[:before], itemUndefined)
		}
	}()
	return th.item(b, p, pl, hops, len(b)+valueRoom, 0)
}

// item appends the CBOR item for the value at address p.
//
//go:norace
//go:nocheckptr
func (th *thread) item(b []byte, at unsafe.Pointer, pl *plan, hops, limit, nesting int) []byte {
	if len(b) > limit || nesting > maxNesting {
		return append(b, itemUndefined)
	}
	if pl.secret {
		return appendRedacted(b)
	}
	switch pl.form {
	case formBool:
		if *(*byte)(at) != 0 {
			return append(b, itemTrue)
		}
		return append(b, itemFalse)
	case formInt:
		return appendInt(b, readInt(at, pl.width))
	case formUint:
		return appendHead(b, majorUint, readUint(at, pl.width))
	case formFloat:
		return appendNumber(b, at, pl.width)
	case formComplex:
		b = appendHead(b, majorArray, 2)
		b = appendNumber(b, at, pl.width)
		return appendNumber(b, unsafe.Add(at, pl.width), pl.width)
	case formText:
		return textItem(b, *(*string)(at))
	case formStruct:
		b = appendHead(b, majorArray, uint64(len(pl.fields)))
		for i := range pl.fields {
			if pl.fields[i].secret {
				b = appendRedacted(b)
				continue
			}
			b = th.item(b, unsafe.Add(at, pl.fields[i].offset), pl.fields[i].plan, hops, limit, nesting+1)
		}
		return b
	case formArray:
		n := min(pl.length, maxElements)
		if n < pl.length {
			b = appendHead(appendHead(b, majorTag, tagBeginning), majorArray, 2)
		}
		b = appendHead(b, majorArray, uint64(n))
		e := pl.element()
		for i := range n {
			b = th.item(b, unsafe.Add(at, uintptr(i)*e.size), e, hops, limit, nesting+1)
		}
		if n < pl.length {
			b = appendHead(b, majorUint, uint64(pl.length))
		}
		return b
	case formSlice:
		s := *(*sliceHeader)(at)
		if s.data == nil {
			return append(b, itemNull)
		}
		if q := (pointee{s.data, pl.element(), s.length, hops + 1}); s.length > 0 && (pl.follow || hops == 0) {
			th.want(q)
		} else if s.length > 0 {
			th.pass(q)
		}
		b = appendHead(b, majorArray, 3)
		b = appendHead(b, majorUint, uint64(uintptr(s.data)))
		b = appendHead(b, majorUint, uint64(s.length))
		return appendHead(b, majorUint, uint64(s.capacity))
	case formMap:
		m := *(*unsafe.Pointer)(at)
		if m == nil {
			return append(b, itemNull)
		}
		if th.by != nil {
			th.beyond = append(th.beyond, lent{at: m, plan: pl, entries: true, by: th.by})
		}
		b = appendHead(b, majorArray, 2)
		b = appendHead(b, majorUint, uint64(uintptr(m)))
		// The number of entries is the map's first word.
		return appendHead(b, majorUint, *(*uint64)(m))
	case formPointer:
		q := *(*unsafe.Pointer)(at)
		if q == nil {
			return append(b, itemNull)
		}
		if pl.follow || hops == 0 {
			th.want(pointee{q, pl.element(), 0, hops + 1})
		} else {
			th.pass(pointee{q, pl.element(), 0, hops + 1})
		}
		return appendHead(b, majorUint, uint64(uintptr(q)))
	case formInterface:
		return th.interfaceItem(b, at, pl, hops, limit, nesting)
	case formFunc:
		fn := *(*unsafe.Pointer)(at)
		if fn == nil {
			return append(b, itemNull)
		}
		name := "func"
		if f := runtime.FuncForPC(*(*uintptr)(fn)); f != nil {
			name = f.Name()
		}
		return textItem(b, name)
	case formChan:
		c := *(*unsafe.Pointer)(at)
		if c == nil {
			return append(b, itemNull)
		}
		// The first two words of a channel: number of elements, and capacity.
		b = appendHead(b, majorArray, 3)
		b = appendHead(b, majorUint, uint64(uintptr(c)))
		b = appendHead(b, majorUint, *(*uint64)(c))
		return appendHead(b, majorUint, *(*uint64)(unsafe.Add(c, 8)))
	case formOpaque:
		return appendHead(b, majorUint, uint64(*(*uintptr)(at)))
	}
	return append(b, itemUndefined)
}

// interfaceItem appends the dynamic type and value of an interface. An interface
// with methods has a table in its type word, whose second word is the type.
//
//go:norace
//go:nocheckptr
func (th *thread) interfaceItem(b []byte, at unsafe.Pointer, pl *plan, hops, limit, nesting int) []byte {
	dynamic, at := dynamicValue(at, pl)
	if dynamic == nil {
		return append(b, itemNull)
	}
	b = appendHead(b, majorArray, 2)
	b = appendHead(b, majorUint, uint64(dynamic.id))
	if dynamic.form == formPointer && !dynamic.follow && !dynamic.reads {
		hops = max(hops, 1) // what is behind an interface of foreign code is its own
	}
	return th.item(b, at, dynamic, hops, limit, nesting+1)
}

// dynamicValue returns the plan of an interface's dynamic value, or nil, and where the value is.
//
//go:norace
//go:nocheckptr
func dynamicValue(at unsafe.Pointer, pl *plan) (*plan, unsafe.Pointer) {
	dynamic := dynamicPlan(at, pl)
	if dynamic == nil || dynamic.direct {
		return dynamic, unsafe.Add(at, 8)
	}
	return dynamic, *(*unsafe.Pointer)(unsafe.Add(at, 8))
}

// dynamicPlan returns the plan of an interface's dynamic value, or nil.
//
//go:norace
//go:nocheckptr
func dynamicPlan(at unsafe.Pointer, pl *plan) *plan {
	word := *(*unsafe.Pointer)(at)
	if word == nil {
		return nil
	}
	if pl.method {
		word = *(*unsafe.Pointer)(unsafe.Add(word, 8))
	}
	var a any
	(*eface)(unsafe.Pointer(&a)).word = uintptr(word)
	return planOfWord(uintptr(word), a)
}

// unseen notes that memory may have changed without a store of own code.
func (th *thread) unseen() {
	th.epoch++
	th.changes++
}

// visits reports whether everything that a reference leads to has been compared with the log since
// memory last changed, and notes that it has.
func (th *thread) visits(q pointee) bool {
	if q.hops != 1 || verifies && th.snapping || !th.seesAll() {
		return false
	}
	key := (uint64(uintptr(q.address))*prime ^ uint64(q.plan.id)<<32 ^ uint64(q.count)) * prime
	slot := &th.visited[key>>58]
	key = (key ^ th.changes) * prime
	if *slot == key {
		return true
	}
	*slot = key
	return false
}

func (th *thread) want(q pointee) {
	if th.visits(q) {
		return
	}
	if q.hops <= maxFollow && len(th.queue) < maxObjects && q.plan.size > 0 && !th.onStack(q.address) {
		th.queue = append(th.queue, q)
	} else if th.by != nil && q.plan.size > 0 && knows(q.address) {
		th.beyond = append(th.beyond, lent{at: q.address, plan: q.plan, count: q.count, own: true, by: th.by})
	}
}

// strangers is what may have made or changed objects of foreign code that are met later, when it is not known which call did.
var strangers = &Lender{Name: "code that is not recorded"}

// pass notes a reference to an object of foreign code that is not followed. The log may have another object at its address, from before its
// memory was used again, or an older state of it: neither is there now.
func (th *thread) pass(q pointee) {
	size := q.plan.size * uintptr(max(q.count, 1))
	if size == 0 || len(th.beyond) >= maxObjects || !mayHave(uint64(uintptr(q.address)), size) || th.isCurrent(q) {
		return
	}
	by := th.by
	if by == nil {
		by = strangers
	}
	th.beyond = append(th.beyond, lent{at: q.address, plan: q.plan, count: q.count, own: true, by: by})
}

// isCurrent reports whether the log has what is at an address now.
func (th *thread) isCurrent(q pointee) bool {
	if q.count == 0 {
		address := uint64(uintptr(q.address))
		return entryOf(address).sum.Load() == th.sumOf(hashOf(q, 0), address, q.plan.size)
	}
	for from := 0; from < min(q.count, maxElements); from += spreadStep {
		n := min(spreadStep, q.count-from)
		at := unsafe.Add(q.address, uintptr(from)*q.plan.size)
		address := uint64(uintptr(at))
		if entryOf(address).sum.Load() != th.sumOf(hashOf(pointee{at, q.plan, n, q.hops}, n), address, q.plan.size*uintptr(n)) {
			return false
		}
	}
	return true
}

// writeQueue writes the objects that the last event referred to, and the objects that those refer
// to.
func (th *thread) writeQueue() {
	for i := 0; i < len(th.queue); i++ {
		q := th.queue[i]
		if q.count == 0 {
			th.object(q, kindMemory, 0)
			continue
		}
		if q.plan.form == formUint && q.plan.width == 1 {
			q.count = min(q.count, maxText)
			th.object(q, kindSpread, q.count)
			continue
		}
		// A long list is written in pieces: the first ones and the last, so that an append repeats
		// little.
		for from := 0; from < q.count; from += spreadStep {
			if from >= maxElements && from+spreadStep < q.count {
				continue
			}
			piece := q
			piece.address = unsafe.Add(q.address, uintptr(from)*q.plan.size)
			th.object(piece, kindSpread, min(spreadStep, q.count-from))
		}
	}
	clear(th.queue)
	th.queue = th.queue[:0]
	if th.by == nil { // else the rest of what was lent comes before
		th.writeBeyond()
	}
}

// writeBeyond notes what may have changed and is not written.
func (th *thread) writeBeyond() {
	for i := range th.beyond {
		if q := &th.beyond[i]; q.entries {
			th.mapAgain(q.at, q.plan)
		} else {
			q.expose(th)
		}
	}
	clear(th.beyond)
	th.beyond = th.beyond[:0]
}

// object writes the contents of an address, unless the log has them. It follows references in
// either case, because foreign code may have changed their targets.
func (th *thread) object(q pointee, kind byte, count int) {
	address := uint64(uintptr(q.address))
	have := entryOf(address)
	size := q.plan.size * uintptr(max(count, 1))
	same := false
	if th.seesAll() && !q.plan.counts {
		same = have.checked.Load() == th.check(q, count, size)
		if same && (!q.plan.leads || th.follows(have, q, count)) {
			return
		}
	}
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	before := th.position()
	defer th.undo(&before)
	if same {
		th.revisitAll(q, count)
		return
	}
	raw := hashOf(q, count)
	sum := th.sumOf(raw, address, size)
	if have.sum.Load() == sum {
		have.checked.Store(th.check(q, count, size))
		th.revisitAll(q, count)
		return
	}
	if th.apart {
		th.apart = false
		th.plain(kindResume, uint64(th.current.depth)) // what follows is of a new moment
	}
	b := th.begin(kind, eventRoom)
	if b == nil {
		return
	}
	says(address, size)
	before.mem, before.n = th.chunk.mem, th.start // begin may have moved on to another chunk
	b = binary.AppendUvarint(b, address)
	b = binary.AppendUvarint(b, uint64(q.plan.id))
	if kind == kindMemory {
		b = th.item(b, q.address, q.plan, q.hops, len(b)+valueRoom, 0)
	} else {
		b = th.spreadItems(b, q, count)
	}
	if have.contents.Load() != raw {
		have.contents.Store(raw)
		noteStore(address, size) // other objects that overlap with it have changed too
		sum = th.sumOf(raw, address, size)
	}
	if hashOf(q, count) == raw {
		have.sum.Store(sum)
		have.checked.Store(th.check(q, count, size))
	} else { // another thread has changed it meanwhile
		outdate(address)
	}
	if q.plan.leads {
		th.follows(have, q, count)
	}
	th.complete(b)
}

// notes remembers that the log has the current elements of a list.
//
//go:norace
//go:nocheckptr
func (th *thread) notes(q pointee, count int) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() { _ = recover() }() // another goroutine changes them
	address, size := uint64(uintptr(q.address)), q.plan.size*uintptr(count)
	have := entryOf(address)
	raw := hashOf(q, count)
	have.contents.Store(raw)
	have.sum.Store(th.sumOf(raw, address, size))
	have.checked.Store(th.check(q, count, size))
}

// hashOf is a hash of an object with its address and type.
func hashOf(q pointee, count int) uint64 {
	return rawSum(q, count) ^ uint64(uintptr(q.address)) ^ uint64(q.plan.id)<<40 ^ uint64(count)
}

// sumOf is the entry in known of an object with a hash.
func (th *thread) sumOf(raw, address uint64, size uintptr) uint64 {
	return (raw^th.salt^(address+storesIn(address, size))*0xff51afd7ed558ccd)&(1<<hashBits-1) | tagOf(address)
}

// follows reports whether the thread has followed the references of an object since memory may have
// changed without a store, and notes that it does.
func (th *thread) follows(e *entry, q pointee, count int) bool {
	key := th.inEpoch(q, count) &^ 3
	hops := uint64(min(q.hops, 3))
	if have := e.followed.Load(); have&^3 == key && have&3 <= hops {
		return true
	}
	e.followed.Store(key | hops)
	return false
}

// revisitAll follows the references of an unchanged object.
func (th *thread) revisitAll(q pointee, count int) {
	if q.plan.leads {
		for n := range max(count, 1) {
			th.revisit(unsafe.Add(q.address, uintptr(n)*q.plan.size), q.plan, q.hops, 0)
		}
	}
}

// position is where a thread's log ended before an event.
type position struct {
	queued, n int
	last      int64
	mem       []byte
}

func (th *thread) position() position {
	return position{len(th.queue), th.chunk.n, th.last, th.chunk.mem}
}

// undo takes back an event that could not be written: reading memory faults if another goroutine
// changes it. It is deferred.
func (th *thread) undo(to *position) {
	if recover() == nil {
		return
	}
	th.changes++
	th.queue, th.busy = th.queue[:to.queued], false
	if len(to.mem) > 0 && len(th.chunk.mem) > 0 && &to.mem[0] == &th.chunk.mem[0] {
		th.chunk.n, th.last = to.n, to.last
	}
}

// rawSum is a hash of an object's bytes as they are in memory, and of the contents behind addresses
// that belong to them: with the same address, a text can be another one.
//
//go:norace
//go:nocheckptr
func rawSum(q pointee, count int) uint64 {
	n := uintptr(max(count, 1))
	sum := maphash.Bytes(seed, unsafe.Slice((*byte)(q.address), q.plan.size*n))
	if q.plan.deep {
		for i := range n {
			sum = deepSum(sum, unsafe.Add(q.address, i*q.plan.size), q.plan, 0)
		}
	}
	return sum
}

// deepSum adds the contents behind the addresses in a value to a hash.
//
//go:norace
//go:nocheckptr
func deepSum(sum uint64, at unsafe.Pointer, pl *plan, nesting int) uint64 {
	if nesting > maxNesting {
		return sum
	}
	switch pl.form {
	case formText:
		if s := *(*string)(at); s != "" {
			sum = sum*prime ^ maphash.String(seed, s[:min(len(s), maxText)])
		}
	case formStruct:
		for i := range pl.fields {
			if f := pl.fields[i]; f.plan.deep {
				sum = deepSum(sum, unsafe.Add(at, f.offset), f.plan, nesting+1)
			}
		}
	case formArray:
		e := pl.element()
		for i := range min(pl.length, maxElements) {
			sum = deepSum(sum, unsafe.Add(at, uintptr(i)*e.size), e, nesting+1)
		}
	case formMap, formChan: // the number of entries, or of values that wait
		if m := *(*unsafe.Pointer)(at); m != nil {
			sum = sum*prime ^ *(*uint64)(m)
		}
	case formInterface:
		if dynamic, value := dynamicValue(at, pl); dynamic != nil {
			if !dynamic.direct {
				sum = sum*prime ^ maphash.Bytes(seed, unsafe.Slice((*byte)(value), dynamic.size))
			}
			if dynamic.deep {
				sum = deepSum(sum, value, dynamic, nesting+1)
			}
		}
	}
	return sum
}

// revisit follows the references of an unchanged value.
//
//go:norace
//go:nocheckptr
func (th *thread) revisit(at unsafe.Pointer, pl *plan, hops, nesting int) {
	if nesting > maxNesting || len(th.queue) >= maxObjects || hops >= maxFollow {
		return
	}
	switch pl.form {
	case formStruct:
		for i := range pl.fields {
			if f := pl.fields[i]; f.plan.leads && !f.secret {
				th.revisit(unsafe.Add(at, f.offset), f.plan, hops, nesting+1)
			}
		}
	case formArray:
		e := pl.element()
		for i := range min(pl.length, maxElements) {
			th.revisit(unsafe.Add(at, uintptr(i)*e.size), e, hops, nesting+1)
		}
	case formSlice:
		if s := *(*sliceHeader)(at); s.data != nil && s.length > 0 && pl.follow {
			th.want(pointee{s.data, pl.element(), s.length, hops + 1})
		}
	case formPointer:
		if q := *(*unsafe.Pointer)(at); q != nil && pl.follow {
			th.want(pointee{q, pl.element(), 0, hops + 1})
		}
	case formMap:
		if m := *(*unsafe.Pointer)(at); m != nil && th.by != nil {
			th.beyond = append(th.beyond, lent{at: m, plan: pl, entries: true, by: th.by})
		}
	case formInterface:
		if dynamic, value := dynamicValue(at, pl); dynamic != nil && dynamic.leads {
			th.revisit(value, dynamic, hops, nesting+1)
		}
	}
}

//go:norace
//go:nocheckptr
func (th *thread) spreadItems(b []byte, q pointee, count int) []byte {
	if q.plan.form == formUint && q.plan.width == 1 && isSecretText(unsafe.String((*byte)(q.address), count)) {
		b = appendHead(b, majorArray, uint64(count))
		for range count {
			b = appendRedacted(b)
		}
		return b
	}
	if q.plan.form == formUint && q.plan.width == 1 {
		b = appendHead(b, majorBytes, uint64(count))
		for i := range count {
			b = append(b, *(*byte)(unsafe.Add(q.address, i)))
		}
		return b
	}
	b = appendHead(b, majorArray, uint64(count))
	limit := len(b) + valueRoom
	for i := range count {
		b = th.item(b, unsafe.Add(q.address, uintptr(i)*q.plan.size), q.plan, q.hops, limit, 0)
	}
	return b
}

// entries writes all entries of a map that nobody else refers to yet.
func (th *thread) entries(p unsafe.Pointer, pl *plan) { th.allEntries(kindEntries, p, pl) }

// allEntries is entries for an event or a snapshot.
func (th *thread) allEntries(kind byte, p unsafe.Pointer, pl *plan) {
	m := reflect.NewAt(pl.of, p).Elem()
	if m.IsNil() {
		return
	}
	b := th.begin(kind, eventRoom)
	if b == nil {
		return
	}
	if kind == kindSnapshot {
		b = append(b, snapshotEntries)
	}
	b = binary.AppendUvarint(b, uint64(m.Pointer()))
	b = binary.AppendUvarint(b, uint64(pl.id))
	key, elem := planOf(pl.of.Key()), pl.element()
	k, v := reflect.New(pl.of.Key()), reflect.New(pl.of.Elem())
	body := make([]byte, 0, 1024)
	n := 0
	for it := m.MapRange(); n < maxEntries && len(body) < valueRoom && it.Next(); n++ {
		k.Elem().SetIterKey(it)
		v.Elem().SetIterValue(it)
		body = th.item(body, k.UnsafePointer(), key, 1, math.MaxInt, 1)
		if key.form == formText && IsSecretName(secretNames, k.Elem().String()) {
			body = appendRedacted(body)
			continue
		}
		body = th.item(body, v.UnsafePointer(), elem, 1, math.MaxInt, 1)
		if len(body) > eventRoom/2 {
			break
		}
	}
	whole := n == m.Len()
	if !whole {
		b = appendHead(appendHead(b, majorTag, tagBeginning), majorArray, 2)
	}
	b = append(appendHead(b, majorArray, uint64(2*n)), body...)
	if !whole {
		b = appendHead(b, majorUint, uint64(m.Len()))
	}
	th.hold(b)
	th.end()
}

func textItem(b []byte, s string) []byte {
	if isSecretText(s) {
		return appendRedacted(b)
	}
	if len(s) <= maxText {
		return appendText(b, s)
	}
	b = appendHead(appendHead(b, majorTag, tagBeginning), majorArray, 2)
	return appendHead(appendText(b, s[:maxText]), majorUint, uint64(len(s)))
}

//go:norace
func readInt(p unsafe.Pointer, width byte) int64 {
	switch width {
	case 1:
		return int64(*(*int8)(p))
	case 2:
		return int64(*(*int16)(p))
	case 4:
		return int64(*(*int32)(p))
	}
	return *(*int64)(p)
}

//go:norace
func readUint(p unsafe.Pointer, width byte) uint64 {
	switch width {
	case 1:
		return uint64(*(*uint8)(p))
	case 2:
		return uint64(*(*uint16)(p))
	case 4:
		return uint64(*(*uint32)(p))
	}
	return *(*uint64)(p)
}

//go:norace
func appendNumber(b []byte, p unsafe.Pointer, width byte) []byte {
	if width == 4 {
		return binary.BigEndian.AppendUint32(append(b, itemFloat32), *(*uint32)(p))
	}
	return binary.BigEndian.AppendUint64(append(b, itemFloat64), *(*uint64)(p))
}
