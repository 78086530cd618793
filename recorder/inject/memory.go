//go:build go1.23

package inject

import (
	"encoding/binary"
	"unsafe"
)

// move records that size bytes were copied from one address to another.
func (f *Frame) move(to, from, size uintptr) {
	if size == 0 || to == from {
		return
	}
	th := f.here()
	says(uint64(to), size)
	if b := th.begin(kindMove, lineRoom); b != nil {
		b = binary.AppendUvarint(b, uint64(to))
		b = binary.AppendUvarint(b, uint64(from))
		th.hold(binary.AppendUvarint(b, uint64(size)))
		th.end()
	}
	th.noteMade(uint64(to), size)
}

// dataOf returns the address of a slice's first element, and the size of an element.
func dataOf[S ~[]E, E any](s S) (at, size uintptr) {
	var e E
	return uintptr(unsafe.Pointer(unsafe.SliceData(s))), unsafe.Sizeof(e)
}

// Grown records that append moved the existing elements, and returns the new slice.
func Grown[S ~[]E, E any](f *Frame, old, grown S) S {
	if f == nil {
		return grown
	}
	from, size := dataOf(old)
	to, _ := dataOf(grown)
	if to != from && cap(grown) > 0 {
		f.made(unsafe.Pointer(unsafe.SliceData(grown)), size*uintptr(cap(grown)))
	}
	if len(old) > 0 {
		f.move(to, from, uintptr(len(old))*size)
	}
	if n := len(grown) - len(old); n > 0 && size > 0 {
		f.grew(unsafe.Pointer(unsafe.SliceData(grown)), planOfElement[E](), len(old), n)
	}
	return grown
}

// grew records the elements that append has added to a list, if the log has those before them: then
// the last part of the list needs not be written again.
func (f *Frame) grew(list unsafe.Pointer, of *plan, before, n int) {
	th := f.th
	part := pointee{unsafe.Add(list, uintptr(before/spreadStep*spreadStep)*of.size), of, 0, 1}
	already := before % spreadStep
	has := seesStores && !sampling && already > 0 && already+n <= spreadStep && !f.unseen && !th.busy && !th.onStack(list) &&
		entryOf(uint64(uintptr(part.address))).checked.Load() == th.check(part, already, uintptr(already)*of.size)
	th.noteMade(uint64(uintptr(list))+uint64(before)*uint64(of.size), uintptr(n)*of.size)
	if !has {
		return
	}
	f.here()
	th.apart = true
	th.object(pointee{unsafe.Add(list, uintptr(before)*of.size), of, 0, 1}, kindSpread, n)
	th.apart = false
	th.notes(part, already+n)
	th.writeQueue()
}

// Made says that an object is new.
func Made[T any](f *Frame, p *T) *T {
	if f != nil {
		f.made(unsafe.Pointer(p), planFor(p).size)
	}
	return p
}

// MadeList says that the elements of a list are new.
func MadeList[S ~[]E, E any](f *Frame, list S) S {
	if f != nil {
		_, size := dataOf(list)
		f.made(unsafe.Pointer(unsafe.SliceData(list)), size*uintptr(cap(list)))
	}
	return list
}

// made records that size bytes at an address are another object than what was there before.
func (f *Frame) made(at unsafe.Pointer, size uintptr) {
	th := f.here()
	if size == 0 || th.busy || th.onStack(at) {
		return
	}
	th.noteMade(uint64(uintptr(at)), size)
	if b := th.begin(kindMade, lineRoom); b != nil {
		b = binary.AppendUvarint(b, uint64(uintptr(at)))
		th.hold(binary.AppendUvarint(b, uint64(size)))
		th.end()
	}
}

// Joined is Grown for an append of the elements of another slice.
func Joined[S ~[]E, E any](f *Frame, old, more, grown S) S {
	Grown(f, old, grown)
	if f != nil && len(more) > 0 {
		to, size := dataOf(grown)
		from, _ := dataOf(more)
		f.move(to+uintptr(len(old))*size, from, uintptr(len(more))*size)
	}
	return grown
}

