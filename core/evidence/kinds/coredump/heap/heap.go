// Package heap reads the heap of glibc's allocator from memory: where chunks begin, which are free, and where the heap is
// damaged. The layout is that of glibc 2.26 and later on 64-bit machines (malloc/malloc.c, malloc/arena.c).
package heap

import (
	"cmp"
	"context"
	"slices"
)

// Memory is memory that can be read. Both methods report false for what was not kept.
type Memory interface {
	Pointer(address uint64) (uint64, bool)
	Uint(address uint64, size int) (uint64, bool)
}

// Range is a range of addresses.
type Range struct{ Start, End uint64 }

// Contains reports whether an address is in the range.
func (r Range) Contains(address uint64) bool { return address >= r.Start && address < r.End }

// State is what a chunk is used for.
type State string

// The states of a chunk.
const (
	InUse   State = "in use"
	Free    State = "free"
	Top     State = "not yet handed out"
	Damaged State = "damaged"
)

// Chunk is a piece of the heap.
type Chunk struct {
	Start uint64 // of the allocator's header
	User  uint64 // the address that the program has of it
	Size  uint64 // bytes from User on that are the program's; of a damaged chunk, what its header says
	State State
}

// Heap is the heap of a process. It is safe for concurrent use.
type Heap struct {
	memory Memory
	areas  []*area         // by address
	free   map[uint64]bool // by the start of the chunk
}

// area is a range with chunks one after another.
type area struct {
	Range
	top    uint64   // the start of the chunk that is not handed out; 0 if another area has it
	marks  []uint64 // starts of chunks, one in each markSpan at most
	broken bool     // the chunks end at last, before the area does
	last   uint64   // the start of the last chunk that was reached
	before uint64   // of the one before it, 0 for none
}

// The layout of chunks and arenas.
const (
	header      = 16
	align       = 16
	smallest    = 32
	isPrevUsed  = 1
	isMapped    = 2
	flagBits    = 7
	bins        = 127  // pairs of pointers in an arena
	binsAt      = 112  // offsets in an arena
	fastAt      = 16   //
	topAt       = 96   //
	nextAt      = 2160 //
	arenaSize   = 2200
	fastBins    = 10
	heapSpan    = 64 << 20 // the heaps of further arenas begin at multiples of it
	tcacheBins  = 64
	tcacheChunk = 0x290
	pageSize    = 4096
)

// Bounds of what is followed.
const (
	markSpan  = 64 << 10
	maxChunks = 64 << 20 // in all areas
	maxListed = 1 << 20  // in a list of free chunks
	maxArenas = 1024
	maxHeaps  = 1024 // of an arena
	maxProbes = 1 << 20
)

// Find finds the heap and reads the headers of its chunks. data are the ranges of the C library's variables, main is the
// memory above the program (brk(2)). ok is false if there is no heap of this allocator. The time is proportional to the number of
// chunks; an ended context ends it with what was read.
func Find(ctx context.Context, m Memory, data []Range, main Range) (h *Heap, ok bool) {
	first, ok := mainArena(m, data)
	if !ok {
		return nil, false
	}
	h = &Heap{memory: m, free: map[uint64]bool{}}
	var arenas []uint64
	for at := first; at != 0 && len(arenas) < maxArenas && !slices.Contains(arenas, at); {
		arenas = append(arenas, at)
		if at, ok = m.Pointer(at + nextAt); !ok {
			break
		}
	}
	for i, at := range arenas {
		top, _ := m.Pointer(at + topAt)
		if i == 0 {
			h.areas = append(h.areas, h.mainArea(main, top))
		} else {
			h.addHeaps(at, top)
		}
	}
	left := maxChunks
	for _, a := range h.areas {
		h.walk(ctx, a, &left)
	}
	for _, at := range arenas {
		h.readLists(at)
	}
	slices.SortFunc(h.areas, func(a, b *area) int { return cmp.Compare(a.Start, b.Start) })
	return h, true
}

// mainArena finds the arena in the C library's variables: most of its bins refer to themselves, because they are empty, and the
// list of arenas leads back to it.
func mainArena(m Memory, data []Range) (uint64, bool) {
	isEmpty := func(bin uint64) bool {
		fd, ok1 := m.Pointer(bin)
		bk, ok2 := m.Pointer(bin + 8)
		return ok1 && ok2 && fd == bin-header && bk == fd
	}
	probes := maxProbes
	for _, r := range data {
		for at := (r.Start + 7) &^ 7; at+16 <= r.End && at+16 > at; at += 8 {
			if !isEmpty(at) {
				continue
			}
			for i := range uint64(bins) { // which of the bins it is
				if arena := at - 16*i - binsAt; arena <= at && r.Contains(arena) && isInRing(m, arena, &probes) {
					return arena, true
				}
			}
			if probes <= 0 {
				return 0, false
			}
		}
	}
	return 0, false
}

