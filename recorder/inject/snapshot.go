//go:build go1.23

package inject

import (
	"encoding/binary"
	"runtime/debug"
	"sync/atomic"
	"unsafe"
)

// Snapshots hold the truth about values, to verify a recording. Nothing is derived from them.

// What a snapshot holds; a variable n is snapshotVariable+n.
const (
	snapshotMemory   = 0
	snapshotSpread   = 1
	snapshotEntries  = 2
	snapshotVariable = 3
)

// samples counts how often sites were reached (sites can share counters).
var samples [1 << 12]atomic.Uint32

// sampledFirst is how often a site is sampled before it is sampled at powers of two only.
const sampledFirst = 8

// Sampled reports whether a snapshot is to be taken at a site.
func (f *Frame) Sampled(site uint32) bool {
	if f == nil {
		return false
	}
	n := samples[site%uint32(len(samples))].Add(1)
	return n <= sampledFirst || n&(n-1) == 0
}

// V takes a snapshot of a variable and of what it refers to.
func V[T any](f *Frame, variable uint32, p *T) {
	if f == nil || !verifies {
		return
	}
	th := f.here()
	if b := th.begin(kindSnapshot, eventRoom); b != nil {
		b = append(binary.AppendUvarint(b, snapshotVariable+uint64(variable)), 0)
		th.snapping = true
		th.complete(th.encode(b, hide(p), planFor(p), 0))
		th.snapping = false
	}
	for i := 0; i < len(th.queue); i++ {
		th.snapshot(th.queue[i])
	}
	clear(th.queue)
	th.queue = th.queue[:0]
}

// snapshot writes an object, or the first elements of a list.
func (th *thread) snapshot(q pointee) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	before := th.position()
	defer th.undo(&before)
	of := uint64(snapshotMemory)
	if q.count > 0 {
		of = snapshotSpread
	}
	b := th.begin(kindSnapshot, eventRoom)
	if b == nil {
		return
	}
	b = binary.AppendUvarint(b, of)
	b = binary.AppendUvarint(b, uint64(uintptr(q.address)))
	b = binary.AppendUvarint(b, uint64(q.plan.id))
	switch {
	case q.count == 0:
		b = th.item(b, q.address, q.plan, q.hops, len(b)+valueRoom, 0)
	case q.plan.form == formUint && q.plan.width == 1:
		b = th.spreadItems(b, q, min(q.count, maxText))
	default:
		b = th.spreadItems(b, q, min(q.count, maxElements))
	}
	th.complete(b)
}

// used remembers a map that own code has just used, for a snapshot after the statement.
func (th *thread) used(m unsafe.Pointer, pl *plan) {
	if verifies && m != nil {
		th.maps = append(th.maps, lent{at: m, plan: pl})
	}
}

// snapshotMaps takes a snapshot of all entries of the maps that the last statement has used.
func (th *thread) snapshotMaps() {
	for _, m := range th.maps {
		th.allEntries(kindSnapshot, hide(&m.at), m.plan)
	}
	clear(th.maps)
	th.maps = th.maps[:0]
}
