package state

import (
	"fmt"
	"reflect"
	"slices"

	"wraithology/core/event"
)

// unused is a variable that its call does not use any more. The garbage collector may have freed what only it refers to, and
// other code may use that memory again. What the program then stores there itself is a new object to the log (event.Made, or
// stores into an object that is reached otherwise), but objects of code that is not recorded are only seen when they are read.
type unused struct {
	since event.Moment // the first line after the last use
	line  int          // of the last use
}

// isReading reports whether events of a kind say what memory holds, and not what was stored there.
func isReading(kind event.Kind) bool {
	return kind == event.Memory || kind == event.Spread || kind == event.Entries
}

func (u *unused) reason() string {
	return fmt.Sprintf("other code, which may use the memory for another object: the variable is not used after line %d", u.line)
}

// unusedSince returns how long a variable has not been used at a moment of its call, or nil if it may still be used.
func (r *Log) unusedSince(v event.Variable, id event.VariableID, c event.CallID, written, at event.Moment) *unused {
	if v.Scope != event.Local && v.Scope != event.Parameter || !r.Recorded() || r.T.Kind(written) == event.Cell {
		return nil
	}
	last := r.Syntax.LastUse(r.T.Call(c).Function, id)
	if last <= 0 || r.lineOf(c, at) <= last {
		return nil
	}
	// After the write the lines up to the last use come first: nothing goes back to them.
	lines := r.T.CallLines(c)
	from, to := lines.Before(written)+1, lines.Before(at)
	for from < to {
		middle := (from + to) / 2
		if r.T.Site(lines.At(middle)).Line > last {
			to = middle
		} else {
			from = middle + 1
		}
	}
	if from >= lines.Len() {
		return nil
	}
	return &unused{since: r.lastReading(lines.At(from)), line: last}
}

// maxReadAgain limits the moments after a line that are searched for memory which the line before had passed to other code.
const maxReadAgain = 1 << 16

// lastReading returns the last of the events with which a thread reads memory right after a moment, or the moment.
func (r *Log) lastReading(at event.Moment) event.Moment {
	thread, last := r.T.Thread(at), at
	for n := at + 1; n < min(r.T.Len(), at+maxReadAgain); n++ {
		if r.T.Thread(n) != thread {
			continue
		}
		if !isReading(r.T.Kind(n)) {
			break
		}
		last = n
	}
	return last
}

// then returns the memory when the variable was used last.
func (m Memory) then() Memory {
	m.at, m.until, m.unused = m.unused.since, m.unused.since, nil
	return m
}

// reused reports whether memory was read since the variable was used last, and was not what the log had said until then.
func (m Memory) reused(address, size uint64) bool {
	then := m.then()
	n := 0
	for c := range m.t.Covering(m.process, address, size, m.reach()) {
		if n++; c.At <= m.unused.since || n > maxSearched {
			return false
		}
		if !isReading(m.t.Kind(c.At)) {
			continue
		}
		s, ok := m.StretchAt(c.At)
		if !ok {
			continue
		}
		for i, item := range s.Items {
			at := s.Address + uint64(i)*s.Of.Size
			if at < address+size && at+s.Of.Size > address && !reflect.DeepEqual(then.Load(at, s.Of), item) {
				return true
			}
		}
	}
	return false
}

// reusedMap returns the entries that a map had when the variable was used last, if it has been read since and had others.
func (m Memory) reusedMap(address uint64, t *event.Type) (pairs []event.Value, reused bool) {
	isRead := slices.ContainsFunc(m.mapEvents(address), func(at event.Moment) bool { return at > m.unused.since && isReading(m.t.Kind(at)) })
	if !isRead {
		return nil, false
	}
	now := m
	now.unused = nil
	after, _ := now.Entries(address, t)
	before, _ := m.then().Entries(address, t)
	if reflect.DeepEqual(before, after) {
		return nil, false
	}
	pairs = slices.Clone(before)
	for i := 1; i < len(pairs); i += 2 {
		if pairs[i].State == event.Known {
			pairs[i] = mayHaveChanged(pairs[i], m.unused.reason())
		}
	}
	return pairs, true
}
