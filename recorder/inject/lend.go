//go:build go1.23

package inject

import (
	"encoding/binary"
	"os"
	"reflect"
	"runtime"
	"runtime/debug"
	"sync"
	"unsafe"
)

// lent is memory to which code that is not recorded has a reference. It is recorded again when the
// statement goes on after the call.
type lent struct {
	at      unsafe.Pointer // of the object, the first element or the map
	plan    *plan          // of the object, of an element, or of the map
	count   int            // number of elements; 0 for a single object
	more    int            // number of elements between length and capacity
	own     bool           // the object is of own code: it is worth recording
	entries bool           // the memory is the entries of a map
	exposed bool           // the log says that it may have changed
	quiet   bool           // it is read again only if the log knows it
	by      *Lender
}

// Lender is a place that passes references to code that is not recorded.
type Lender struct {
	Name string // of the code, in short
	// Writes is set if the code may write to what it gets, but only until it returns. Then maps can be
	// read again.
	Writes bool
	// Keeps is set if the code may keep what it gets, and write to it when other code is called.
	Keeps bool
}

// Lend passes on a value, and remembers the memory that it refers to: the call that gets it may
// change that memory.
func Lend[T any](f *Frame, by *Lender, v T) T {
	if f != nil {
		if never {
			hole = v // its memory must keep its address until it is read again
		}
		f.th.quick = nil
		f.lent = lendAll(f.lent, hide(&v), planFor(&v), by)
		if by.Keeps && (keptCount.Load() > 0 || len(f.th.kept) > 0) {
			f.lent = append(f.lent, lent{by: by})
		}
	}
	return v
}

// LendTo is Lend for a call of an interface's method or of a function value. It does nothing if own
// code is called, which is recorded.
func LendTo[T any](f *Frame, by *Lender, to any, v T) T {
	if f == nil || isOwn(to) {
		return v
	}
	return Lend(f, by, v)
}

// LendLater is Lend for a deferred call: the memory is read again when the function ends.
func LendLater[T any](f *Frame, by *Lender, v T) T {
	if f != nil {
		if never {
			hole = v
		}
		f.later = lendAll(f.later, hide(&v), planFor(&v), by)
	}
	return v
}

// LendFor is Lend for a call on another goroutine, which can change the memory at any time from now
// on.
func LendFor[T any](f *Frame, by *Lender, v T) T {
	if f != nil {
		if never {
			hole = v
		}
		th := f.here()
		for _, l := range lendAll(nil, hide(&v), planFor(&v), by) {
			l.expose(th)
		}
	}
	return v
}

// ownCode caches by type, and by address for functions, whether a method or function is of own code.
var ownCode sync.Map // reflect.Type or uintptr → bool

// isOwn reports whether the methods of a value, or the function that it is, are of own code.
func isOwn(to any) bool {
	t := reflect.TypeOf(to)
	if t == nil {
		return true // the call will panic
	}
	if t.Kind() == reflect.Func && t.PkgPath() == "" {
		pc := reflect.ValueOf(to).Pointer()
		if own, ok := ownCode.Load(pc); ok {
			return own.(bool)
		}
		own := false
		if f := runtime.FuncForPC(pc); f != nil {
			own = recordedFunction(f.Name())
		}
		ownCode.Store(pc, own)
		return own
	}
	if own, ok := ownCode.Load(t); ok {
		return own.(bool)
	}
	of := t
	if of.Kind() == reflect.Pointer {
		of = of.Elem()
	}
	own := recordedPackage(of.PkgPath())
	if of.Kind() == reflect.Struct {
		for i := range of.NumField() {
			own = own && !of.Field(i).Anonymous // its methods may be promoted from foreign ones
		}
	}
	ownCode.Store(t, own)
	return own
}

// lendAll adds the memory that the value at an address refers to, directly or not. What cannot be
// read, because another goroutine changes it, is left out.
func lendAll(list []lent, at unsafe.Pointer, pl *plan, by *Lender) (out []lent) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	out = list
	defer func() { _ = recover() }()
	out = lend(list, at, pl, by, 0, 0)
	return out
}

