// Package story tells the life of an object or identifier.
package story

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/state"
)

// Teller tells stories from a timeline.
type Teller struct{ find.Finder }

// Bounds of a story.
const (
	mostContainers = 200  // places in which the value is stored that are followed until it is gone
	mostRecords    = 1000 // writes of one of them
	mostChanges    = 10_000
	mostPooled     = 20_000 // moments of lines that use pools
)

// teller collects the steps of one story.
type teller struct {
	Teller
	ctx        context.Context
	steps      []step
	containers map[string]bool
	begins     []event.Moment // of lives after the first
	unexamined int
}

// step is a step of the story before it is put in order.
type step struct {
	replay.StoryStep
	at        event.Moment
	parameter string // by which it was passed
}

func (x *teller) add(at event.Moment, what replay.Happening, name string, old, new *replay.Value) {
	x.steps = append(x.steps, step{StoryStep: replay.StoryStep{What: what, Name: name, Old: old, New: new, Times: 1}, at: at})
}

// StoryOfValue implements replay.Teller.
func (r Teller) StoryOfValue(ctx context.Context, value string, page replay.Page) (replay.Story, error) {
	s := replay.NewSearch(value, "")
	list, err := r.Occurrences(ctx, s)
	if err != nil {
		return replay.Story{}, err
	}
	x := &teller{Teller: r, ctx: ctx, containers: map[string]bool{}}
	for _, o := range list {
		if o.Value.Type.Form == event.Text && o.Value.Text != s.Text {
			continue // it is a part of another text
		}
		x.occurred(o, func(v event.Value) bool { return sameSimple(v, o.Value) })
	}
	return x.tell(page)
}

// sameSimple reports whether two numbers or texts are equal.
func sameSimple(a, b event.Value) bool {
	if a.Type == nil || b.Type == nil || a.Type.Form != b.Type.Form || a.State != event.Known {
		return false
	}
	return a.Text == b.Text && a.Int == b.Int && a.Uint == b.Uint && a.Float == b.Float
}

// StoryOfObject implements replay.Teller.
func (r Teller) StoryOfObject(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, page replay.Page) (replay.Story, error) {
	l, v, err := r.LocatePath(path, at, t, frame)
	if err != nil {
		return replay.Story{}, err
	}
	v = within(v)
	switch v.Form() {
	case event.Text:
		return r.StoryOfValue(ctx, fmt.Sprintf("%q", v.Value.Text), page)
	case event.Int, event.Uint, event.Float:
		if !l.InMemory() {
			return r.StoryOfValue(ctx, v.Text(), page)
		}
	}
	x, err := r.objectSteps(ctx, path, at, t, frame)
	if err != nil {
		return replay.Story{}, err
	}
	return x.tell(page)
}

// within returns the value in an interface.
func within(v replay.Value) replay.Value {
	for v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.With(v.Items[0])
	}
	return v
}

