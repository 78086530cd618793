package reproduce

import (
	"slices"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// chain describes calls one after the other, each by the objects that changed since the one before. Nearly all of what a call is
// given is what the call before was given.
type chain struct {
	e     *encoder // of the first call
	list  []*object
	seen  []snapshot    // of each object, at the entry of the last call
	state []*objectData // as they are then
}

// snapshot is what was loaded of an object: its value, its elements, or its keys and values.
type snapshot struct {
	values []event.Value
	all    bool         // of a map
	until  event.Moment // if steady: when it may be something else
	steady bool
}

// expectation is what a call is expected to give back and to leave behind. Objects that are not in After are expected to be as they
// were; New are objects that the call made, numbered after those that it was given.
type expectation struct {
	Results []*node
	Globals []*node
	After   map[int]*objectData
	New     []*objectData
}

// newChain begins a chain with a call that is described as a whole, without gaps.
func newChain(e *encoder) *chain {
	c := &chain{e: e, list: make([]*object, len(e.out.Objects)), seen: make([]snapshot, len(e.out.Objects)), state: slices.Clone(e.out.Objects)}
	for o, id := range e.ids {
		c.list[id] = o
		c.seen[id] = o.snapshot(o.value.Memory)
	}
	return c
}

// canChain reports whether a call can be compared object by object, and not only as a whole.
func canChain(call replay.MadeCall) bool {
	return call.Outcome == replay.DidReturn && len(call.Held) == 0 && len(call.Parameters) > 0
}

func (o *object) snapshot(m replay.Memory) (s snapshot) {
	switch {
	case o.isMap:
		s.values, s.all = m.Entries(o.address, o.value.Type)
	case o.isList:
		s.values = make([]event.Value, o.length)
		el := o.value.ElemType()
		for i := range o.length {
			s.values[i] = m.Load(o.address+i*el.Size, el)
		}
	case o.value.Type != nil:
		s.values = []event.Value{m.Load(o.address, o.value.Type)}
	}
	s.holdsFrom(o, m)
	return s
}

// holdsFrom sets how long a snapshot of an object holds.
func (s *snapshot) holdsFrom(o *object, m replay.Memory) {
	var steady replay.Steady
	if steady, s.steady = m.(replay.Steady); !s.steady {
		return
	}
	switch {
	case o.isMap:
		s.until = steady.MapSteadyUntil(o.address)
	case o.isList:
		s.until = steady.SteadyUntil(o.address, o.length*o.value.ElemType().Size)
	case o.value.Type != nil:
		s.until = steady.SteadyUntil(o.address, o.value.Type.Size)
	}
}

// changed reports whether an object is not as in a snapshot any more. With update the snapshot becomes what is there.
func (o *object) changed(m replay.Memory, s *snapshot, update bool) (changed bool) {
	if x, ok := m.(replay.Steady); ok && s.steady && x.IsBefore(s.until) {
		return false
	}
	if update {
		defer s.holdsFrom(o, m)
	}
	if o.isMap {
		values, all := m.Entries(o.address, o.value.Type)
		changed = len(values) != len(s.values) || all != s.all || len(values) > 0 && &values[0] != &s.values[0]
		if update {
			s.values, s.all = values, all
		}
		return changed
	}
	of, size := o.value.Type, uint64(0)
	if o.isList {
		of = o.value.ElemType()
		size = of.Size
	}
	for i := range s.values {
		v := m.Load(o.address+uint64(i)*size, of)
		if identical(v, s.values[i]) {
			continue
		}
		changed = true
		if !update {
			return true
		}
		s.values[i] = v
	}
	return changed
}

// at sets what an object is described from.
func (o *object) at(m replay.Memory, s snapshot) {
	if !o.isMap && !o.isList {
		o.value.Value = s.values[0]
	}
	o.value.Memory = m
}

// next describes a call by what changed. ok is false if it has to be described as a whole, and the chain is over.
func (c *chain) next(call replay.MadeCall) (d *callData, ok bool) {
	e, memory := c.e, call.Parameters[0].Value.Memory
	if memory == nil {
		return nil, false
	}
	e.begin(call, len(c.list))
	before := e.b.globals
	e.b.globals = map[uint64]knownGlobal{}
	e.a.findGlobals()
	if !sameGlobals(before, e.b.globals) {
		return nil, false
	}
	set := e.a.changedGlobals()
	e.freshGlobals()
	d = e.out
	d.Follows, d.Patch = true, map[int]*objectData{}
	for id, o := range c.list {
		if o == nil || !o.changed(memory, &c.seen[id], true) {
			continue
		}
		o.at(memory, c.seen[id])
		d.Patch[id] = e.described(o)
		c.state[id] = d.Patch[id]
	}
	params, given := e.a.match()
	e.arguments(set, params, given)
	return d, !e.unfit && len(e.b.gaps) == 0
}

// whole is the last call of the chain, described as a whole.
func (c *chain) whole(d *callData) *callData { return d.with(slices.Clone(c.state)) }

// with is a call that does not follow another one: it has all objects.
func (d *callData) with(objects []*objectData) *callData {
	x := *d
	x.Follows, x.Patch, x.Objects = false, nil, objects
	return &x
}

// sameGlobals reports whether the same package variables lead to the same objects.
func sameGlobals(a, b map[uint64]knownGlobal) bool {
	if len(a) != len(b) {
		return false
	}
	for at, g := range a {
		if b[at].name != g.name {
			return false
		}
	}
	return true
}

// expect describes what the last call of the chain gave back and left behind; nil if that cannot be compared object by object.
func (c *chain) expect(call replay.MadeCall, set []setting) *expectation {
	e, memory := c.e, call.After[0].Value.Memory
	if memory == nil {
		return nil
	}
	given := e.out
	e.begin(call, len(c.list))
	e.isResult = true
	met := len(e.b.order)
	defer func() {
		for _, o := range e.b.order[met:] {
			delete(e.b.objects, o.spot)
		}
		for _, o := range e.created {
			delete(e.ids, o)
		}
		e.b.order, e.b.gaps, e.created, e.isResult, e.out = e.b.order[:met], nil, nil, false, given
		clear(e.b.told)
	}()
	out := &expectation{Results: []*node{}, Globals: []*node{}, After: map[int]*objectData{}}
	for id, o := range c.list {
		if o == nil || !o.changed(memory, &c.seen[id], false) {
			continue
		}
		o.at(memory, o.snapshot(memory))
		out.After[id] = e.described(o)
		out.After[id].P = o.path
		o.at(call.Parameters[0].Value.Memory, c.seen[id])
	}
	results := e.h.f.sig.Results()
	if len(call.Results) != results.Len() {
		return nil
	}
	for i, r := range call.Results {
		out.Results = append(out.Results, e.value(results.At(i).Type(), r.Value, resultRoot(i)))
	}
	for _, s := range set {
		for _, g := range e.made.Globals {
			if x, ok := e.a.named(g); ok && g.Used && !g.IsFresh() && e.global(x) == s.Root {
				out.Globals = append(out.Globals, e.value(x.of.Type(), g.After, g.Name))
			}
		}
	}
	if out.New = e.out.Objects; e.unfit || len(e.b.gaps) > 0 || len(out.Globals) != len(set) {
		return nil
	}
	return out
}

// wholeAt returns a call of a list that does not follow the one before it: with all objects.
func wholeAt(list []*callData, i int) *callData {
	if !list[i].Follows {
		return list[i]
	}
	first := i
	for list[first].Follows && first > 0 {
		first--
	}
	objects := slices.Clone(list[first].Objects)
	for _, d := range list[first+1 : i+1] {
		for id, o := range d.Patch {
			objects[id] = o
		}
	}
	return list[i].with(objects)
}