// lend adds the memory that the value at an address refers to.
//
//go:norace
//go:nocheckptr
func lend(list []lent, at unsafe.Pointer, pl *plan, by *Lender, hops, nesting int) []lent {
	if nesting > maxNesting || len(list) >= maxLent {
		return list
	}
	switch pl.form {
	case formPointer:
		if q := *(*unsafe.Pointer)(at); q != nil && pl.element().size > 0 && pl.of != reflect.TypeFor[*os.File]() {
			list = addLent(list, lent{at: q, plan: pl.element(), own: pl.follow, by: by}, hops, nesting)
		}
	case formSlice:
		if s := *(*sliceHeader)(at); s.data != nil && s.capacity > 0 && pl.element().size > 0 {
			list = addLent(list, lent{at: s.data, plan: pl.element(), count: s.length, more: s.capacity - s.length, own: pl.follow, by: by}, hops, nesting)
		}
	case formMap:
		if m := *(*unsafe.Pointer)(at); m != nil {
			list = addLent(list, lent{at: m, plan: pl, entries: true, by: by}, hops, nesting)
		}
	case formInterface:
		if dynamic, value := dynamicValue(at, pl); dynamic != nil {
			list = lend(list, value, dynamic, by, hops, nesting+1)
		}
	case formStruct:
		if pl.of == reflect.TypeFor[reflect.Value]() {
			return lendReflected(list, *(*reflect.Value)(at), by, nesting)
		}
		for i := range pl.fields {
			if f := pl.fields[i]; !f.secret && (f.plan.refs || f.plan.leads || f.plan.direct) {
				list = lend(list, unsafe.Add(at, f.offset), f.plan, by, hops, nesting+1)
			}
		}
	case formArray:
		if e := pl.element(); e.refs || e.leads || e.direct {
			for i := range min(pl.length, maxElements) {
				list = lend(list, unsafe.Add(at, uintptr(i)*e.size), e, by, hops, nesting+1)
			}
		}
	}
	return list
}

// lendReflected adds the memory that can be changed through a reflect.Value.
func lendReflected(list []lent, v reflect.Value, by *Lender, nesting int) []lent {
	switch {
	case !v.IsValid():
	case v.CanAddr():
		list = addLent(list, lent{at: v.Addr().UnsafePointer(), plan: planOf(v.Type()), own: true, by: by}, 0, nesting)
	case v.Kind() == reflect.Slice && v.Cap() > 0:
		list = addLent(list, lent{at: v.UnsafePointer(), plan: planOf(v.Type().Elem()), count: v.Len(), more: v.Cap() - v.Len(), own: true, by: by}, 0, nesting)
	case v.Kind() == reflect.Map && !v.IsNil():
		list = addLent(list, lent{at: v.UnsafePointer(), plan: planOf(v.Type()), entries: true, by: by}, 0, nesting)
	}
	return list
}

// maxLent limits the objects that are read again after a call.
const maxLent = 256

// addLent adds an object, and the objects that it refers to now: the call may replace the references
// to them, and has changed them before.
func addLent(list []lent, l lent, hops, nesting int) []lent {
	for i := range list {
		if x := &list[i]; x.at == l.at && x.plan == l.plan && x.entries == l.entries {
			x.count, x.more = max(x.count, l.count), max(x.more, l.more)
			return list
		}
	}
	list = append(list, l)
	if l.entries || hops >= maxFollow || !l.plan.leads && (l.own || l.plan.form != formStruct) {
		return list
	}
	if !l.own { // of foreign objects only what the log knows matters
		from := len(list)
		list = lend(list, l.at, l.plan, l.by, hops+1, nesting+1)
		for i := from; i < len(list); i++ {
			list[i].quiet = true
		}
		return list
	}
	for i := range max(1, min(l.count, maxElements)) {
		list = lend(list, unsafe.Add(l.at, uintptr(i)*l.plan.size), l.plan, l.by, hops+1, nesting+1)
	}
	return list
}

// reread records what the memory that was lent holds now.
func (f *Frame) reread() {
	th := f.th
	if th.busy {
		return
	}
	for i := 0; i < len(f.lent); i++ {
		l := &f.lent[i]
		th.by, th.apart = l.by, true
		if l.at == nil {
			rereadKept(th)
			for _, k := range th.kept {
				k.object(th)
			}
		} else {
			l.reread(th)
		}
		th.writeQueue()
		th.writeBeyond()
		th.by, th.apart = nil, false
		switch {
		case !l.by.Keeps:
		case l.keepable():
			keep(th, l)
		case l.at != nil && !l.own && !l.quiet && !l.entries && l.count+l.more == 0 && knows(l.at):
			f.keep(l)
		}
	}
}

