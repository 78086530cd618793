// Package mapped maps files into memory, so that only the pages that are used are read.
package mapped

import (
	"fmt"
	"math"
	"os"
	"runtime"
	"syscall"
	"unsafe"
)

// File maps a whole file for reading. The mapping ends when owner is garbage-collected: callers
// that keep the bytes must keep owner too. An empty file has no bytes.
func File[T any](owner *T, f *os.File) ([]byte, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, fmt.Errorf("map %s: %w", f.Name(), err)
	}
	size := info.Size()
	if size == 0 {
		return nil, nil
	}
	if size > math.MaxInt {
		return nil, fmt.Errorf("map %s: it is too large for this machine", f.Name())
	}
	b, err := syscall.Mmap(int(f.Fd()), 0, int(size), syscall.PROT_READ, syscall.MAP_SHARED)
	if err != nil {
		return nil, fmt.Errorf("map %s: %w", f.Name(), err)
	}
	runtime.AddCleanup(owner, func(b []byte) { _ = syscall.Munmap(b) }, b)
	return b, nil
}

// Release tells the system that bytes of a mapping are not needed in memory for now.
func Release(b []byte) {
	page := os.Getpagesize()
	at := int(uintptr(unsafe.Pointer(unsafe.SliceData(b))) % uintptr(page))
	if skip := (page - at) % page; skip < len(b) {
		b = b[skip:]
		_ = syscall.Madvise(b[:len(b)/page*page], syscall.MADV_DONTNEED) // it is advice
	}
}
