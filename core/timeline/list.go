package timeline

import (
	"sort"

	"wraithology/core/event"
)

// segmentSize is the number of words in a segment of a long list.
const segmentSize = 512

// List is a list of numbers in ascending order, usually of moments. It is read directly from the
// timeline's files.
type List struct {
	words  *records[uint32]
	record listRecord
}

// Len returns the length of the list.
func (l List) Len() int { return int(l.record.count) }

// At returns an entry of the list.
func (l List) At(i int) event.Moment {
	if l.words == nil { // a single entry is in the record
		return event.Moment(l.record.at)
	}
	at := int(l.record.at) + i
	if l.record.count > segmentSize {
		segment := int(l.record.at) + i/segmentSize
		l.words.need(segment)
		at = int(l.words.list[segment]) + i%segmentSize
	}
	l.words.need(at)
	return event.Moment(l.words.list[at])
}

// Before returns the index of the last entry that is at most m, or -1.
func (l List) Before(m event.Moment) int {
	return sort.Search(l.Len(), func(i int) bool { return l.At(i) > m }) - 1
}

// After returns the index of the first entry that is greater than m, or Len.
func (l List) After(m event.Moment) int {
	return sort.Search(l.Len(), func(i int) bool { return l.At(i) > m })
}

// growing is a list that is being built. Only its last segment is in memory.
type growing struct {
	buf      []uint32
	segments []uint32
	count    uint32
}

// listWriter writes lists to the file of words.
type listWriter struct{ *column[uint32] }

func (w listWriter) add(g *growing, x uint32) {
	if len(g.buf) == segmentSize {
		g.segments = append(g.segments, w.segment(g.buf))
		g.buf = g.buf[:0]
	}
	g.buf = append(g.buf, x)
	g.count++
}

func (w listWriter) segment(words []uint32) uint32 {
	at := uint32(w.n)
	w.column.addAll(words)
	return at
}

// end writes the rest of a list and clears it.
func (w listWriter) end(g *growing) listRecord {
	r := listRecord{count: g.count}
	if g.count > 0 {
		r.at = w.segment(g.buf)
	}
	if len(g.segments) > 0 {
		g.segments = append(g.segments, r.at)
		r.at = w.segment(g.segments)
	}
	g.buf, g.segments, g.count = g.buf[:0], nil, 0
	return r
}

// grouped are growing lists by number.
type grouped []*growing

func (g grouped) add(w listWriter, i, x uint32) {
	if int(i) >= len(g) {
		return
	}
	if g[i] == nil {
		g[i] = &growing{}
	}
	w.add(g[i], x)
}

func (g grouped) end(w listWriter, into *column[listRecord]) {
	for _, list := range g {
		if list == nil {
			into.add(listRecord{})
			continue
		}
		into.add(w.end(list))
	}
}