// object records a single object, if it has changed.
func (l *lent) object(th *thread) { th.object(pointee{l.at, l.plan, 0, 1}, kindMemory, 0) }

// maxRead limits the elements of a long list that are read again.
const maxRead = 4096

// maxSmall is the size, in bytes, of objects that are recorded again whether they changed or not.
const maxSmall = 64

func (l *lent) reread(th *thread) {
	l.exposed = false
	switch {
	case l.entries && l.quiet: // a foreign map
		return
	case l.entries:
		th.mapAgain(l.at, l.plan)
		return
	case l.count == 0 && l.more == 0:
		switch {
		case l.own && !l.quiet || knows(l.at):
			if l.own && l.plan.size <= maxSmall { // also if only the object around it was said to be different
				outdate(uint64(uintptr(l.at)))
			}
			l.object(th)
		case !l.quiet:
			l.expose(th)
		}
		return
	case l.quiet && !knows(l.at):
		return
	}
	step := spreadStep
	if l.plan.form == formUint && l.plan.width == 1 {
		step = maxText
	}
	n := min(l.count, maxRead)
	for from := 0; from < n; from += step {
		th.object(pointee{unsafe.Add(l.at, uintptr(from)*l.plan.size), l.plan, 0, 1}, kindSpread, min(step, n-from))
	}
	if rest := l.count + l.more - n; rest > 0 {
		th.expose(uint64(uintptr(l.at))+uint64(n)*uint64(l.plan.size), uint64(rest)*uint64(l.plan.size), l.by)
	}
}

// mapAgain records all entries of a map again, or that they may have changed.
func (th *thread) mapAgain(m unsafe.Pointer, pl *plan) {
	if th.by.Writes {
		th.entries(hide(&m), pl)
		return
	}
	th.expose(uint64(uintptr(m)), 0, th.by)
}

// expose records that lent memory may change, or has changed, without being read again.
func (l *lent) expose(th *thread) {
	if th.busy || l.at == nil {
		return
	}
	size := uint64(l.plan.size)
	switch {
	case l.entries:
		size = 0
	case l.count+l.more > 0:
		size *= uint64(l.count + l.more)
	}
	if !l.own && !l.entries && !mayHave(uint64(uintptr(l.at)), uintptr(size)) {
		return
	}
	th.expose(uint64(uintptr(l.at)), size, l.by)
	if l.exposed || l.entries {
		return
	}
	l.exposed = true
	for from := 0; from < max(1, min(l.count, maxRead)); from += spreadStep {
		if at := unsafe.Add(l.at, uintptr(from)*l.plan.size); knows(at) {
			outdate(uint64(uintptr(at)))
		}
	}
}

// maxName limits the name in an event, in bytes.
const maxName = 80

// expose records that code may have changed size bytes at an address, or with size 0 the entries of
// the map there.
func (th *thread) expose(address, size uint64, by *Lender) {
	b := th.begin(kindExposed, lineRoom+maxName)
	if b == nil {
		return
	}
	b = binary.AppendUvarint(b, address)
	b = binary.AppendUvarint(b, size)
	name := by.Name[:min(len(by.Name), maxName)]
	th.complete(append(binary.AppendUvarint(b, uint64(len(name))), name...))
	th.apart = false
}

// exposes records, before own code runs within the statement, that what was lent may have changed
// already: code that is not recorded may be calling back.
func (f *Frame) exposes() {
	for i := range f.lent {
		f.lent[i].expose(f.th)
	}
}

// Deferred returns the number of objects that deferred calls will change.
func (f *Frame) Deferred() int {
	if f == nil {
		return 0
	}
	return len(f.later)
}

// Settle records what was lent, before a deferred call that may release other goroutines: from then on
// they may change the same memory. Of what deferred calls have changed it records the objects from
// number n on, because these calls have ended.
func (f *Frame) Settle(n int) {
	if f == nil || len(f.lent) == 0 && len(f.later) <= n {
		return
	}
	f.lent = append(f.lent, f.later[n:]...)
	clear(f.later[n:])
	f.later = f.later[:n]
	f.here()
	f.forget()
}

// forget drops what was lent in a statement.
func (f *Frame) forget() {
	clear(f.lent)
	f.lent = f.lent[:0]
}