// objectSteps collects what happened to the object at a path.
func (r Teller) objectSteps(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (*teller, error) {
	l, v, err := r.LocatePath(path, at, t, frame)
	if err != nil {
		return nil, err
	}
	v = within(v)
	address, process, err := r.ObjectAt(ctx, path, at, t, frame)
	if err != nil {
		return nil, err
	}
	size := uint64(1)
	of := v.ElemType()
	if v.Form() != event.Pointer {
		of = l.Of
	}
	if of != nil {
		size = max(of.Size, 1)
	}
	list, err := r.Occurrences(ctx, replay.Search{Object: address, Process: process})
	if err != nil {
		return nil, err
	}
	x := &teller{Teller: r, ctx: ctx, containers: map[string]bool{}}
	for _, o := range list {
		x.occurred(o, func(v event.Value) bool { return refersTo(v, address) })
	}
	if v.Form() != event.Map && v.Form() != event.Chan {
		x.memory(process, address, size, of)
	} else if v.Form() == event.Map {
		x.entries(process, address)
	}
	x.pools(process, address)
	return x, ctx.Err()
}

// refersTo reports whether a value, or the one in an interface, is a reference to an address.
func refersTo(v event.Value, address uint64) bool {
	for v.Type != nil && v.Type.Form == event.Interface && len(v.Items) == 1 {
		v = v.Items[0]
	}
	return v.State == event.Known && v.Type != nil && v.Address == address
}

// occurred adds what an event with the value says of it.
func (x *teller) occurred(o find.Occurrence, is func(event.Value) bool) {
	t := x.T
	c := t.CallOf(o.At)
	value := replay.Value{Value: o.Value, Memory: x.MemoryAt(t.Process(o.At), o.At, 0)}
	function := ""
	if c != event.NoCall {
		function = x.FunctionName(c)
	}
	switch t.Kind(o.At) {
	case event.Enter:
		x.add(o.At, replay.WasPassed, function+"("+o.Name+")", nil, &value)
		x.steps[len(x.steps)-1].parameter = o.Name
	case event.Leave:
		x.add(o.At, replay.WasReturned, function, nil, &value)
	case event.Send:
		x.add(o.At, replay.WasSent, x.nameOn(o.At, event.FlowSend), nil, &value)
	case event.Receive:
		x.add(o.At, replay.WasReceived, x.received(o.At), nil, &value)
	case event.Element:
		x.stored(o, x.mapEntry(o.At), is)
	case event.Delete:
		x.add(o.At, replay.WasRemoved, x.writtenOn(o.At), &value, nil)
	case event.Store:
		x.stored(o, x.part(o, is), is)
	case event.Write, event.Cell, event.Fields:
		if f := t.FunctionOf(c); t.Kind(o.At) != event.Fields && int(t.ID(o.At)) < len(f.Variables) && f.Variables[t.ID(o.At)].Scope == event.Global {
			x.add(o.At, replay.WasStored, o.Name, nil, &value)
		} else if len(x.steps) == 0 || t.Kind(o.At) == event.Fields {
			x.add(o.At, replay.WasCreated, o.Name, nil, &value)
		}
	case event.Memory, event.Spread, event.Entries:
		if len(x.steps) == 0 {
			x.add(o.At, replay.WasCreated, cmp.Or(x.writtenOn(o.At), o.Name), nil, &value)
		}
	}
}

// writtenOn is how the line of a moment names what it writes.
func (x *teller) writtenOn(at event.Moment) string {
	line := x.T.LastLine(x.T.CallOf(at), at)
	if line == event.NoMoment {
		return ""
	}
	s := x.T.Site(line)
	c := x.T.CallOf(line)
	if len(s.Writes) == 1 {
		return x.concrete(s.Writes[0], c, line)
	}
	if address := x.T.Event(at).Address; address != 0 {
		for _, name := range s.Writes {
			p, err := replay.ParsePath(name)
			if err != nil {
				continue
			}
			if l, _, err := x.ScopeOf(c, at).Locate(p, nil); err == nil && l.Address == address {
				return x.concrete(name, c, line)
			}
		}
	}
	if len(s.Writes) == 0 && len(s.Reads) > 0 && x.T.Kind(at) == event.Delete {
		return s.Reads[0] // the map of a delete
	}
	return strings.Join(s.Writes, ", ")
}

// concrete writes a name with the values of its indexes on a line: items[2] for items[i].
func (x *teller) concrete(name string, c event.CallID, line event.Moment) string {
	p, err := replay.ParsePath(name)
	if err != nil {
		return name
	}
	scope := x.ScopeOf(c, line)
	for i, s := range p.Steps {
		if s.Index == nil {
			continue
		}
		_, v, err := scope.Locate(*s.Index, nil)
		if err != nil || v.State != event.Known {
			continue
		}
		switch v.Form() {
		case event.Int:
			p.Steps[i] = replay.PathStep{Number: &v.Int}
		case event.Text:
			p.Steps[i] = replay.PathStep{Text: &v.Value.Text}
		}
	}
	return p.String()
}

// nameOn is the target of a flow of a kind on the line of a moment.
func (x *teller) nameOn(at event.Moment, kind event.FlowKind) string {
	line := x.T.LastLine(x.T.CallOf(at), at)
	if line == event.NoMoment {
		return ""
	}
	for _, f := range x.T.Site(line).Flows {
		if f.Kind == kind {
			return f.Target
		}
	}
	return ""
}

// received is how the line of a moment names the channel from which it receives.
func (x *teller) received(at event.Moment) string {
	line := x.T.LastLine(x.T.CallOf(at), at)
	if line == event.NoMoment {
		return ""
	}
	for _, f := range x.T.Site(line).Flows {
		if len(f.Receives) > 0 {
			return f.Receives[0]
		}
	}
	return ""
}

// mapEntry is the location of the entry that an event sets.
func (x *teller) mapEntry(at event.Moment) *state.Location {
	e := x.T.Event(at)
	process := x.T.Process(at)
	key, err := event.DecodeNth(e.Data, e.Args, 0, x.T.Types(process))
	if err != nil {
		return nil
	}
	of := x.mapType(e.Address, at)
	if of == nil {
		return nil
	}
	return &state.Location{Process: process, Call: event.NoCall, Address: e.Address, Of: of, Entry: &key}
}

// mapType finds the type of a map by the variable through which the line of a moment writes to it.
func (x *teller) mapType(address uint64, at event.Moment) *event.Type {
	c := x.T.CallOf(at)
	line := x.T.LastLine(c, at)
	if line == event.NoMoment {
		return nil
	}
	for _, name := range x.T.Site(line).Writes {
		p, err := replay.ParsePath(name)
		if err != nil || len(p.Steps) == 0 {
			continue
		}
		p.Steps = p.Steps[:len(p.Steps)-1]
		if _, v, err := x.ScopeOf(c, at).Locate(p, nil); err == nil && v.Form() == event.Map && v.Address == address {
			return v.Type
		}
	}
	return nil
}

// part is the location of the part of a store that has the value.
func (x *teller) part(o find.Occurrence, is func(event.Value) bool) *state.Location {
	e := x.T.Event(o.At)
	process := x.T.Process(o.At)
	values, err := x.T.Values(o.At)
	if err != nil || len(values) == 0 || values[0].Type == nil {
		return nil
	}
	l := &state.Location{Process: process, Call: event.NoCall, Address: e.Address, Of: values[0].Type}
	v := values[0]
	for depth := 0; depth < 8 && !is(v); depth++ {
		found := false
		for i, item := range v.Items {
			if v.Type.Form == event.Struct && i < len(v.Type.Fields) && contains(item, is, 0) {
				f := v.Type.Fields[i]
				l.Address, l.Of, v, found = l.Address+f.Offset, item.Type, item, true
				break
			}
		}
		if !found {
			return nil
		}
	}
	return l
}

// contains reports whether a value or a part of it is the one of the story.
func contains(v event.Value, is func(event.Value) bool, depth int) bool {
	if is(v) {
		return true
	}
	return depth < 8 && slices.ContainsFunc(v.Items, func(i event.Value) bool { return contains(i, is, depth+1) })
}

// stored adds that the value was put into a container, and when it was taken out of it.
func (x *teller) stored(o find.Occurrence, l *state.Location, is func(event.Value) bool) {
	value := replay.Value{Value: o.Value, Memory: x.MemoryAt(x.T.Process(o.At), o.At, 0)}
	name := x.writtenOn(o.At)
	if l != nil && l.Entry != nil && is(*l.Entry) {
		name += ", as a key"
	}
	x.add(o.At, replay.WasStored, cmp.Or(name, o.Name), nil, &value)
	if l == nil || x.containers[l.Key()] {
		return
	}
	if len(x.containers) >= mostContainers {
		x.unexamined++
		return
	}
	x.containers[l.Key()] = true
	list, err := x.WritesOf(x.ctx, *l, o.At)
	if err != nil {
		return
	}
	was := false
	for _, g := range list[:min(len(list), mostRecords)] {
		v := x.Whole(*l, g)
		now := v.State == event.Known && is(v.Value)
		if was && !now && g.At > o.At {
			old := value
			if v.State == event.Known {
				x.add(g.At, replay.WasRemoved, cmp.Or(x.writtenOn(g.At), name), &old, &v)
			} else {
				x.add(g.At, replay.WasRemoved, cmp.Or(x.writtenOn(g.At), name), &old, nil)
			}
		}
		was = now
	}
}

// memory adds the changes of an object, and the beginnings of its lives.
func (x *teller) memory(process uint16, address, size uint64, of *event.Type) {
	n := 0
	type write struct {
		at event.Moment
		l  state.Location
	}
	var writes []write
	for c := range x.T.Covering(process, address, size, x.T.Len()-1) {
		if n++; n > mostChanges || x.ctx.Err() != nil {
			x.unexamined++
			break
		}
		e := x.T.Event(c.At)
		switch e.Kind {
		case event.Made:
			if e.Address <= address {
				x.begins = append(x.begins, c.At)
				x.add(c.At, replay.WasCreated, x.madeOn(c.At), nil, nil)
			}
		case event.Store:
			values, err := x.T.Values(c.At)
			if err != nil || len(values) == 0 || values[0].Type == nil || e.Address < address {
				continue
			}
			writes = append(writes, write{c.At, state.Location{Process: process, Call: event.NoCall, Address: e.Address, Of: values[0].Type}})
		}
	}
	for _, w := range writes {
		new := w.l.At(x.Log, w.at)
		name := fieldAt(of, w.l.Address-address)
		var old *replay.Value
		if w.at > 0 {
			if before := w.l.At(x.Log, w.at-1); before.State == event.Known {
				old = &before
			}
		}
		x.add(w.at, replay.WasChanged, cmp.Or(name, x.writtenOn(w.at)), old, &new)
	}
}

// madeOn is how the line of a moment says what it makes.
func (x *teller) madeOn(at event.Moment) string {
	if name := x.writtenOn(at); name != "" {
		return name
	}
	return x.FunctionName(x.T.CallOf(at))
}

// fieldAt is the name of the field of a struct at an offset.
func fieldAt(of *event.Type, offset uint64) string {
	if of == nil || of.Form != event.Struct {
		return ""
	}
	for i := len(of.Fields) - 1; i >= 0; i-- {
		if of.Fields[i].Offset == offset {
			return of.Fields[i].Name
		}
	}
	return ""
}

// entries adds the changes of the entries of a map.
func (x *teller) entries(process uint16, address uint64) {
	n := 0
	for m := range x.T.MapEvents(process, address, nil, x.T.Len()-1) {
		if n++; n > mostChanges {
			x.unexamined++
			return
		}
		e := x.T.Event(m)
		values, err := event.DecodeValues(e.Data, e.Args, x.T.Types(process))
		if err != nil || len(values) == 0 {
			continue
		}
		memory := x.MemoryAt(process, m, 0)
		name := "[" + replay.Value{Value: values[0], Memory: memory}.Text() + "]"
		switch {
		case e.Kind == event.Element && len(values) > 1:
			x.add(m, replay.WasChanged, name, nil, &replay.Value{Value: values[1], Memory: memory})
		case e.Kind == event.Delete:
			x.add(m, replay.WasChanged, name, nil, nil)
		}
	}
}

// pools adds what a line does with a pool: an object that is put back ends a life, one that is taken out begins one.
func (x *teller) pools(process uint16, address uint64) {
	n := 0
	for id, s := range x.T.Sites {
		into, from := pooled(&s)
		if into == "" && from == "" {
			continue
		}
		list := x.T.SiteMoments(id)
		for i := range list.Len() {
			if n++; n > mostPooled {
				x.unexamined += list.Len() - i
				break
			}
			m := list.At(i)
			c := x.T.CallOf(m)
			if x.T.Call(c).Process != process {
				continue
			}
			until := m
			lines := x.T.CallLines(c)
			if j := lines.After(m); j < lines.Len() {
				until = lines.At(j) - 1
			}
			if into != "" && x.names(s.Reads, c, m, address) {
				x.add(m, replay.WasStored, into, nil, nil)
			}
			made := slices.ContainsFunc(x.begins, func(b event.Moment) bool { return b >= m && b <= until })
			if from != "" && !made && x.names(s.Writes, c, until, address) {
				x.add(until, replay.WasRemoved, from, nil, nil)
				x.begins = append(x.begins, until)
			}
		}
	}
}

// pooled returns the pool into which a line puts something, and the one from which it takes something.
func pooled(s *event.Site) (into, from string) {
	for _, f := range s.Flows {
		if strings.Contains(f.Text, ".Put(") && f.Kind == event.FlowForeign {
			into, _, _ = strings.Cut(f.Text, ".Put(")
		}
		if strings.Contains(f.Text, ".Get()") {
			from, _, _ = strings.Cut(f.Text, ".Get()")
		}
	}
	return into, from
}

// names reports whether one of several names is a reference to an address.
func (x *teller) names(list []string, c event.CallID, at event.Moment, address uint64) bool {
	return slices.ContainsFunc(list, func(name string) bool {
		p, err := replay.ParsePath(name)
		if err != nil {
			return false
		}
		_, v, err := x.ScopeOf(c, at).Locate(p, nil)
		return err == nil && refersTo(v.Value, address)
	})
}

// mostCycle is the maximum number of steps that repeat as one.
const mostCycle = 8

// foldCycles keeps the first of several steps that repeat in the same order, as in a loop, with their number.
func foldCycles(list []replay.StoryStep) []replay.StoryStep {
	same := func(a, b *replay.StoryStep) bool {
		return a.What == b.What && a.Name == b.Name && a.Function == b.Function && a.Line == b.Line && a.Life == b.Life
	}
	var out []replay.StoryStep
	for i := 0; i < len(list); {
		best, repeats := 1, 0
		for n := 1; n <= mostCycle && repeats == 0; n++ {
			end := i + n
			for end < len(list) && same(&list[end], &list[end-n]) {
				end++
			}
			if k := (end-i)/n - 1; k > 1 || k > 0 && n == 1 {
				best, repeats = n, k
			}
		}
		for j := i; j < i+best; j++ {
			step := list[j]
			for k := 1; k <= repeats; k++ {
				again := &list[j+k*best]
				step.Times += again.Times
				step.New = again.New
			}
			out = append(out, step)
		}
		i += best * (repeats + 1)
	}
	return out
}

// tell puts the steps in order, folds repetitions and returns a page.
// order puts the steps and the beginnings of lives in order.
func (x *teller) order() {
	slices.SortStableFunc(x.steps, func(a, b step) int { return cmp.Compare(a.at, b.at) })
	slices.Sort(x.begins)
}

// life returns the number of the life at a moment, from 1.
func (x *teller) life(at event.Moment) int {
	life := 1
	for _, m := range x.begins {
		if m <= at && m > x.steps[0].at {
			life++
		}
	}
	return life
}

func (x *teller) tell(page replay.Page) (replay.Story, error) {
	if err := x.ctx.Err(); err != nil {
		return replay.Story{}, err
	}
	if len(x.steps) == 0 {
		return replay.Story{}, fmt.Errorf("%w: nothing happened to it in recorded code", fault.NoHit)
	}
	x.order()
	out := replay.Story{Lives: 1, Unexamined: x.unexamined}
	var list []replay.StoryStep
	for i, s := range x.steps {
		life := x.life(s.at)
		out.Lives = max(out.Lives, life)
		p, err := x.Place(s.at)
		if err != nil {
			return out, err
		}
		s.Place, s.Life = p, life
		if i == 0 && s.What == replay.WasStored {
			s.What = replay.WasCreated
		}
		if n := len(list); n > 0 {
			last := &list[n-1]
			if last.What == s.What && last.Name == s.Name && last.Life == life {
				if last.Moment == s.Moment {
					continue
				}
				if last.Function == p.Function && last.Line == p.Line {
					if s.What != replay.WasCreated {
						last.Times++
					}
					last.New = s.New
					continue
				}
			}
		}
		list = append(list, s.StoryStep)
	}
	list = foldCycles(list)
	out.Total = len(list)
	from, to := page.Cut(len(list))
	out.Page = list[from:to]
	return out, nil
}
