package races

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Bounds of a search for overlapping calls.
const (
	mostCalls     = 200_000 // calls of the function
	mostInCall    = 20_000  // moments of a call that are examined
	mostBefore    = 20_000  // moments before a call in which its thread may have taken a lock
	mostAccesses  = 20      // reads and writes of a call that are listed
	mostInOverlap = 16      // calls of a group that are described
)

// callSpan is a call with its key.
type callSpan struct {
	id     event.CallID
	thread event.ThreadID
	enter  event.Moment
	leave  event.Moment // the last moment if it did not end
	key    string
}

// Overlaps implements replay.Racer.
func (r Racer) Overlaps(ctx context.Context, function string, key func(at event.Moment, t event.ThreadID) (string, error), page replay.Page) (replay.Overlaps, error) {
	out := replay.Overlaps{}
	calls, err := r.callsOf(ctx, function, key, &out)
	if err != nil {
		return out, err
	}
	var groups [][]callSpan
	for from := 0; from < len(calls); {
		to, end := from+1, calls[from].leave
		for to < len(calls) && calls[to].key == calls[from].key && calls[to].enter < end {
			end = max(end, calls[to].leave)
			to++
		}
		if slices.ContainsFunc(calls[from:to], func(c callSpan) bool { return c.thread != calls[from].thread }) {
			groups = append(groups, calls[from:to])
		}
		from = to
	}
	slices.SortStableFunc(groups, func(a, b []callSpan) int { return cmp.Compare(a[0].enter, b[0].enter) })
	out.Total = len(groups)
	from, to := page.Cut(len(groups))
	x := &search{Racer: r, names: r.writtenNames()}
	for _, g := range groups[from:to] {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		out.Page = append(out.Page, x.overlap(g))
	}
	return out, nil
}

// callsOf lists the calls of a function that have a key, by key and beginning.
func (r Racer) callsOf(ctx context.Context, function string, key func(at event.Moment, t event.ThreadID) (string, error), out *replay.Overlaps) ([]callSpan, error) {
	var calls []callSpan
	found := false
	for id, f := range r.T.Functions {
		if f.Name != function {
			continue
		}
		found = true
		list := r.T.Enters(id)
		out.Unexamined += max(list.Len()-mostCalls, 0)
		for i := range min(list.Len(), mostCalls) {
			if i%1024 == 0 && ctx.Err() != nil {
				return nil, ctx.Err()
			}
			m := list.At(i)
			call := r.T.Call(r.T.CallOf(m))
			s := callSpan{r.T.CallOf(m), call.Thread, m, call.Leave, ""}
			if s.leave == event.NoMoment {
				_, s.leave = r.T.Span(call.Thread)
			}
			k, err := key(m, call.Thread)
			if err != nil {
				if out.NoKey++; out.Trouble == nil {
					out.Trouble = err
				}
				continue
			}
			s.key = k
			calls = append(calls, s)
		}
	}
	if !found {
		return nil, fmt.Errorf("function %s: %w", function, fault.NoCode)
	}
	slices.SortFunc(calls, func(a, b callSpan) int {
		return cmp.Or(strings.Compare(a.key, b.key), cmp.Compare(a.enter, b.enter))
	})
	return calls, nil
}

// used are the accesses of a call to a word.
type used struct{ reads, writes []touch }

// overlap describes a group of calls: of each, the accesses to what several of them use and one writes, and its locks.
func (x *search) overlap(group []callSpan) replay.Overlap {
	out := replay.Overlap{Key: group[0].key, Left: max(len(group)-mostInOverlap, 0)}
	group = group[:min(len(group), mostInOverlap)]
	uses := make([]map[word]*used, len(group))
	users, written := map[word]int{}, map[word]bool{}
	for i, c := range group {
		uses[i] = x.usedIn(c)
		for w, u := range uses[i] {
			users[w]++
			written[w] = written[w] || len(u.writes) > 0
		}
	}
	for i, c := range group {
		d := replay.OverlappingCall{Leave: x.T.Call(c.id).Leave, Locks: x.locks(c)}
		d.Place, _ = x.Place(c.enter)
		reads, writes := map[touch]bool{}, map[touch]bool{}
		for w, u := range uses[i] {
			if users[w] < 2 || !written[w] {
				continue
			}
			for _, m := range u.reads {
				reads[m] = true
			}
			for _, m := range u.writes {
				writes[m] = true
			}
		}
		d.Reads, d.Writes = x.accesses(reads, false), x.accesses(writes, true)
		d.Left = max(len(reads)-mostAccesses, 0) + max(len(writes)-mostAccesses, 0)
		out.Calls = append(out.Calls, d)
	}
	return out
}

func (x *search) accesses(touches map[touch]bool, write bool) []replay.Access {
	list := slices.Collect(maps.Keys(touches))
	slices.SortFunc(list, func(a, b touch) int {
		return cmp.Or(cmp.Compare(a.at, b.at), strings.Compare(a.name, b.name))
	})
	var out []replay.Access
	for _, t := range list[:min(len(list), mostAccesses)] {
		out = append(out, x.access(t, write))
	}
	return out
}

