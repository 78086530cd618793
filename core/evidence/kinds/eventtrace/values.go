package eventtrace

import (
	"fmt"
	"slices"
	"strconv"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/intake"
)

// Bounds of composite values.
const (
	maxItems  = 1 << 12
	maxNested = 8
)

// valueWriter writes AnyValues as values of events.
type valueWriter struct {
	tables *intake.Tables
}

// value appends a value. Maps within lists are written as text.
func (w *valueWriter) value(b []byte, v otlp.Value, depth int) []byte {
	switch v.Kind {
	case otlp.StringValue:
		return w.tables.AppendString(b, string(v.Bytes))
	case otlp.BoolValue:
		return event.AppendBool(b, intake.Bool, v.Plain != 0)
	case otlp.IntValue:
		return event.AppendInt(b, intake.Int, v.Int())
	case otlp.DoubleValue:
		return event.AppendFloat(b, intake.Double, v.Double())
	case otlp.BytesValue:
		return w.tables.AppendBytes(b, v.Bytes)
	case otlp.ArrayValue:
		items, err := v.Items()
		if err != nil || depth > maxNested {
			return event.AppendUnknown(b, intake.List)
		}
		if len(items) > maxItems {
			w.tables.Gap("lists of more than "+strconv.Itoa(maxItems)+" values", "their ends are left out")
			items = items[:maxItems]
		}
		b = event.AppendList(b, intake.List, len(items))
		for _, x := range items {
			item, err := otlp.ParseValue(x)
			if err != nil {
				item = otlp.Value{}
			}
			b = event.AppendElement(b, w.value(nil, item, depth+1))
		}
		return b
	case otlp.MapValue:
		return w.tables.AppendObject(b, w.text(v, 0))
	}
	return event.AppendNil(b, intake.String)
}

// text writes a value as JSON, for messages that are not text.
func (w *valueWriter) text(v otlp.Value, depth int) string {
	if depth > maxNested {
		w.tables.Gap("values nested more than "+strconv.Itoa(maxNested)+" levels deep", "what is deeper is left out")
		return "…"
	}
	switch v.Kind {
	case otlp.StringValue:
		if depth == 0 {
			return string(v.Bytes)
		}
		return strconv.Quote(string(v.Bytes))
	case otlp.BoolValue:
		return strconv.FormatBool(v.Plain != 0)
	case otlp.IntValue:
		return strconv.FormatInt(v.Int(), 10)
	case otlp.DoubleValue:
		return strconv.FormatFloat(v.Double(), 'g', -1, 64)
	case otlp.ArrayValue, otlp.MapValue:
		items, err := v.Items()
		if err != nil {
			return "…"
		}
		open, end := byte('['), byte(']')
		if v.Kind == otlp.MapValue {
			open, end = '{', '}'
		}
		b := []byte{open}
		for i, x := range items {
			if len(b) > w.tables.Longest() {
				w.tables.Gap(fmt.Sprintf("texts of more than %d bytes", w.tables.Longest()), "only their beginnings are kept: raise the limit with --longest-text BYTES")
				b = append(b, "…"...)
				break
			}
			if i > 0 {
				b = append(b, ',')
			}
			if v.Kind == otlp.MapValue {
				key, raw, err := otlp.ParseAttribute(x)
				if err != nil {
					continue
				}
				b = append(strconv.AppendQuote(b, string(key)), ':')
				x = raw
			}
			item, err := otlp.ParseValue(x)
			if err != nil {
				item = otlp.Value{}
			}
			b = append(b, w.text(item, depth+1)...)
		}
		return string(append(b, end))
	case otlp.BytesValue:
		return strconv.Quote(string(v.Bytes))
	}
	return "null"
}

// attribute is an attribute with its full name. The entries of a map are attributes with the map's
// name, a dot and their key.
type attribute struct {
	key   []byte
	value otlp.Value
}

// flatten appends the attributes of a list of KeyValues.
func flatten(out []attribute, list [][]byte, prefix []byte, depth int) ([]attribute, error) {
	for _, b := range list {
		key, raw, err := otlp.ParseAttribute(b)
		if err != nil {
			return out, err
		}
		v, err := otlp.ParseValue(raw)
		if err != nil {
			return out, err
		}
		if len(prefix) > 0 {
			key = append(append(slices.Clip(prefix), '.'), key...)
		}
		if v.Kind == otlp.MapValue && depth < maxNested {
			items, err := v.Items()
			if err != nil {
				return out, err
			}
			if out, err = flatten(out, items, key, depth+1); err != nil {
				return out, err
			}
			continue
		}
		out = append(out, attribute{key, v})
	}
	return out, nil
}

// slots holds the values of an event by variable.
type slots struct {
	ids   []event.VariableID
	ends  []int
	bytes []byte
}

func (s *slots) reset() { s.ids, s.ends, s.bytes = s.ids[:0], s.ends[:0], s.bytes[:0] }

// put adds the value that was appended to bytes since the last one.
func (s *slots) put(id event.VariableID, bytes []byte) {
	s.ids, s.ends, s.bytes = append(s.ids, id), append(s.ends, len(bytes)), bytes
}

// at returns the bytes of the nth value.
func (s *slots) at(n int) []byte {
	from := 0
	if n > 0 {
		from = s.ends[n-1]
	}
	return s.bytes[from:s.ends[n]]
}
