package races

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// Racer compares the accesses of threads in a timeline.
type Racer struct{ *state.Log }

// Bounds of a search for races.
const (
	mostWords  = 32        // words of one access that are compared
	mostReads  = 1_000_000 // reads that are located
	mostRaces  = 10_000
	checkEvery = 1 << 14 // moments between looks at the context
)

// word is what accesses are compared by: 8 bytes of memory, or an entry of a map.
type word struct {
	process uint16
	address uint64
	entry   string // the key, for an entry of the map at address
}

// touch is an access as the search remembers it: the thread's own clock, and the place.
type touch struct {
	clock  uint32
	thread event.ThreadID
	at     event.Moment
	name   string // of what is read; empty for a write
}

// history are the latest accesses to a word.
type history struct {
	write touch
	reads []touch // the last one of each thread since the write
	// before is the last access of each thread before the write of another one, to notice lost updates.
	before []touch
}

// pair identifies a race by the lines of its accesses, the smaller number first.
type pair struct{ first, second event.SiteID }

// found is a race with the latest moment at which it was counted.
type found struct {
	replay.Race
	latest event.Moment
}

// search goes through a recording once.
type search struct {
	Racer
	ctx        context.Context
	order      *order
	words      map[word]*history
	found      map[pair]*found
	names      map[string]bool // last names of what is written while there are several threads
	anyName    bool            // something is written through a pointer without a name
	local      map[siteName]bool
	reads      int
	unexamined int
	line       map[event.ThreadID]event.Moment // the line that each thread is on
	waiting    map[event.ThreadID]event.Moment // waits whose end was not seen yet
	ordering   map[event.ThreadID]event.CallID // the call whose line may order threads, until its next line
	loops      map[event.CallID]bool           // calls with a loop whose condition may order threads
	goLines    map[event.SiteID]bool           // lines that started threads
	first      map[event.Moment]event.ThreadID // first moments of threads
	last       map[event.Moment]event.ThreadID
	sites      map[event.SiteID]bool // whether they may order threads
	paths      map[string]parsedPath
	texts      map[event.FileID][]string
}

type siteName struct {
	site event.SiteID
	name int
}

type parsedPath struct {
	path replay.Path
	err  error
}

// Races implements replay.Racer.
func (r Racer) Races(ctx context.Context, page replay.Page) (replay.Races, error) {
	x := &search{Racer: r, ctx: ctx, order: newOrder(), words: map[word]*history{}, found: map[pair]*found{}, local: map[siteName]bool{},
		line: map[event.ThreadID]event.Moment{}, waiting: map[event.ThreadID]event.Moment{}, ordering: map[event.ThreadID]event.CallID{}, loops: map[event.CallID]bool{}, goLines: map[event.SiteID]bool{}, first: map[event.Moment]event.ThreadID{}, last: map[event.Moment]event.ThreadID{},
		sites: map[event.SiteID]bool{}, paths: map[string]parsedPath{}, texts: map[event.FileID][]string{}}
	out := replay.Races{}
	if r.T.Threads() < 2 || !r.Recorded() {
		return out, nil
	}
	x.prepare()
	for m := range r.T.Len() {
		if m%checkEvery == 0 && ctx.Err() != nil {
			return out, ctx.Err()
		}
		x.take(m)
	}
	var list []replay.Race
	for _, race := range x.found {
		list = append(list, race.Race)
	}
	slices.SortFunc(list, func(a, b replay.Race) int {
		return cmp.Or(boolOrder(b.Lost, a.Lost), cmp.Compare(a.First.Moment, b.First.Moment), cmp.Compare(a.Second.Moment, b.Second.Moment), strings.Compare(a.Name, b.Name))
	})
	out.Total, out.Unexamined = len(list), x.unexamined
	from, to := page.Cut(len(list))
	out.Page = list[from:to]
	return out, nil
}

