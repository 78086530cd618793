// Package writes finds the writes of variables, fields and elements.
package writes

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// Reader finds writes in a timeline.
type Reader struct{ *state.Log }

// Record is a moment with the value of a location. isStore is set if the program stored there, so
// that it is a write even if the value stays the same.
type Record struct {
	At      event.Moment
	value   replay.Value
	known   bool // value is the location's whole value
	isStore bool
	Moved   uint64 // the location at that time, if its memory has been copied since
}

// Writes implements replay.History.
func (r Reader) Writes(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, page replay.Page) (replay.Writes, error) {
	list, l, err := r.allWrites(ctx, path, at, t, frame)
	if err != nil {
		return replay.Writes{}, err
	}
	out := replay.Writes{Total: len(list)}
	from, to := page.Cut(len(list))
	for i := from; i < to; i++ {
		place, err := r.Place(list[i].At)
		if err != nil {
			return out, err
		}
		w := replay.Write{Place: place, New: r.Whole(l, list[i])}
		if i > 0 {
			old := r.Whole(l, list[i-1])
			w.Old = &old
		}
		out.Page = append(out.Page, w)
	}
	return out, nil
}

// Whole returns the value of a location after it was written.
func (r Reader) Whole(l state.Location, g Record) replay.Value {
	if g.known {
		return g.value
	}
	return l.At(r.Log, g.At)
}