// usedIn lists what a call, with those that it made, reads and writes in memory, by word, with the moments of the
// lines.
func (x *search) usedIn(c callSpan) map[word]*used {
	out := map[word]*used{}
	at := func(w word) *used {
		if out[w] == nil {
			out[w] = &used{}
		}
		return out[w]
	}
	line, n := event.NoMoment, 0
	for m := range x.T.Walk(c.thread, c.enter, false) {
		if n++; m > c.leave || n > mostInCall {
			break
		}
		switch x.T.Kind(m) {
		case event.Line:
			line = m
			x.readsOf(m, func(w word, name string) {
				u := at(w)
				u.reads = append(u.reads, touch{at: m, name: name})
			})
		case event.Store, event.Cell, event.Element, event.Delete:
			if line == event.NoMoment {
				continue
			}
			for _, w := range x.stored(m) {
				u := at(w)
				u.writes = append(u.writes, touch{at: line})
			}
		}
	}
	return out
}

// readsOf calls found with the words that a line reads, and their names.
func (x *search) readsOf(m event.Moment, found func(word, string)) {
	s := x.T.Site(m)
	for _, name := range s.Reads {
		p, err := replay.ParsePath(name)
		if err != nil || !x.names[lastName(name)] {
			continue
		}
		l, v, err := x.ScopeOf(x.T.CallOf(m), m).Locate(p, nil)
		switch composite := v.Form() == event.Struct || v.Form() == event.Array || v.Form() == event.Map; {
		case err != nil && l.Entry == nil || l.Entry == nil && l.Call != event.NoCall:
			continue
		case composite && !copies(s, name):
			continue
		}
		for _, w := range wordsOf(l) {
			found(w, name)
		}
	}
}

// stored lists the words that a store changes.
func (x *search) stored(m event.Moment) []word {
	e := x.T.Event(m)
	process := x.T.Process(m)
	if k := x.T.Kind(m); k == event.Element || k == event.Delete {
		key, err := event.DecodeNth(e.Data, e.Args, 0, x.T.Types(process))
		if err != nil {
			return nil
		}
		return []word{{process, e.Address, replay.Identity(key)}}
	}
	id, _ := event.TypeOf(e.Data)
	of := x.T.Types(process)(id)
	if of == nil {
		return nil
	}
	return words(process, e.Address, of.Size)
}

// locks lists the locks that a call's thread held at its beginning or took before its end.
func (r Racer) locks(c callSpan) []replay.HeldLock {
	var out []replay.HeldLock
	given := map[uint64]bool{} // back before the call
	n := 0
	for m := range r.T.Walk(c.thread, c.enter, true) {
		if n++; n > mostBefore {
			break
		}
		if l, got, ok := r.lockAt(m); ok && !given[l.Address] {
			given[l.Address] = true
			if got {
				out = append(out, l)
			}
		}
	}
	slices.Reverse(out)
	n = 0
	for m := range r.T.Walk(c.thread, c.enter, false) {
		if n++; m > c.leave || n > mostInCall {
			break
		}
		l, got, ok := r.lockAt(m)
		if !ok {
			continue
		}
		if got {
			out = append(out, l)
			continue
		}
		for i := len(out) - 1; i >= 0; i-- {
			if out[i].Address == l.Address && out[i].Until == event.NoMoment {
				out[i].Until = m
				break
			}
		}
	}
	return out
}

// lockAt returns the lock that a moment is about, and whether the thread got it or gave it back. A thread got a
// lock that it waited for if it goes on.
func (r Racer) lockAt(m event.Moment) (l replay.HeldLock, got, ok bool) {
	switch k, op := r.T.Kind(m), event.Op(r.T.ID(m)); {
	case k == event.Wait && (op == event.OpLock || op == event.OpReadLock):
		got = true
		if _, last := r.T.Span(r.T.Thread(m)); last == m {
			return l, false, false
		}
	case k == event.Release && (op == event.OpUnlock || op == event.OpReadUnlock):
	default:
		return l, false, false
	}
	l = replay.HeldLock{Address: r.T.Event(m).Address, Since: m, Until: event.NoMoment}
	if got {
		l.Since = r.T.Next(r.T.Thread(m), m)
		if line := r.T.LastLine(r.T.CallOf(m), m); line != event.NoMoment {
			l.Name = lockName(r.T.Site(line))
		}
	}
	return l, got, true
}

// lockName is how a line names the lock that it takes.
func lockName(s *event.Site) string {
	for _, f := range s.Flows {
		for _, method := range []string{".Lock()", ".RLock()"} {
			if name, is := strings.CutSuffix(f.Text, method); is {
				return name
			}
		}
	}
	return ""
}
