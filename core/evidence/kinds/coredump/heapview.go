package coredump

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/heap"
	"wraithology/core/replay"
)

// allocator returns the heap of glibc's allocator, which is read when it is first asked for; nil if there is none.
func (d *Dump) allocator() *heap.Heap {
	d.heapOnce.Do(func() {
		if main := d.brk(); main != (heap.Range{}) && (d.golang == nil || d.hasLibrary()) {
			d.heap, _ = heap.Find(context.Background(), &d.core.Memory, d.libraryData(), main)
		}
	})
	return d.heap
}

// isCLibrary reports whether a module is the C library.
func isCLibrary(l *loaded) bool {
	name := path.Base(l.Path)
	return strings.HasPrefix(name, "libc.so") || strings.HasPrefix(name, "libc-2.")
}

func (d *Dump) hasLibrary() bool { return slices.ContainsFunc(d.modules, isCLibrary) }

// libraryData returns the writable memory of the C library; of the program, if that is linked with it.
func (d *Dump) libraryData() (out []heap.Range) {
	for _, x := range d.core.Memory.Mappings() {
		if !x.Writable {
			continue
		}
		for _, l := range d.modules {
			if l.Contains(x.Start) && (isCLibrary(l) || l == d.program && !d.hasLibrary()) {
				out = append(out, heap.Range{Start: x.Start, End: x.End})
			}
		}
	}
	return out
}

// brk returns the memory above the program; the zero Range if there is none.
func (d *Dump) brk() heap.Range {
	d.brkOnce.Do(func() {
		if d.program == nil {
			return
		}
		for _, x := range d.core.Memory.Mappings() {
			switch {
			case x.Start < d.program.End || x.Start-d.program.End >= maxBrkGap || !x.Writable || x.Path != "" || d.at(x.Start) != nil:
			case d.brkRange == heap.Range{}:
				d.brkRange = heap.Range{Start: x.Start, End: x.End}
			case x.Start == d.brkRange.End:
				d.brkRange.End = x.End
			}
		}
	})
	return d.brkRange
}

// maxBrkGap is the maximum distance of that memory from the program: the kernel chooses it at random.
const maxBrkGap = 1 << 36

// chunkAt returns the chunk at an address.
func (d *Dump) chunkAt(address uint64) (c heap.Chunk, before, after *heap.Chunk, ok bool) {
	x, mapped := d.core.Memory.At(address)
	if !mapped || x.Path != "" {
		return c, nil, nil, false
	}
	h := d.allocator()
	if h == nil {
		return c, nil, nil, false
	}
	return h.At(address, heap.Range{Start: x.Start, End: x.End})
}

// describeChunk describes the chunk at an address and its neighbours; empty if there is none.
func (d *Dump) describeChunk(address uint64) string {
	c, before, after, ok := d.chunkAt(address)
	if !ok {
		return ""
	}
	out := placeIn(c, address)
	if before != nil {
		out += "; before it " + chunkText(*before)
	}
	if after != nil {
		out += "; after it " + chunkText(*after)
	}
	return out
}

// placeIn describes an address in a chunk.
func placeIn(c heap.Chunk, address uint64) string {
	if address < c.User {
		return "the header of " + chunkText(c)
	}
	return fmt.Sprintf("offset %d of %s", address-c.User, chunkText(c))
}

func chunkText(c heap.Chunk) string {
	if c.State == heap.Damaged {
		return fmt.Sprintf("a damaged chunk at 0x%x, whose size would be 0x%x", c.User, c.Size)
	}
	return fmt.Sprintf("a chunk of %d bytes at 0x%x, %s", c.Size, c.User, c.State)
}

// isFreed reports whether an address is in a chunk that was freed. Heaps that take long to read are not asked.
func (d *Dump) isFreed(address uint64) bool {
	if x, ok := d.core.Memory.At(address); !ok || x.Path != "" || d.heapSize() > maxAskedHeap {
		return false
	}
	c, _, _, ok := d.chunkAt(address)
	return ok && c.State == heap.Free
}