func boolOrder(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

// prepare finds the lines that started threads, and the names under which shared memory is written.
func (x *search) prepare() {
	t := x.T
	for id := event.ThreadID(1); int(id) <= t.Threads(); id++ {
		first, last := t.Span(id)
		x.first[first], x.last[last] = id, id
		if starts, ok := x.Starts(id); ok && len(starts) > 0 {
			x.goLines[event.SiteID(t.ID(starts[0]))] = true
		}
	}
	x.names = x.writtenNames()
	x.anyName = x.names[""]
	delete(x.names, "")
}

// writtenNames are the last names of what the program's lines write, with an empty one if a line writes what has no name.
func (r Racer) writtenNames() map[string]bool {
	names := map[string]bool{}
	for _, s := range r.T.Sites {
		for _, name := range s.Writes {
			names[lastName(name)] = true
		}
	}
	return names
}

// lastName is the last name of a path that is not an index: items of q.items[0].
func lastName(path string) string {
	for {
		open := strings.LastIndexByte(path, '[')
		if open < 0 || !strings.HasSuffix(path, "]") {
			break
		}
		path = path[:open]
	}
	path = strings.TrimLeft(path, "*(")
	path = strings.TrimRight(path, ")")
	return path[strings.LastIndexByte(path, '.')+1:]
}

// take follows one moment.
func (x *search) take(m event.Moment) {
	thread := x.T.Thread(m)
	if _, is := x.first[m]; is {
		x.begin(thread)
	}
	k := x.T.Kind(m)
	if wait, is := x.waiting[thread]; is { // it is over, also where no event says so: at the end of a function
		delete(x.waiting, thread)
		if k != event.Pass {
			x.pass(wait, thread)
		}
	}
	switch k {
	case event.Line:
		x.reach(m, thread)
	case event.Leave, event.Unwind:
		if call := x.T.CallOf(m); x.loops[call] {
			x.order.exchange(thread)
			delete(x.loops, call)
		}
	case event.Enter:
		delete(x.line, thread) // until its first line, the call touches only its own variables
	case event.Pass, event.Receive, event.Send, event.Release, event.Wait:
		x.synchronise(m, k, thread)
	case event.Store, event.Cell, event.Element, event.Delete:
		x.write(m, k, thread)
	case event.Made:
		e := x.T.Event(m)
		x.forget(x.T.Process(m), e.Address, event.DecodeMade(e.Data))
	}
	if _, is := x.last[m]; is {
		x.order.unseen.join(*x.order.now(thread)) // code that is not recorded may wait for its end
	}
}

// begin orders the start of a thread after the statement that started it, or, if code that is not recorded did,
// after all that its starter has done.
func (x *search) begin(thread event.ThreadID) {
	starts, _ := x.Starts(thread)
	c := x.order.now(thread)
	for _, m := range starts {
		if s, ok := x.order.starts[m]; ok {
			c.join(s)
			return
		}
	}
	for t := range x.order.threads {
		if t != thread {
			c.join(*x.order.now(t))
		}
	}
}

// reach follows a line: what it reads, and whether it may order threads.
func (x *search) reach(m event.Moment, thread event.ThreadID) {
	call := x.T.CallOf(m)
	site, s := event.SiteID(x.T.ID(m)), x.T.Site(m)
	if of, is := x.ordering[thread]; is {
		x.order.exchange(thread)
		if of == call {
			delete(x.ordering, thread)
		}
	}
	x.line[thread] = m
	if _, known := x.sites[site]; !known {
		x.sites[site] = x.orders(s, m)
	}
	if x.loops[call] {
		x.order.exchange(thread)
	}
	if x.sites[site] {
		x.order.exchange(thread)
		x.ordering[thread] = call
		if strings.HasPrefix(strings.TrimSpace(x.lineText(s)), "for ") {
			x.loops[call] = true // the last look at its condition is not a moment
		}
	}
	if x.goLines[site] {
		x.order.start(thread, m)
	}
	for i, name := range s.Reads {
		key := siteName{site, i}
		if x.local[key] {
			continue
		}
		if last := lastName(name); !x.anyName && !x.names[last] {
			x.local[key] = true
			continue
		}
		if x.reads++; x.reads > mostReads {
			x.unexamined++
			return
		}
		p, ok := x.paths[name]
		if !ok {
			p.path, p.err = replay.ParsePath(name)
			x.paths[name] = p
		}
		if p.err != nil || x.declaredOn(s, p.path.Root) {
			x.local[key] = true
			continue
		}
		l, v, err := x.ScopeOf(call, m).Locate(p.path, nil)
		switch {
		case (v.Form() == event.Struct || v.Form() == event.Array) && !copies(s, name):
			x.local[key] = true
			continue
		case err != nil && l.Entry == nil:
			continue
		case l.Entry == nil && l.Call != event.NoCall:
			x.local[key] = true
			continue
		}
		for _, w := range wordsOf(l) {
			x.read(w, touch{x.order.now(thread).of(thread), thread, m, name})
		}
	}
}

// copies reports whether a line copies what it names as a whole. Otherwise it uses the address, as for a method, or a part,
// which has a name of its own.
func copies(s *event.Site, name string) bool {
	return slices.ContainsFunc(s.Flows, func(f event.Flow) bool {
		return f.Text == name && (f.Kind == event.FlowAssign || f.Kind == event.FlowResult || f.Kind == event.FlowSend || f.Kind == event.FlowPart)
	})
}

// declaredOn reports whether a line declares a variable: it reads no memory that others know.
func (x *search) declaredOn(s *event.Site, name string) bool {
	return slices.ContainsFunc(x.T.Function(s.Function).Variables, func(v event.Variable) bool {
		return v.Name == name && v.Line == s.Line && v.Scope == event.Local
	})
}

// wordsOf lists the words of a location.
func wordsOf(l state.Location) []word {
	if l.Entry != nil {
		return []word{{l.Process, l.Address, replay.Identity(*l.Entry)}}
	}
	if l.Of == nil {
		return nil
	}
	return words(l.Process, l.Address, l.Of.Size)
}

func words(process uint16, address, size uint64) []word {
	var out []word
	for a := address / 8; a <= (address+max(size, 1)-1)/8 && len(out) < mostWords; a++ {
		out = append(out, word{process, a * 8, ""})
	}
	return out
}

// forget ends the history of memory that is a new object.
func (x *search) forget(process uint16, address, size uint64) {
	const most = 1 << 20
	for a := address / 8; a <= (address+min(max(size, 1), most)-1)/8; a++ {
		delete(x.words, word{process, a * 8, ""})
	}
}

// synchronise follows an operation on a lock, channel or group.
func (x *search) synchronise(m event.Moment, k event.Kind, thread event.ThreadID) {
	e := x.T.Event(m)
	if e.Address == 0 {
		x.order.exchange(thread)
		return
	}
	o := object{x.T.Process(m), e.Address}
	switch k {
	case event.Release:
		if op := event.Op(e.ID); op == event.OpClose {
			x.order.acquire(thread, o)
		}
		x.order.release(thread, o)
	case event.Send, event.Receive:
		x.order.acquire(thread, o)
		x.order.release(thread, o)
	case event.Pass:
		x.pass(m, thread)
	case event.Wait:
		x.waiting[thread] = m
		if op := event.Op(e.ID); op != event.OpLock && op != event.OpReadLock && op != event.OpGroup {
			x.order.release(thread, o) // a receive lets a send go on
		}
	}
}

// pass follows the end of a wait; m is the moment of the wait or of its end.
func (x *search) pass(m event.Moment, thread event.ThreadID) {
	e := x.T.Event(m)
	o := object{x.T.Process(m), e.Address}
	x.order.acquire(thread, o)
	switch event.Op(e.ID) {
	case event.OpGroup:
		x.order.now(thread).join(x.order.unseen) // tasks that the group started itself
	case event.OpLock, event.OpReadLock:
	default:
		x.order.release(thread, o)
	}
}

// write follows a store.
func (x *search) write(m event.Moment, k event.Kind, thread event.ThreadID) {
	e := x.T.Event(m)
	process := x.T.Process(m)
	line, on := x.line[thread]
	if !on {
		line = m
	}
	t := touch{x.order.now(thread).of(thread), thread, line, ""}
	if k == event.Cell {
		if x.declares(m, e.ID, on, line) {
			id, _ := event.TypeOf(e.Data)
			if of := x.T.Types(process)(id); of != nil {
				x.forget(process, e.Address, of.Size)
			}
		}
		if !on || !x.writesVariable(m, e.ID, line) {
			return // the call only says where the variable is
		}
	}
	for _, w := range x.stored(m) {
		x.wrote(w, t)
	}
}

// declares reports whether an event of a variable is the beginning of its life: its address is new.
func (x *search) declares(m event.Moment, variable uint32, on bool, line event.Moment) bool {
	f := x.T.FunctionOf(x.T.CallOf(m))
	if int(variable) >= len(f.Variables) {
		return false
	}
	v := f.Variables[variable]
	return !on || v.Scope == event.Parameter || v.Scope == event.Local && x.T.Site(line).Line == v.Line
}

// writesVariable reports whether a line stores to a variable.
func (x *search) writesVariable(m event.Moment, variable uint32, line event.Moment) bool {
	f := x.T.FunctionOf(x.T.CallOf(m))
	if int(variable) >= len(f.Variables) {
		return false
	}
	name := f.Variables[variable].Name
	return slices.ContainsFunc(x.T.Site(line).Writes, func(w string) bool { return w == name || strings.HasSuffix(name, "."+w) })
}

func (x *search) of(w word) *history {
	h := x.words[w]
	if h == nil {
		h = &history{write: touch{at: event.NoMoment}}
		x.words[w] = h
	}
	return h
}

// read compares a read with the last write.
func (x *search) read(w word, t touch) {
	h := x.of(w)
	if h.write.at != event.NoMoment && !x.order.before(h.write.thread, h.write.clock, t.thread) {
		x.report(h.write, true, t, false)
	}
	for i := range h.reads {
		if h.reads[i].thread == t.thread {
			h.reads[i] = t
			return
		}
	}
	h.reads = append(h.reads, t)
}

// wrote compares a write with the last write and with the reads since then.
func (x *search) wrote(w word, t touch) {
	h := x.of(w)
	raced := false
	if h.write.at != event.NoMoment && h.write.thread != t.thread {
		raced = !x.order.before(h.write.thread, h.write.clock, t.thread)
		if raced {
			own := func(r touch) bool { return r.thread == t.thread && r.at < h.write.at }
			if i := slices.IndexFunc(h.before, own); i >= 0 && !slices.ContainsFunc(h.reads, func(r touch) bool { return r.thread == t.thread }) {
				x.lost(h.before[i], h.write, t)
			} else {
				x.report(h.write, true, t, true)
			}
		}
	}
	for _, r := range h.reads {
		if r.thread != t.thread && !x.order.before(r.thread, r.clock, t.thread) {
			x.report(r, false, t, true)
		}
	}
	if h.write.thread != t.thread || len(h.reads) > 0 {
		h.before = append([]touch(nil), h.reads...)
	}
	h.write, h.reads = t, h.reads[:0]
}

// nameAt returns how a line names what it reads or writes.
func (x *search) nameAt(m event.Moment, write bool) string {
	s := x.T.Site(m)
	names := s.Reads
	if write {
		names = s.Writes
	}
	for _, name := range names {
		if x.names[lastName(name)] {
			return name
		}
	}
	if len(names) > 0 {
		return names[0]
	}
	return ""
}

func (x *search) access(t touch, write bool) replay.Access {
	p, _ := x.Place(t.at)
	name := t.name
	if name == "" {
		name = x.nameAt(t.at, write)
	}
	return replay.Access{Place: p, Name: name, Value: x.valueOf(t.at, name, write), Write: write}
}

// valueOf returns the value that a line read or wrote.
func (x *search) valueOf(m event.Moment, name string, write bool) replay.Value {
	unknown := replay.Value{Value: event.Value{State: event.Unrecorded}}
	call := x.T.CallOf(m)
	p, err := replay.ParsePath(name)
	if err != nil || call == event.NoCall {
		return unknown
	}
	at := m
	if write { // it is there when the call goes on
		at = x.LineEnd(call, m)
	}
	// Other threads may have changed it since the line wrote it: the line's own event is closer.
	for s := range x.T.Walk(x.T.Thread(m), m, false) {
		if !write || s > at {
			break
		}
		if k := x.T.Kind(s); k == event.Store || k == event.Element || k == event.Cell {
			at = s
			break
		}
	}
	_, v, err := x.ScopeOf(call, at).Locate(p, nil)
	if err != nil && !errors.Is(err, state.ErrNoEntry) {
		return unknown
	}
	return v
}

func (x *search) siteOf(m event.Moment) event.SiteID {
	if x.T.Kind(m) == event.Line {
		return event.SiteID(x.T.ID(m))
	}
	return event.SiteID(0)
}

// report records that two accesses are not ordered; a is the earlier one.
func (x *search) report(a touch, aWrites bool, b touch, bWrites bool) {
	race := x.race(a, b)
	if race == nil || race.Times > 1 {
		return
	}
	race.First, race.Second = x.access(a, aWrites), x.access(b, bWrites)
	race.Name = race.Second.Name
	if !bWrites {
		race.Name = race.First.Name
	}
}

// lost records that a thread read, another one wrote, and the first one wrote without having seen that.
func (x *search) lost(read, other, overwrite touch) {
	race := x.race(other, overwrite)
	if race == nil || race.Lost {
		return
	}
	race.Name, race.Lost = x.nameAt(overwrite.at, true), true
	race.First, race.Second, race.Overwrite = x.access(read, false), x.access(other, true), x.access(overwrite, true)
}

// race counts a race between the lines of two accesses, once for each moment of the later one. It is nil if there are too many.
func (x *search) race(a, b touch) *replay.Race {
	first, second := x.siteOf(a.at), x.siteOf(b.at)
	k := pair{min(first, second), max(first, second)}
	f := x.found[k]
	if f == nil {
		if len(x.found) >= mostRaces {
			return nil
		}
		f = &found{latest: event.NoMoment}
		x.found[k] = f
	}
	if f.latest != b.at {
		f.latest = b.at
		f.Times++
	}
	return &f.Race
}
