package replay

import (
	"context"
	"fmt"
	"slices"

	"wraithology/core/event"
	"wraithology/core/execlog"
)

// Write is one write of a variable, field or element. Old is nil where nothing
// was known before.
type Write struct {
	Place
	Old *Value
	New Value
}

// Writes are all the writes of a variable, field or element: how many, and a
// page of them.
type Writes struct {
	Total int
	Page  []Write
}

// given is a moment that says what a location holds. Sure says that the program
// stored there, so that it is a write even where the value stays the same.
type given struct {
	at    event.Moment
	value Value
	known bool // value is the location's whole value
	sure  bool
	moved uint64 // where it lay then, if its memory has been copied since
}

// Writes implements Replay.
func (r *logRecording) Writes(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, page Page) (Writes, error) {
	l, _, err := r.locatePath(path, at, t, frame)
	if err != nil {
		return Writes{}, err
	}
	list, err := r.writesOf(ctx, l, at)
	if err != nil {
		return Writes{}, err
	}
	out := Writes{Total: len(list)}
	from, to := page.Cut(len(list))
	for i := from; i < to; i++ {
		place, err := r.Place(list[i].at)
		if err != nil {
			return out, err
		}
		w := Write{Place: place, New: r.whole(l, list[i])}
		if i > 0 {
			old := r.whole(l, list[i-1])
			w.Old = &old
		}
		out.Page = append(out.Page, w)
	}
	return out, nil
}

// whole returns the value that a location holds once it was written.
func (r *logRecording) whole(l location, g given) Value {
	if g.known {
		return g.value
	}
	return l.at(r, g.at)
}