// Append is the builtin append. It records the elements that it moved and the new ones.
func Append[S ~[]E, E any](f *Frame, old S, more ...E) S {
	grown := append(old, more...)
	if f != nil && len(more) > 0 {
		Grown(f, old, grown)
		f.stored(unsafe.Pointer(&grown[len(old)]), planOfElement[E](), len(more))
	}
	return grown
}

// Appends is Append for elements that are assigned to the slice's element type.
func Appends[S ~[]E, E any](f *Frame, old S) func(more ...E) S {
	return func(more ...E) S { return Append(f, old, more...) }
}

// AppendAll is the builtin append of all elements of a slice.
func AppendAll[S ~[]E, E any](f *Frame, old S, more []E) S {
	if f == nil {
		return append(old, more...)
	}
	grown := append(old, more...)
	return Joined(f, old, S(more), grown)
}

// AppendText is the builtin append of the bytes of a string.
func AppendText[S ~[]byte, T ~string](f *Frame, old S, more T) S {
	grown := append(old, more...)
	if f != nil && len(more) > 0 {
		Grown(f, old, grown)
		f.stored(unsafe.Pointer(&grown[len(old)]), planOfElement[byte](), len(more))
	}
	return grown
}

// Copy is the builtin copy. It records what it has moved.
func Copy[S ~[]E, R ~[]E, E any](f *Frame, to S, from R) int {
	n := copy(to, from)
	if f != nil {
		at, size := dataOf(to)
		source, _ := dataOf(from)
		f.move(at, source, uintptr(n)*size)
	}
	return n
}

// Fresh records the elements of a list that no variable has, and returns the list.
func Fresh[S ~[]E, E any](f *Frame, list S) S {
	if f != nil && len(list) > 0 {
		f.stored(unsafe.Pointer(&list[0]), planOfElement[E](), len(list))
	}
	return list
}

// CopyText is the builtin copy of the bytes of a string.
func CopyText[S ~[]byte, T ~string](f *Frame, to S, from T) int {
	n := copy(to, from)
	if f != nil && n > 0 {
		f.stored(unsafe.Pointer(&to[0]), planOfElement[byte](), n)
	}
	return n
}

// ClearList is the builtin clear for a slice.
func ClearList[S ~[]E, E any](f *Frame, list S) {
	clear(list)
	if f != nil && len(list) > 0 {
		f.stored(unsafe.Pointer(&list[0]), planOfElement[E](), len(list))
	}
}

// ClearMap is the builtin clear for a map.
func ClearMap[M ~map[K]V, K comparable, V any](f *Frame, m M) {
	clear(m)
	New(f, m)
}

// Delete is the builtin delete.
func Delete[M ~map[K]V, K comparable, V any](f *Frame, m M, key K) {
	delete(m, key)
	D(f, m, key)
}

// Deletes is Delete for a key that is assigned to the map's key type.
func Deletes[M ~map[K]V, K comparable, V any](f *Frame, m M) func(key K) {
	return func(key K) { Delete(f, m, key) }
}

func planOfElement[E any]() *plan { return planFor((*E)(nil)) }

// builtin stands for the code that changed a part of a long list, which is not recorded.
var builtin = &Lender{Name: "a builtin function"}

// stored records n elements that the program has just stored at an address.
func (f *Frame) stored(at unsafe.Pointer, of *plan, n int) {
	if of.size == 0 {
		return
	}
	th := f.here()
	th.noteMade(uint64(uintptr(at)), uintptr(n)*of.size)
	if th.busy || th.onStack(at) {
		return
	}
	l := lent{at: at, plan: of, count: n, own: true, by: builtin}
	th.apart = true
	l.reread(th)
	th.writeQueue()
	th.apart = false
}