// isInRing reports whether the list of arenas leads from an address back to it.
func isInRing(m Memory, arena uint64, probes *int) bool {
	at, ok := m.Pointer(arena + nextAt)
	*probes--
	for n := 0; ok && at != arena && at != 0 && n < maxArenas && *probes > 0; n++ {
		*probes--
		at, ok = m.Pointer(at + nextAt)
	}
	return ok && at == arena
}

// mainArea returns the area of the main arena. In a program without shared libraries, what its start needed is before the first
// chunk.
func (h *Heap) mainArea(main Range, top uint64) *area {
	a := &area{Range: main, top: top}
	const most = 64 << 10
	for at := main.Start; at < min(main.Start+most, main.End); at += align {
		enough := 8
		if at == main.Start {
			enough = 2 // what follows may be damaged
		}
		if h.leadsTo(a, at, top, enough) {
			a.Start = at
			break
		}
	}
	return a
}

// leadsTo reports whether the first chunks from a place lead on, or to the top.
func (h *Heap) leadsTo(a *area, at, top uint64, enough int) bool {
	for range enough {
		size, ok := h.sizeAt(a, at)
		if !ok || at == top {
			return ok
		}
		if at += size; at >= a.End {
			return false
		}
	}
	return true
}

// addHeaps adds the heaps of a further arena: the latest has its top, each knows the one before.
func (h *Heap) addHeaps(arena, top uint64) {
	first := arena &^ (heapSpan - 1)
	info := arena - first // the size of what describes a heap
	at := top &^ (heapSpan - 1)
	for range maxHeaps {
		size, ok := h.memory.Pointer(at + 16)
		if !ok || size == 0 || size > heapSpan {
			return
		}
		a := &area{Range: Range{at + info, at + size}}
		if at == first {
			a.Start = (arena + arenaSize + align - 1) &^ (align - 1)
		}
		if a.Contains(top) {
			a.top = top
		}
		h.areas = append(h.areas, a)
		previous, ok := h.memory.Pointer(at + 8)
		if !ok || previous == 0 || at == first {
			return
		}
		at = previous
	}
}

// sizeAt returns the size of a chunk with its header. ok is false if it is not a size that a chunk of the area can have.
func (h *Heap) sizeAt(a *area, at uint64) (size uint64, ok bool) {
	size, ok = h.memory.Pointer(at + 8)
	size &^= flagBits
	return size, ok && size >= smallest && size%align == 0 && size <= a.End-at
}

// walk goes from chunk to chunk through an area.
func (h *Heap) walk(ctx context.Context, a *area, left *int) {
	const fence = 48 // chunks that close an area
	for at := a.Start; at+header <= a.End && *left > 0; *left-- {
		if *left%(1<<16) == 0 && ctx.Err() != nil {
			return
		}
		if len(a.marks) == 0 || at-a.marks[len(a.marks)-1] >= markSpan {
			a.marks = append(a.marks, at)
		}
		size, ok := h.sizeAt(a, at)
		a.before, a.last = a.last, at
		if !ok {
			a.broken = a.End-at > fence
			return
		}
		if at == a.top {
			return
		}
		if size == tcacheChunk {
			h.readCache(at + header)
		}
		at += size
	}
}

// readCache reads the lists of free chunks of a thread, if it is what an address leads to (tcache_perthread_struct).
func (h *Heap) readCache(at uint64) {
	var firsts [tcacheBins]uint64
	var counts [tcacheBins]uint64
	for i := range uint64(tcacheBins) {
		n, ok1 := h.memory.Uint(at+2*i, 2)
		first, ok2 := h.memory.Pointer(at + 2*tcacheBins + 8*i)
		if !ok1 || !ok2 || (n == 0) != (first == 0) || first%align != 0 {
			return
		}
		if first != 0 {
			if size, ok := h.memory.Pointer(first - 8); !ok || size&^flagBits != smallest+align*i {
				return
			}
		}
		counts[i], firsts[i] = n, first
	}
	for i, user := range firsts {
		for n := uint64(0); n < counts[i] && user != 0; n++ {
			h.free[user-header] = true
			user = h.following(user)
		}
	}
}

