package timeline

import (
	"math"
	"sort"

	"wraithology/core/event"
)

// segmentSize is the number of words in a segment of a long list.
const segmentSize = 512

// List is a list of numbers in ascending order, usually of moments. It is read directly from the
// timeline's files.
type List struct {
	words  *bitPacked
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
		at = l.segment(i/segmentSize) + i%segmentSize
	}
	return event.Moment(l.words.at(at))
}

// Before returns the index of the last entry that is at most m, or -1.
func (l List) Before(m event.Moment) int { return l.upTo(m) - 1 }

// After returns the index of the first entry that is greater than m, or Len.
func (l List) After(m event.Moment) int { return l.upTo(m) }

// upTo counts the entries that are at most m.
func (l List) upTo(m event.Moment) int {
	n := l.Len()
	switch {
	case n == 0 || m < 0:
		return 0
	case m >= math.MaxUint32:
		return n
	case l.words == nil:
		if m < event.Moment(l.record.at) {
			return 0
		}
		return n
	}
	first, last := 0, (n-1)/segmentSize // the segments in which the first entry beyond m can be
	for first < last {
		middle := (first + last + 1) / 2
		if l.At(middle*segmentSize) > m {
			last = middle - 1
		} else {
			first = middle
		}
	}
	at := l.segment(first)
	return first*segmentSize + sort.Search(l.sizeOf(first), func(i int) bool { return event.Moment(l.words.at(at+i)) > m })
}

// segment returns the word at which a segment of a list with words begins.
func (l List) segment(i int) int {
	if l.record.count > segmentSize {
		return int(l.words.at(int(l.record.at) + i))
	}
	return int(l.record.at)
}

// sizeOf returns the number of entries of a segment.
func (l List) sizeOf(i int) int { return min(l.Len()-i*segmentSize, segmentSize) }

// AppendTo appends all entries to a slice.
func (l List) AppendTo(out []event.Moment) []event.Moment {
	if l.words == nil {
		for range l.Len() {
			out = append(out, event.Moment(l.record.at))
		}
		return out
	}
	for i := 0; i*segmentSize < l.Len(); i++ {
		at := l.segment(i)
		for j := range l.sizeOf(i) {
			out = append(out, event.Moment(l.words.at(at+j)))
		}
	}
	return out
}

// growing is a list that is being built. Only its last segment is in memory.
type growing struct {
	buf      []uint32
	segments []uint32
	count    uint32
}

// listWriter writes lists to the file of words.
type listWriter struct{ *bitPackedColumn }

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
	for _, x := range words {
		w.bitPackedColumn.add(uint64(x))
	}
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
