//go:build go1.23

package inject

import (
	"encoding/binary"
	"unsafe"
)

// move records that size bytes were copied from one address to another. From 0 means that the
// contents are not known.
func (f *Frame) move(to, from, size uintptr) {
	if size == 0 || to == from {
		return
	}
	th := f.here()
	if b := th.begin(kindMove, lineRoom); b != nil {
		b = binary.AppendUvarint(b, uint64(to))
		b = binary.AppendUvarint(b, uint64(from))
		th.hold(binary.AppendUvarint(b, uint64(size)))
		th.end()
	}
	noteStore(uint64(to), size)
}

// Grown records that append moved the existing elements, and returns the new slice.
func Grown[S ~[]E, E any](f *Frame, old, grown S) S {
	if f != nil && len(old) > 0 {
		var e E
		f.move(uintptr(unsafe.Pointer(unsafe.SliceData(grown))), uintptr(unsafe.Pointer(unsafe.SliceData(old))), uintptr(len(old))*unsafe.Sizeof(e))
	}
	return grown
}

// Joined is Grown for an append of the elements of another slice.
func Joined[S ~[]E, E any](f *Frame, old, more, grown S) S {
	Grown(f, old, grown)
	if f != nil && len(more) > 0 {
		var e E
		size := unsafe.Sizeof(e)
		f.move(uintptr(unsafe.Pointer(unsafe.SliceData(grown)))+uintptr(len(old))*size, uintptr(unsafe.Pointer(unsafe.SliceData(more))), uintptr(len(more))*size)
	}
	return grown
}

// Copied records what the builtin copy has moved.
func Copied[S ~[]E, E any](f *Frame, to, from S) {
	if f != nil {
		var e E
		f.move(uintptr(unsafe.Pointer(unsafe.SliceData(to))), uintptr(unsafe.Pointer(unsafe.SliceData(from))), uintptr(min(len(to), len(from)))*unsafe.Sizeof(e))
	}
}

// maxRead limits the elements of a long slice that are read again after foreign code may have
// changed them.
const maxRead = 4096

// All records a slice again after foreign code may have changed any element: the changes of the
// first elements, and that the others are not known.
func All[S ~[]E, E any](f *Frame, list S) {
	if f != nil && len(list) > maxElements && !f.th.busy {
		again(f, list)
	}
}

// Changed records a slice again whose elements a statement has changed.
func Changed[S ~[]E, E any](f *Frame, list S) {
	if f != nil && len(list) > 0 && !f.th.busy {
		again(f, list)
	}
}

// again records the first elements of a slice, and that the others are not known.
func again[S ~[]E, E any](f *Frame, list S) {
	th := f.here()
	at := uintptr(unsafe.Pointer(unsafe.SliceData(list)))
	var e E
	size := unsafe.Sizeof(e)
	of := planFor(&e)
	n := min(len(list), maxRead)
	if len(list) > n {
		f.move(at+uintptr(n)*size, 0, uintptr(len(list)-n)*size)
	}
	for from := 0; from < n; from += spreadStep {
		th.object(pointee{unsafe.Add(unsafe.Pointer(unsafe.SliceData(list)), uintptr(from)*size), of, 0, 1}, kindSpread, min(spreadStep, n-from))
	}
	th.writeQueue()
}