// LastWrite implements Replay.
func (r *logRecording) LastWrite(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (Write, bool, error) {
	l, _, err := r.locatePath(path, at, t, frame)
	if err != nil {
		return Write{}, false, err
	}
	g, ok := r.lastWrite(ctx, l, at)
	if !ok {
		return Write{}, false, ctx.Err()
	}
	place, err := r.Place(g.at)
	if err != nil {
		return Write{}, false, err
	}
	w := Write{Place: place, New: r.whole(l, g)}
	if before, ok := r.lastWrite(ctx, l, g.at-1); ok {
		old := r.whole(l, before)
		w.Old = &old
	}
	return w, true, nil
}

// writeMoments lists the moments at which what a path leads to was written.
func (r *logRecording) writeMoments(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) ([]event.Moment, error) {
	l, _, err := r.locatePath(path, at, t, frame)
	if err != nil {
		return nil, err
	}
	list, err := r.writesOf(ctx, l, at)
	out := make([]event.Moment, 0, len(list))
	for _, g := range list {
		out = append(out, g.at)
	}
	return out, err
}

// writesOf lists all writes of a location, oldest first: stores of the program,
// and moments at which it was found to hold something else than before.
func (r *logRecording) writesOf(ctx context.Context, l location, at event.Moment) ([]given, error) {
	var list []given
	for g := range r.givenAt(l, r.t.Len()-1, at) {
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
		if i > 0 && !g.sure && g.known && len(out) > 0 && out[len(out)-1].known && identity(out[len(out)-1].value.Value) == identity(g.value.Value) {
			continue
		}
		out = append(out, g)
	}
	return out, nil
}

// lastWrite finds the write that gave a location the value that it has at a moment.
func (r *logRecording) lastWrite(ctx context.Context, l location, at event.Moment) (given, bool) {
	if at < 0 {
		return given{}, false
	}
	var found given
	ok := false
	n := 0
	for g := range r.givenAt(l, at, at) {
		if n++; n%1024 == 0 && ctx.Err() != nil {
			return found, false
		}
		if ok && (!g.known || identity(g.value.Value) != identity(found.value.Value)) {
			return found, true
		}
		found, ok = g, true
		if g.sure || !g.known {
			return found, true
		}
	}
	return found, ok
}

// givenAt gives the moments, at most at from and latest first, that say what a
// location holds, as long as the memory is what it is at a moment.
func (r *logRecording) givenAt(l location, from, at event.Moment) func(yield func(given) bool) {
	switch {
	case l.entry != nil:
		return r.givenEntry(l, from)
	case l.call == event.NoCall:
		return r.givenMemory(l, from, at)
	}
	return r.givenVariable(l, from)
}

func (r *logRecording) givenVariable(l location, from event.Moment) func(yield func(given) bool) {
	return func(yield func(given) bool) {
		f := r.t.FunctionOf(l.call)
		for m := r.t.LastWrite(l.call, l.variable, from); m != event.NoMoment; m = r.t.LastWrite(l.call, l.variable, m-1) {
			v, err := r.written(m, l.variable, f, 0, m)
			if err != nil {
				return
			}
			value := l.part(Value{Value: v, Memory: r.memoryAt(l.process, m, 0)})
			if !yield(given{at: m, value: value, known: true, sure: len(l.within) == 0}) {
				return
			}
			if m == 0 {
				return
			}
		}
	}
}

func (r *logRecording) givenMemory(l location, from, at event.Moment) func(yield func(given) bool) {
	return func(yield func(given) bool) { r.eachGiven(l, from, at, 0, yield) }
}

// eachGiven calls yield for what the log says of a location in memory, and of
// where its bytes were copied from, latest first. It reports whether to go on.
func (r *logRecording) eachGiven(l location, from, at event.Moment, moves int, yield func(given) bool) bool {
	m := logMemory{r.t, l.process, 0, from, from, 0}
	for c := range r.t.Covering(l.process, l.address, l.of.Size, from) {
		e := c.At
		k := r.t.Kind(e)
		if k == event.Move {
			source, whole, known := m.moved(e, l.address, l.of.Size)
			if whole && known && moves < maxMoves {
				l.address = source
				return r.eachGiven(l, e-1, min(at, e-1), moves+1, yield)
			}
			if whole {
				return yield(given{at: e, value: Value{Value: event.Value{Type: l.of, State: event.Unrecorded}}, known: true})
			}
			continue
		}
		s, ok := m.stretchAt(e)
		if !ok || !s.overlaps(l.address, l.of.Size) {
			continue
		}
		g := given{at: e}
		if moves > 0 {
			g.moved = l.address
		}
		if !s.covers(l.address, l.of.Size) {
			g.sure = true
			if (k == event.Store || k == event.Cell) && !yield(g) { // of a part of it
				return false
			}
			continue
		}
		part, ok := s.part(l.address, l.of, m.Type)
		if !ok {
			if s.address == l.address || s.of.Form == event.Struct || s.of.Form == event.Array {
				if e > at {
					continue // the memory is something else later
				}
				return true // and was before
			}
			continue
		}
		g.known = true
		g.sure = k == event.Store && s.address == l.address && s.of == l.of && len(l.within) == 0
		g.value = l.part(Value{Value: part, Memory: r.memoryAt(l.process, e, 0)})
		if !yield(g) {
			return false
		}
	}
	return true
}

func (r *logRecording) givenEntry(l location, from event.Moment) func(yield func(given) bool) {
	return func(yield func(given) bool) {
		types := r.t.Types(l.process)
		wanted := identity(*l.entry)
		for m := range r.t.MapEvents(l.process, l.address, encodedKey(*l.entry), from) {
			e := r.t.Event(m)
			g := given{at: m, known: true, value: Value{Value: event.Value{State: event.Unassigned}, Memory: r.memoryAt(l.process, m, 0)}}
			if e.Kind == event.Entries {
				whole, err := execlog.DecodeEntries(e.Data, types)
				if err != nil || whole.Type != l.of {
					continue
				}
				for i := 0; i+1 < len(whole.Pairs); i += 2 {
					if identity(whole.Pairs[i]) == wanted {
						g.value.Value = whole.Pairs[i+1]
					}
				}
				if g.value.State == event.Unassigned && whole.Whole > 0 {
					continue // not among the entries that were said
				}
			} else {
				values, err := execlog.DecodeValues(e.Data, e.Args, types)
				if err != nil || identity(values[0]) != wanted {
					continue
				}
				g.sure = true
				if e.Kind == event.Element {
					g.value.Value = values[1]
				}
			}
			g.value = l.part(g.value)
			if !yield(g) {
				return
			}
		}
	}
}