// LastWrite implements replay.History.
func (r Reader) LastWrite(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (replay.Write, bool, error) {
	l, _, err := r.LocatePath(path, at, t, frame)
	if err != nil {
		return replay.Write{}, false, err
	}
	g, ok := r.LastWriteOf(ctx, l, at)
	if !ok {
		return replay.Write{}, false, ctx.Err()
	}
	place, err := r.Place(g.At)
	if err != nil {
		return replay.Write{}, false, err
	}
	w := replay.Write{Place: place, New: r.Whole(l, g)}
	if before, ok := r.LastWriteOf(ctx, l, g.At-1); ok {
		old := r.Whole(l, before)
		w.Old = &old
	}
	return w, true, nil
}

// allWrites lists the writes of a path. An entry that its map no longer has at the moment has writes too, if it
// existed.
func (r Reader) allWrites(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (list []Record, l state.Location, err error) {
	l, _, err = r.LocatePath(path, at, t, frame)
	missing := err
	if err != nil && (!errors.Is(err, state.ErrNoEntry) || l.Entry == nil) {
		return nil, l, err
	}
	if list, err = r.WritesOf(ctx, l, at); err == nil && len(list) == 0 {
		err = missing
	}
	return list, l, err
}

// WriteMoments lists the moments of the writes of a path.
func (r Reader) WriteMoments(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) ([]event.Moment, error) {
	list, _, err := r.allWrites(ctx, path, at, t, frame)
	out := make([]event.Moment, 0, len(list))
	for _, g := range list {
		out = append(out, g.At)
	}
	return out, err
}

// WritesOf lists all writes of a location, oldest first: stores of the program, and moments at
// which its value was found to differ.
func (r Reader) WritesOf(ctx context.Context, l state.Location, at event.Moment) ([]Record, error) {
	var list []Record
	for g := range r.recordsAt(l, r.T.Len()-1, at) {
		if len(list)%1024 == 0 && ctx.Err() != nil {
			return nil, fmt.Errorf("list the writes: %w", ctx.Err())
		}
		list = append(list, g)
	}
	slices.Reverse(list)
	out := list[:0]
	for i, g := range list {
		if len(out) == 0 && g.known && g.value.State == event.Unassigned {
			continue // the map was made, and had no such entry yet
		}
		if i > 0 && !g.isStore && g.known && len(out) > 0 && out[len(out)-1].known && replay.Identity(out[len(out)-1].value.Value) == replay.Identity(g.value.Value) {
			continue
		}
		out = append(out, g)
	}
	return out, nil
}

// LastWriteOf finds the write that gave a location its value at a moment.
func (r Reader) LastWriteOf(ctx context.Context, l state.Location, at event.Moment) (Record, bool) {
	if at < 0 {
		return Record{}, false
	}
	var found Record
	ok := false
	n := 0
	for g := range r.recordsAt(l, at, at) {
		if n++; n%1024 == 0 && ctx.Err() != nil {
			return found, false
		}
		if ok && (!g.known || replay.Identity(g.value.Value) != replay.Identity(found.value.Value)) {
			return found, true
		}
		found, ok = g, true
		if g.isStore || !g.known {
			return found, true
		}
	}
	return found, ok
}

// recordsAt yields the records of a location, latest first, at most at from, as long as its memory
// is the same as at a moment.
func (r Reader) recordsAt(l state.Location, from, at event.Moment) func(yield func(Record) bool) {
	switch {
	case l.Entry != nil:
		return r.entryRecords(l, from)
	case l.Call == event.NoCall:
		return r.memoryRecords(l, from, at)
	}
	return r.variableRecords(l, from)
}

func (r Reader) variableRecords(l state.Location, from event.Moment) func(yield func(Record) bool) {
	return func(yield func(Record) bool) {
		f := r.T.FunctionOf(l.Call)
		for m := r.T.LastWrite(l.Call, l.Variable, from); m != event.NoMoment; m = r.T.LastWrite(l.Call, l.Variable, m-1) {
			v, err := r.ValueWritten(m, l.Variable, f, 0, m)
			if err != nil {
				return
			}
			value := l.Part(replay.Value{Value: v, Memory: r.MemoryAt(l.Process, m, 0)})
			if !yield(Record{At: m, value: value, known: true, isStore: len(l.Within) == 0 || r.assigned(l, m)}) {
				return
			}
			if m == 0 {
				return
			}
		}
	}
}

// assigned reports whether the line that wrote a variable at a moment assigned all of it, and so each part.
func (r Reader) assigned(l state.Location, m event.Moment) bool {
	f := r.T.FunctionOf(l.Call)
	line := r.T.LastLine(l.Call, m)
	return line != event.NoMoment && int(l.Variable) < len(f.Variables) && slices.Contains(r.T.Site(line).Writes, f.Variables[l.Variable].Name)
}

func (r Reader) memoryRecords(l state.Location, from, at event.Moment) func(yield func(Record) bool) {
	return func(yield func(Record) bool) { r.eachRecord(l, r.livesUntil(l, from, at), at, 0, yield) }
}

// livesUntil returns the last moment, at most from, at which the memory of a location is the object
// that it is at a moment.
func (r Reader) livesUntil(l state.Location, from, at event.Moment) event.Moment {
	until := from
	for c := range r.T.Covering(l.Process, l.Address, l.Of.Size, from) {
		if c.At <= at {
			break
		}
		if r.T.Kind(c.At) == event.Made {
			until = c.At - 1
		}
	}
	return until
}

// eachRecord calls yield for the records of a location in memory, and of the places from which its
// bytes were copied, latest first. It returns false if yield did.
func (r Reader) eachRecord(l state.Location, from, at event.Moment, moves int, yield func(Record) bool) bool {
	m := r.MemoryUntil(l.Process, from)
	for c := range r.T.Covering(l.Process, l.Address, l.Of.Size, from) {
		e := c.At
		k := r.T.Kind(e)
		if k == event.Move {
			source, whole, known := m.Moved(e, l.Address, l.Of.Size)
			if whole && known && moves < state.MaxMoves {
				l.Address = source
				return r.eachRecord(l, e-1, min(at, e-1), moves+1, yield)
			}
			if whole {
				return yield(Record{At: e, value: replay.Value{Value: event.Value{Type: l.Of, State: event.Unrecorded}}, known: true})
			}
			continue
		}
		if k == event.Made {
			return true // what was there before is another object
		}
		if k == event.Exposed {
			if !yield(Record{At: e, value: replay.Value{Value: m.MayHaveChanged(event.Value{Type: l.Of}, e)}, known: true}) {
				return false
			}
			continue
		}
		s, ok := m.StretchAt(e)
		if !ok || !s.Overlaps(l.Address, l.Of.Size) {
			continue
		}
		g := Record{At: e}
		if moves > 0 {
			g.Moved = l.Address
		}
		if !s.Covers(l.Address, l.Of.Size) {
			g.isStore = true
			if (k == event.Store || k == event.Cell) && !yield(g) { // of a part of it
				return false
			}
			continue
		}
		part, ok := s.Part(l.Address, l.Of, m.Type)
		if !ok {
			if s.Address == l.Address || s.Of.Form == event.Struct || s.Of.Form == event.Array {
				if e > at {
					continue // the memory is something else later
				}
				return true // and was before
			}
			continue
		}
		g.known = true
		g.isStore = k == event.Store && s.Address == l.Address && s.Of == l.Of && len(l.Within) == 0
		g.value = l.Part(replay.Value{Value: part, Memory: r.MemoryAt(l.Process, e, 0)})
		if !yield(g) {
			return false
		}
	}
	return true
}

func (r Reader) entryRecords(l state.Location, from event.Moment) func(yield func(Record) bool) {
	return func(yield func(Record) bool) {
		types := r.T.Types(l.Process)
		wanted := replay.Identity(*l.Entry)
		for m := range r.T.MapEvents(l.Process, l.Address, state.EncodedKey(*l.Entry), from) {
			e := r.T.Event(m)
			g := Record{At: m, known: true, value: replay.Value{Value: event.Value{State: event.Unassigned}, Memory: r.MemoryAt(l.Process, m, 0)}}
			if e.Kind == event.Exposed {
				g.value.Value = r.MemoryUntil(l.Process, m).MayHaveChanged(event.Value{Type: types(l.Of.Elem)}, m)
			} else if e.Kind == event.Entries {
				whole, err := event.DecodeEntries(e.Data, types)
				if err != nil || whole.Type != l.Of {
					continue
				}
				for i := 0; i+1 < len(whole.Pairs); i += 2 {
					if replay.Identity(whole.Pairs[i]) == wanted {
						g.value.Value = whole.Pairs[i+1]
					}
				}
				if g.value.State == event.Unassigned && whole.Whole > 0 {
					continue // not among the entries that were said
				}
			} else {
				values, err := event.DecodeValues(e.Data, e.Args, types)
				if err != nil || replay.Identity(values[0]) != wanted {
					continue
				}
				g.isStore = true
				if e.Kind == event.Element {
					g.value.Value = values[1]
				}
			}
			g.value = l.Part(g.value)
			if !yield(g) {
				return
			}
		}
	}
}
