package state

import (
	"fmt"
	"slices"
	"unicode"
	"unicode/utf8"

	"wraithology/core/event"
)

// leftOut is what may have changed memory in a recording from which calls were left out.
const leftOut = "calls that were left out"

// wholeSince returns the moment since which nothing was left out that the thread of the moment did; 0
// if nothing was left out at all. A goroutine's first function is not recorded whole: what it calls was
// chosen from, so only its current line counts.
func (m Memory) wholeSince() event.Moment {
	if !m.t.Header.Sampled || m.at < 0 || m.at >= m.t.Len() || m.until != event.NoMoment {
		return 0
	}
	c := m.t.CallOf(m.at)
	if c == event.NoCall {
		return m.at
	}
	inner := event.NoCall
	call := m.t.Call(c)
	for call.Parent != event.NoCall {
		inner, c = c, call.Parent
		call = m.t.Call(c)
	}
	switch th := m.t.ThreadInfo(call.Thread); {
	case th.Number != 1 && !m.overlaps.startsOwn(th.Creator): // a call from code that is not recorded
		return call.Enter
	case inner != event.NoCall:
		return m.t.Call(inner).Enter
	}
	return max(m.t.LastLine(c, m.at), call.Enter)
}

// doubts are the bytes of a value that code that is not recorded may have changed since they were
// last recorded.
type doubts struct {
	bytes bytesKnown
	list  []doubt
}

// doubt is a range of bytes, with what may have changed them.
type doubt struct {
	from, to uint64
	by       string
}

// maxDoubts limits the places that are remembered for one value.
const maxDoubts = 64

// add adds the bytes of a range, apart from those that are known since.
func (d *doubts) add(size uint64, x doubt, since bytesKnown) {
	for i := x.from; i < x.to; i++ {
		if !since.all(i, i+1) {
			d.bytes.add(size, i, i+1)
		}
	}
	if len(d.list) < maxDoubts {
		d.list = append(d.list, x)
	}
}

// volatile adds the unexported fields of a foreign struct, which other threads change without an
// event, for a value of size bytes at an address in it.
func (d *doubts) volatile(s stretch, address, size uint64, since bytesKnown) {
	for i, f := range s.Of.Fields {
		if r, _ := utf8.DecodeRuneInString(f.Name); unicode.IsUpper(r) {
			continue
		}
		from, to := s.Address+f.Offset, s.end()
		if i+1 < len(s.Of.Fields) {
			to = s.Address + s.Of.Fields[i+1].Offset
		}
		if from, to = max(from, address), min(to, address+size); from < to {
			d.add(size, doubt{from - address, to - address, "other threads"}, since)
		}
	}
}

// of returns what may have changed a part of some bytes, the latest first.
func (d *doubts) of(from, to uint64) (by string, ok bool) {
	for i := from; i < to; i++ {
		if d.bytes != nil && !d.bytes.all(i, i+1) { // of very long values single bytes are not tracked
			continue
		}
		for _, x := range d.list {
			if x.from <= i && i < x.to {
				return x.by, true
			}
		}
	}
	return "", false
}

// doubt marks the parts of a value, at an offset in the value that was looked for, that may have
// changed.
func (m Memory) doubt(v *event.Value, offset uint64, d *doubts, depth int) {
	if v.Type == nil || v.State != event.Known || depth > 32 {
		return
	}
	if v.Type.Form == event.Struct && !v.Nil {
		v.Items = slices.Clone(v.Items)
		for i := range v.Items {
			if i < len(v.Type.Fields) {
				m.doubt(&v.Items[i], offset+v.Type.Fields[i].Offset, d, depth+1)
			}
		}
		return
	}
	if e := m.Type(v.Type.Elem); v.Type.Form == event.Array && e != nil {
		v.Items = slices.Clone(v.Items)
		for i := range v.Items {
			m.doubt(&v.Items[i], offset+uint64(i)*e.Size, d, depth+1)
		}
		return
	}
	if by, ok := d.of(offset, offset+v.Type.Size); ok {
		*v = mayHaveChanged(*v, by)
	}
}

func mayHaveChanged(v event.Value, by string) event.Value {
	return event.Value{Type: v.Type, State: event.MayHaveChanged, Text: by, Last: &v}
}

// MayHaveChanged returns a value that code that is not recorded may have changed at a moment.
func (m Memory) MayHaveChanged(v event.Value, at event.Moment) event.Value {
	return mayHaveChanged(v, m.exposedBy(at))
}

// exposedBy returns the code that may have changed memory at the moment of an Exposed event, and its
// line.
func (m Memory) exposedBy(at event.Moment) string {
	_, by := event.DecodeExposed(m.t.Event(at).Data)
	if c := m.t.CallOf(at); c != event.NoCall {
		if line := m.t.LastLine(c, at); line != event.NoMoment {
			by += fmt.Sprintf(", line %d", m.t.Site(line).Line)
		}
	}
	return by
}
