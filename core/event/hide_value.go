package event

import "wraithology/core/mask"

// Value masks a decoded value, for evidence that has no events.
func (h *Hider) Value(v Value, level mask.Level) Value {
	if v.Last != nil {
		last := h.Value(*v.Last, level)
		v.Last = &last
	}
	if v.State != Known && v.State != MayHaveChanged && v.State != Leftover || v.Nil || v.Type == nil {
		return v
	}
	known := h.typeOf(v.Type, 0)
	level = max(level, known.level)
	switch v.Type.Form {
	case Text:
		return h.textValue(v, level)
	case Int, Uint, Float, Complex, Opaque:
		if level == mask.All {
			return h.redacted(v)
		}
	case Struct:
		v.Items = h.each(v.Items, func(i int) mask.Level {
			if i >= len(known.fields) {
				return level
			}
			return max(level, known.fields[i])
		})
	case Map:
		if h.References && level != mask.Nothing {
			return h.redacted(v)
		}
		pairs := make([]Value, len(v.Pairs))
		of := level
		for i, x := range v.Pairs {
			if i%2 == 0 {
				of = max(level, h.Name(mask.OnField, textOf(x)))
				pairs[i] = h.Value(x, mask.Nothing)
				continue
			}
			pairs[i] = h.Value(x, of)
		}
		v.Pairs = pairs
	default:
		if h.References && level != mask.Nothing && (v.Type.Form == Pointer || v.Type.Form == Slice || v.Type.Form == Chan) {
			return h.redacted(v)
		}
		if text, ok := bytesOf(v); ok && (level != mask.Nothing || h.Text(text) != text) {
			v.Items = h.each(v.Items, func(int) mask.Level { return mask.All })
			return v
		}
		v.Items = h.each(v.Items, func(int) mask.Level { return level })
	}
	return v
}

func (h *Hider) each(list []Value, level func(int) mask.Level) []Value {
	if list == nil {
		return nil
	}
	out := make([]Value, len(list))
	for i, x := range list {
		out[i] = h.Value(x, level(i))
	}
	return out
}

func (h *Hider) textValue(v Value, level mask.Level) Value {
	if level != mask.Nothing && v.Text != "" {
		h.found(v.Text)
		return h.redacted(v)
	}
	if v.Type.Name == ObjectType {
		v.Text = h.object(v.Text)
	}
	v.Text = h.Text(v.Text)
	return v
}

func (h *Hider) redacted(v Value) Value {
	h.Count++
	return Value{Type: v.Type, State: Redacted}
}

// bytesOf returns the bytes of a list of bytes that are all known.
func bytesOf(v Value) (string, bool) {
	b := make([]byte, 0, len(v.Items))
	for _, x := range v.Items {
		if x.State != Known || x.Type == nil || x.Type.Size != 1 || x.Type.Form != Uint && x.Type.Form != Int || x.Int < -128 || x.Int > 255 || x.Uint > 255 {
			return "", false
		}
		b = append(b, byte(x.Uint)|byte(x.Int))
	}
	return string(b), len(b) > 0
}
