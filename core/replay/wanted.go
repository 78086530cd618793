package replay

import (
	"strconv"

	"wraithology/core/event"
)

// wanted is the value whose origin is looked for, together with the values that
// it lies in, outermost first. Where a whole struct was copied, the copy's source
// is a struct of the same type, and the way into it is the same.
type wanted []wantedLevel

type wantedLevel struct {
	value Value
	steps []PathStep // from here to the value that is looked for
}

// leaf returns the value itself.
func (w wanted) leaf() *Value { return &w[len(w)-1].value }

// like lists the values that an unknown element may equal.
func (w wanted) like() []Value {
	var out []Value
	for _, l := range w {
		out = append(out, l.value)
	}
	return out
}

// levelsFrom lists the values on the way from one along steps.
func levelsFrom(v Value, steps []PathStep) wanted {
	out := wanted{{v, steps}}
	for i, s := range steps {
		v = v.inside(s)
		out = append(out, wantedLevel{v, steps[i+1:]})
	}
	return out
}

// wantedAt says what is looked for at a location once it was written at a moment,
// in the values that were written as a whole there.
func (r *logRecording) wantedAt(l location, g given, v Value) wanted {
	switch {
	case l.entry != nil:
		return levelsFrom(l.whole().at(r, g.at), l.within)
	case l.call != event.NoCall:
		f := r.t.FunctionOf(l.call)
		whole, err := r.written(g.at, l.variable, f, 0, g.at)
		if err != nil {
			return wanted{{value: v}}
		}
		return levelsFrom(Value{Value: whole, Memory: r.memoryAt(l.process, g.at, 0)}, l.within)
	}
	m := logMemory{r.t, l.process, 0, g.at, g.at, 0}
	if g.moved != 0 {
		l.address = g.moved // it lay elsewhere when it was written
	}
	s, ok := m.stretchAt(g.at)
	if !ok || !s.covers(l.address, l.of.Size) || s.of.Size == 0 {
		return wanted{{value: v}}
	}
	i := (l.address - s.address) / s.of.Size
	if i >= uint64(len(s.items)) {
		return wanted{{value: v}}
	}
	steps, ok := stepsTo(s.of, (l.address-s.address)%s.of.Size, l.of, m.Type, 0)
	if !ok {
		return wanted{{value: v}}
	}
	return levelsFrom(Value{Value: s.items[i], Memory: r.memoryAt(l.process, g.at, 0)}, append(steps, l.within...))
}

// stepsTo finds the way from a type to a part of it at an offset.
func stepsTo(t *event.Type, offset uint64, to *event.Type, types func(event.TypeID) *event.Type, depth int) ([]PathStep, bool) {
	if offset == 0 && t == to {
		return nil, true
	}
	if t == nil || depth > 32 {
		return nil, false
	}
	switch t.Form {
	case event.Struct:
		for i := len(t.Fields) - 1; i >= 0; i-- {
			f := t.Fields[i]
			if f.Offset > offset {
				continue
			}
			rest, ok := stepsTo(types(f.Type), offset-f.Offset, to, types, depth+1)
			if ok || f.Offset < offset {
				return append([]PathStep{{Field: f.Name}}, rest...), ok
			}
		}
	case event.Array:
		e := types(t.Elem)
		if e == nil || e.Size == 0 {
			return nil, false
		}
		n := int64(offset / e.Size)
		rest, ok := stepsTo(e, offset%e.Size, to, types, depth+1)
		return append([]PathStep{{Number: &n}}, rest...), ok
	}
	return nil, false
}

// refine goes from what an expression reads on to the part of it that is looked
// for: the same part of a struct that was copied, the element of a list that was
// taken. related is false where a list holds nothing like it.
func (s scope) refine(name string, l location, v Value, w wanted) (string, location, Value, bool) {
	into := v.settled()
	for _, level := range w {
		t := level.value.settled().Type
		if t == nil || into.Type != t && v.Type != level.value.Type {
			continue
		}
		if identity(into.Value) != identity(level.value.settled().Value) && len(level.steps) == 0 && into.Form() == event.Struct {
			continue
		}
		return s.along(name, l, v, level.steps)
	}
	elem := into.elemType()
	if elem == nil || into.Form() != event.Slice && into.Form() != event.Array && into.Form() != event.Map {
		return name, l, v, true
	}
	for _, level := range w {
		if level.value.Type == nil || level.value.Type != elem {
			continue
		}
		step, ok := s.elementLike(into, []Value{level.value})
		if !ok {
			return name, l, v, false
		}
		x, value, err := s.follow(l, v, step, nil)
		if err != nil {
			return name, l, v, false
		}
		return s.along(name+Path{Steps: []PathStep{step}}.String(), x, value, level.steps)
	}
	return name, l, v, true
}

// along follows steps as far as they lead.
func (s scope) along(name string, l location, v Value, steps []PathStep) (string, location, Value, bool) {
	for _, step := range steps {
		if step.Deref {
			continue // follow goes through interfaces by itself
		}
		x, value, err := s.follow(l, v, step, nil)
		if err != nil {
			return name, l, v, true
		}
		l, v = x, value
		if step.Field != "" {
			name += "." + step.Field
		} else if step.Number != nil {
			name += "[" + strconv.FormatInt(*step.Number, 10) + "]"
		}
	}
	return name, l, v, true
}

// whole returns the outermost of the values.
func (w wanted) whole() *Value { return &w[0].value }

// in says what is looked for within a value that another expression has: the same
// part of a value of the same type, else the value itself.
func (w wanted) in(v Value) wanted {
	t := v.settled().Type
	for _, level := range w {
		if level.value.settled().Type == t && t != nil {
			return levelsFrom(v, level.steps)
		}
	}
	return wanted{{value: v}}
}

// part leaves the outermost of the values out.
func (w wanted) part() wanted {
	if len(w) > 1 {
		return w[1:]
	}
	return w
}
