package replay

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
)

// Opened returns an object in the notation of JSON with its parts, which may be objects again; other values as they are.
// A text that is not valid JSON stays a text.
func (v Value) Opened() Value {
	if v.Type == nil || v.Type.Name != event.ObjectType || v.Form() != event.Text || v.State != event.Known || v.Whole > 0 {
		return v
	}
	text := strings.TrimSpace(v.Value.Text)
	switch {
	case strings.HasPrefix(text, "["):
		var list []json.RawMessage
		if json.Unmarshal([]byte(text), &list) != nil {
			return v
		}
		out := event.Value{Type: &event.Type{Name: "list", Form: event.Array, Length: uint64(len(list))}, State: event.Known, Length: uint64(len(list))}
		for _, x := range list {
			out.Items = append(out.Items, itemOf(x))
		}
		return v.With(out)
	case strings.HasPrefix(text, "{"):
		names, parts, ok := members(text)
		if !ok {
			return v
		}
		out := event.Value{Type: &event.Type{Name: event.ObjectType, Form: event.Struct}, State: event.Known}
		for i, name := range names {
			out.Type.Fields = append(out.Type.Fields, event.Field{Name: name})
			out.Items = append(out.Items, itemOf(parts[i]))
		}
		return v.With(out)
	}
	return v
}

// members returns the members of an object in their order; of equal names the last one counts.
func members(text string) (names []string, parts []json.RawMessage, ok bool) {
	d := json.NewDecoder(strings.NewReader(text))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, nil, false
	}
	for d.More() {
		t, err := d.Token()
		name, isText := t.(string)
		var part json.RawMessage
		if err != nil || !isText || d.Decode(&part) != nil {
			return nil, nil, false
		}
		if i := slices.Index(names, name); i >= 0 {
			parts[i] = part
			continue
		}
		names, parts = append(names, name), append(parts, part)
	}
	return names, parts, true
}

// itemOf returns a part of an object as a value.
func itemOf(x json.RawMessage) event.Value {
	x = bytes.TrimSpace(x)
	known := func(name string, form event.Form) event.Value {
		return event.Value{Type: &event.Type{Name: name, Form: form, Size: 8}, State: event.Known}
	}
	switch {
	case len(x) == 0:
	case x[0] == '{', x[0] == '[':
		v := known(event.ObjectType, event.Text)
		v.Text = string(x)
		return v
	case x[0] == '"':
		v := known("string", event.Text)
		if json.Unmarshal(x, &v.Text) == nil {
			return v
		}
	case string(x) == "null":
		v := known("string", event.Text)
		v.Nil = true
		return v
	case string(x) == "true", string(x) == "false":
		v := known("bool", event.Bool)
		if x[0] == 't' {
			v.Uint = 1
		}
		return v
	default:
		if n, err := strconv.ParseInt(string(x), 10, 64); err == nil {
			v := known("int", event.Int)
			v.Int = n
			return v
		}
		if f, err := strconv.ParseFloat(string(x), 64); err == nil {
			v := known("double", event.Float)
			v.Float = f
			return v
		}
	}
	return event.Value{Type: &event.Type{Name: event.ObjectType, Form: event.Text}, State: event.Unrecorded}
}