// following returns the next element of a singly linked list of free chunks. Since glibc 2.32 the link is mangled with its own
// address.
func (h *Heap) following(link uint64) uint64 {
	next, ok := h.memory.Pointer(link)
	if !ok {
		return 0
	}
	if plain := next ^ link>>12; plain%align == 0 && (plain == 0 || h.contains(plain)) {
		return plain
	}
	if next%align == 0 && h.contains(next) {
		return next
	}
	return 0
}

func (h *Heap) contains(address uint64) bool {
	return slices.ContainsFunc(h.areas, func(a *area) bool { return a.Contains(address) })
}

// readLists reads the free chunks in the bins of an arena.
func (h *Heap) readLists(arena uint64) {
	for i := range uint64(fastBins) {
		at, ok := h.memory.Pointer(arena + fastAt + 8*i)
		for n := 0; ok && at != 0 && n < maxListed && h.contains(at); n++ {
			h.free[at] = true
			at = h.following(at + header)
		}
	}
	for i := range uint64(bins) {
		head := arena + binsAt + 16*i - header
		at, ok := h.memory.Pointer(head + header)
		for n := 0; ok && at != head && n < maxListed && h.contains(at) && !h.free[at]; n++ {
			h.free[at] = true
			at, ok = h.memory.Pointer(at + header)
		}
	}
}

// At returns the chunk at an address and those beside it. The neighbours are nil where there are none. mapping is the memory
// mapping of the address: large chunks have one of their own. ok is false for an address outside of the heap, and behind
// a damaged chunk.
func (h *Heap) At(address uint64, mapping Range) (c Chunk, before, after *Chunk, ok bool) {
	i := slices.IndexFunc(h.areas, func(a *area) bool { return a.Contains(address) })
	if i < 0 {
		c, ok = h.mapped(address, mapping)
		return c, nil, nil, ok
	}
	a := h.areas[i]
	m, found := slices.BinarySearch(a.marks, address)
	if !found {
		m--
	}
	if m < 0 {
		return c, nil, nil, false
	}
	// From the mark before, so that the chunk before is found too.
	for at := a.marks[max(m-1, 0)]; at < a.End; {
		c = h.chunk(a, at)
		size, sound := h.sizeAt(a, at)
		if !sound {
			return c, before, nil, a.broken && at == a.last
		}
		if address < at+size {
			if at+size < a.End && at != a.top {
				next := h.chunk(a, at+size)
				after = &next
			}
			return c, before, after, true
		}
		previous := c
		before = &previous
		at += size
	}
	return c, nil, nil, false
}

// chunk describes the chunk at a start.
func (h *Heap) chunk(a *area, at uint64) Chunk {
	size, sound := h.sizeAt(a, at)
	// A chunk in use has the first word of the next one too, unless it is the last.
	c := Chunk{Start: at, User: at + header, Size: size - 8, State: InUse}
	switch {
	case !sound:
		c.Size, c.State = size, Damaged
	case at == a.top:
		c.Size, c.State = size-header, Top
	case h.free[at]:
		c.State = Free
	default:
		if next, ok := h.memory.Pointer(at + size + 8); ok && next&isPrevUsed == 0 {
			c.State = Free
		}
	}
	return c
}

// mapped finds a chunk with a mapping of its own.
func (h *Heap) mapped(address uint64, mapping Range) (Chunk, bool) {
	for at := mapping.Start; at < mapping.End; {
		size, ok := h.memory.Pointer(at + 8)
		if !ok || size&isMapped == 0 || size&^flagBits == 0 || (size&^flagBits)%pageSize != 0 || size&^flagBits > mapping.End-at {
			return Chunk{}, false
		}
		size &^= flagBits
		if address < at+size {
			return Chunk{Start: at, User: at + header, Size: size - header, State: InUse}, true
		}
		at += size
	}
	return Chunk{}, false
}

// Damage returns the first chunk whose header cannot be one, and the chunk before it.
func (h *Heap) Damage() (c, before Chunk, ok bool) {
	for _, a := range h.areas {
		if !a.broken || a.before == 0 {
			continue // the beginning of an area may be none
		}
		return h.chunk(a, a.last), h.chunk(a, a.before), true
	}
	return Chunk{}, Chunk{}, false
}
