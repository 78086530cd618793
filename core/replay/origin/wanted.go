package origin

import (
	"strconv"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
	"wraithology/core/replay/writes"
)

// wanted is the value whose origin is wanted, with the values that contain it, outermost first. If
// a whole struct was copied, the source of the copy has the same type, and the path into it is the
// same.
type wanted []wantedLevel

type wantedLevel struct {
	value replay.Value
	steps []replay.PathStep // from here to the value that is looked for
}

// leaf returns the value itself.
func (w wanted) leaf() *replay.Value { return &w[len(w)-1].value }

// like lists the values that an unknown element can be equal to.
func (w wanted) like() []replay.Value {
	var out []replay.Value
	for _, l := range w {
		out = append(out, l.value)
	}
	return out
}

// levelsFrom lists the values on the way from one along steps.
func levelsFrom(v replay.Value, steps []replay.PathStep) wanted {
	out := wanted{{v, steps}}
	for i, s := range steps {
		v = v.Inside(s)
		out = append(out, wantedLevel{v, steps[i+1:]})
	}
	return out
}

// wantedAt returns the wanted value at a location, in the values that were written at a moment.
func (r Chains) wantedAt(l state.Location, g writes.Record, v replay.Value) wanted {
	switch {
	case l.Entry != nil:
		return levelsFrom(l.Whole().At(r.Log, g.At), l.Within)
	case l.Call != event.NoCall:
		f := r.T.FunctionOf(l.Call)
		whole, err := r.ValueWritten(g.At, l.Variable, f, 0, g.At)
		if err != nil {
			return wanted{{value: v}}
		}
		return levelsFrom(replay.Value{Value: whole, Memory: r.MemoryAt(l.Process, g.At, 0)}, l.Within)
	}
	m := r.MemoryUntil(l.Process, g.At)
	if g.Moved != 0 {
		l.Address = g.Moved // it lay elsewhere when it was written
	}
	s, ok := m.StretchAt(g.At)
	if !ok || !s.Covers(l.Address, l.Of.Size) || s.Of.Size == 0 {
		return wanted{{value: v}}
	}
	i := (l.Address - s.Address) / s.Of.Size
	if i >= uint64(len(s.Items)) {
		return wanted{{value: v}}
	}
	steps, ok := stepsTo(s.Of, (l.Address-s.Address)%s.Of.Size, l.Of, m.Type, 0)
	if !ok {
		return wanted{{value: v}}
	}
	return levelsFrom(replay.Value{Value: s.Items[i], Memory: r.MemoryAt(l.Process, g.At, 0)}, append(steps, l.Within...))
}

// stepsTo returns the steps from a type to its part at an offset.
func stepsTo(t *event.Type, offset uint64, to *event.Type, types func(event.TypeID) *event.Type, depth int) ([]replay.PathStep, bool) {
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
				return append([]replay.PathStep{{Field: f.Name}}, rest...), ok
			}
		}
	case event.Array:
		e := types(t.Elem)
		if e == nil || e.Size == 0 {
			return nil, false
		}
		n := int64(offset / e.Size)
		rest, ok := stepsTo(e, offset%e.Size, to, types, depth+1)
		return append([]replay.PathStep{{Number: &n}}, rest...), ok
	}
	return nil, false
}

// refine continues from the path of an expression to the wanted part of it: the same part of a
// copied struct, or the element that was taken from a list. related is false if a list does not
// contain such an element.
func refine(s state.Scope, name string, l state.Location, v replay.Value, w wanted) (string, state.Location, replay.Value, bool) {
	into := v.Settled()
	for _, level := range w {
		t := level.value.Settled().Type
		if t == nil || into.Type != t && v.Type != level.value.Type {
			continue
		}
		if replay.Identity(into.Value) != replay.Identity(level.value.Settled().Value) && len(level.steps) == 0 && into.Form() == event.Struct {
			continue
		}
		return followed(s, name, l, v, level.steps)
	}
	elem := into.ElemType()
	if elem == nil || into.Form() != event.Slice && into.Form() != event.Array && into.Form() != event.Map {
		return name, l, v, true
	}
	for _, level := range w {
		if level.value.Type == nil || level.value.Type != elem {
			continue
		}
		step, ok := s.ElementLike(into, []replay.Value{level.value})
		if !ok {
			return name, l, v, false
		}
		x, value, err := s.Follow(l, v, step, nil)
		if err != nil {
			return name, l, v, false
		}
		return followed(s, name+replay.Path{Steps: []replay.PathStep{step}}.String(), x, value, level.steps)
	}
	return name, l, v, true
}

// followed returns the value at the end of steps, or as far as they can be followed.
func followed(s state.Scope, name string, l state.Location, v replay.Value, steps []replay.PathStep) (string, state.Location, replay.Value, bool) {
	for _, step := range steps {
		if step.Deref {
			continue // follow goes through interfaces by itself
		}
		x, value, err := s.Follow(l, v, step, nil)
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
func (w wanted) whole() *replay.Value { return &w[0].value }

// isElement reports whether the value is inside of what was made, and not the list, map or channel itself.
func (w wanted) isElement() bool {
	switch w.whole().Form() {
	case event.Slice, event.Map, event.Chan, event.Interface:
		return len(w[0].steps) > 0
	}
	return true
}

// in returns the wanted value within the value of another expression: the same part of a value of
// the same type, else the value itself.
func (w wanted) in(v replay.Value) wanted {
	t := v.Settled().Type
	for _, level := range w {
		if level.value.Settled().Type == t && t != nil {
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