// heapSize returns the size of the memory above the program, in bytes.
func (d *Dump) heapSize() uint64 { return d.brk().End - d.brk().Start }

// maxAskedHeap limits the heap for which each pointer is looked up, in bytes.
const maxAskedHeap = 256 << 20

// heapMessages begin the messages with which the allocator ends a program.
var heapMessages = []string{"free(): ", "malloc(): ", "malloc_consolidate(): ", "realloc(): ", "corrupted ", "double free", "munmap_chunk(): ", "tcache_", "sysmalloc: ", "mremap_chunk(): "}

func isHeapMessage(text string) bool {
	for _, m := range heapMessages {
		if strings.HasPrefix(text, m) {
			return true
		}
	}
	return false
}

// explainHeap says what is damaged after the allocator ended the program: what the first damaged chunk holds, and which
// variables lead to it or to the one before it, which may have been written beyond its end; and which variables of
// the frame's line lead to memory that is free.
func (d *Dump) explainHeap(f *failure, list []frame, own int) string {
	h := d.allocator()
	if h == nil {
		return ""
	}
	if c, before, ok := h.Damage(); ok {
		holds := ""
		if b, ok := d.read(c.Start, 16); ok {
			holds = fmt.Sprintf(", which holds % x", b)
			if isPrintable(b) {
				holds += fmt.Sprintf(" (%q)", b)
			}
		}
		return fmt.Sprintf("; the header of the chunk at 0x%x is damaged%s; before it is %s%s", c.User, holds, chunkText(before), d.leadingTo(f, list, before.User))
	}
	if own >= len(list) {
		return ""
	}
	out := ""
	for _, c := range d.pointersOn(&list[own]) {
		chunk, _, _, ok := d.chunkAt(c.value.Address)
		switch {
		case ok && chunk.State == heap.Free && chunk.User == c.value.Address:
			out += fmt.Sprintf("; %s leads to %s", c.path, chunkText(chunk))
		case ok && chunk.User != c.value.Address && chunk.State != heap.Damaged:
			out += fmt.Sprintf("; %s is not the beginning of a chunk, but %s", c.path, placeIn(chunk, c.value.Address))
		default:
			continue
		}
		if f.Suspect == "" {
			f.Suspect = c.path
		}
	}
	return out
}

// pointersOn lists the pointers that a frame's line names, and those in arrays that it names.
func (d *Dump) pointersOn(f *frame) (out []candidate) {
	leads := func(v replay.Value) bool {
		return v.State == event.Known && !v.Nil && (v.Form() == event.Pointer || v.Form() == event.Text)
	}
	for _, c := range d.holding(f, func(v replay.Value) bool { return leads(v) || v.State == event.Known && v.Form() == event.Array }) {
		switch {
		case c.named == 0:
		case leads(c.value):
			out = append(out, c)
		default:
			parts, _ := c.value.Children(replay.Page{Count: maxSuspectParts})
			for _, p := range parts {
				if leads(p.Value) {
					out = append(out, candidate{path: c.path + p.Name, root: c.root, value: p.Value, depth: c.depth + 1, named: c.named})
				}
			}
		}
	}
	return out
}

// mostLeading limits the variables that are named.
const mostLeading = 3

// leadingTo names variables of the failing thread that lead to an address.
func (d *Dump) leadingTo(f *failure, list []frame, address uint64) string {
	var names []string
	for i := range list {
		if !list[i].Own || len(names) == mostLeading {
			continue
		}
		for _, c := range append(d.pointersOn(&list[i]), d.holding(&list[i], func(v replay.Value) bool { return isPointer(v, address) })...) {
			if name := fmt.Sprintf("%s in %s", c.path, list[i].Function); isPointer(c.value, address) && len(names) < mostLeading && !slices.Contains(names, name) {
				names = append(names, name)
				if f.Suspect == "" {
					f.Suspect = c.path
				}
			}
		}
	}
	if len(names) == 0 {
		return ""
	}
	return ", where " + strings.Join(names, " and ") + " leads"
}
