package timeline

import (
	"bytes"

	"wraithology/core/event"
)

// Containing returns the moments from one to another, the latter excluded, whose events may contain one
// of some byte sequences in their encoded form (docs/formats/execution-log.md), in order. It looks
// at the bytes of all events of a block at once.
func (t *Timeline) Containing(from, to event.Moment, sequences [][]byte) []event.Moment {
	var out []event.Moment
	x := located{sequences: sequences}
	buffer := make([]byte, 0, blockSize)
	for m := from; m < to; {
		x.moments, x.offsets = x.moments[:0], x.offsets[:0]
		block := uint64(0)
		for ; m < to; m++ {
			if t.kinds.at(int(m))&hasData == 0 {
				continue
			}
			place := t.places.at(int(m))
			if len(x.moments) == 0 {
				block = place >> placeBits
			} else if place>>placeBits != block {
				break
			}
			x.moments, x.offsets = append(x.moments, m), append(x.offsets, int(place%blockSize))
		}
		if len(x.moments) == 0 {
			break
		}
		x.data = t.data.glance(int(block), buffer)
		if end, ok := t.endOf(m, block); ok { // the events after the last one are not asked for
			x.data = x.data[:end]
		}
		out = x.containing(out)
	}
	return out
}

// endOf returns the offset in a block of the first event at or after a moment, if it is in that block.
func (t *Timeline) endOf(m event.Moment, block uint64) (int, bool) {
	for ; m < t.Len() && t.places.at(int(m))>>placeBits == block; m++ {
		if t.kinds.at(int(m))&hasData != 0 {
			return int(t.places.at(int(m)) % blockSize), true
		}
	}
	return 0, false
}

// located are events in the bytes of a block, with the sequences that are looked for.
type located struct {
	data      []byte
	moments   []event.Moment
	offsets   []int
	sequences [][]byte
}

// containing appends the moments of the events that contain a sequence.
func (x *located) containing(out []event.Moment) []event.Moment {
	at := make([]int, len(x.sequences)) // where each sequence is next
	for i := range at {
		at[i] = next(x.data, x.sequences[i], x.offsets[0])
	}
	for i := 0; i < len(x.offsets); {
		nearest := len(x.data)
		for _, offset := range at {
			nearest = min(nearest, offset)
		}
		if nearest == len(x.data) {
			return out
		}
		for i++; i < len(x.offsets) && x.offsets[i] <= nearest; {
			i++
		}
		out = append(out, x.moments[i-1]) // the event with the nearest sequence
		after := len(x.data)
		if i < len(x.offsets) {
			after = x.offsets[i]
		}
		for j := range at {
			if at[j] < after {
				at[j] = next(x.data, x.sequences[j], after)
			}
		}
	}
	return out
}

// next returns the offset of a sequence in data at or after from; the length of data if there is none.
func next(data, sequence []byte, from int) int {
	if i := bytes.Index(data[from:], sequence); i >= 0 {
		return from + i
	}
	return len(data)
}
