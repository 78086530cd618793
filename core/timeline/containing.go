package timeline

import (
	"bytes"

	"wraithology/core/event"
)

// Containing returns the moments from one to another, the latter excluded, whose events may contain one
// of some byte sequences in their encoded form (docs/formats/execution-log.md), in order. It looks
// at the bytes of all events at once.
func (t *Timeline) Containing(from, to event.Moment, sequences [][]byte) []event.Moment {
	var out []event.Moment
	for m := from; m < to; {
		chunk := int(m / chunkSize)
		end := min(to, event.Moment(chunk+1)*chunkSize)
		out = t.containing(out, chunk, m, end, sequences)
		m = end
	}
	return out
}

// containing is Containing within a chunk.
func (t *Timeline) containing(out []event.Moment, chunk int, from, to event.Moment, sequences [][]byte) []event.Moment {
	base := int(t.chunks.ref(chunk).data)
	until := t.data.len()
	if chunk+1 < t.chunks.len() {
		until = int(t.chunks.ref(chunk + 1).data)
	}
	offsets := t.offsets.slice(int(from), int(to))
	first := 0
	for first < len(offsets) && offsets[first] == noData {
		first++
	}
	if first == len(offsets) {
		return out
	}
	if to < t.Len() && int(to)%chunkSize != 0 { // the events after the last one are not asked for
		for m := to; m < min(t.Len(), event.Moment(chunk+1)*chunkSize); m++ {
			t.offsets.need(int(m))
			if x := t.offsets.list[m]; x != noData {
				until = base + int(x)
				break
			}
		}
	}
	data := t.data.slice(base, until)
	at := make([]int, len(sequences)) // where each sequence is next
	for i := range at {
		at[i] = next(data, sequences[i], int(offsets[first]))
	}
	for i := first; i < len(offsets); {
		nearest := len(data)
		for _, x := range at {
			nearest = min(nearest, x)
		}
		if nearest == len(data) {
			return out
		}
		k := i // the event with the nearest sequence
		for i++; i < len(offsets); i++ {
			if offsets[i] == noData {
				continue
			}
			if int(offsets[i]) > nearest {
				break
			}
			k = i
		}
		out = append(out, from+event.Moment(k))
		after := len(data)
		if i < len(offsets) {
			after = int(offsets[i])
		}
		for j := range at {
			if at[j] < after {
				at[j] = next(data, sequences[j], after)
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
