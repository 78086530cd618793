package report

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// deepest limits how far outlines are nested; what is deeper is left as JSON.
const deepest = 30

// outline writes a JSON text for people: a line for each member, what is in it below and further right; empty members are left out. It ends soon
// after a number of bytes. A text that is not JSON is returned as it is.
func outline(text string, most int) string {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	o := outliner{d: d, left: most}
	lines, _, err := o.value(0)
	if err == nil {
		if _, end := d.Token(); end != io.EOF {
			return text
		}
	} else if !errors.Is(err, errEnough) {
		return text
	}
	return strings.Join(lines, "\n")
}

// errEnough ends an outline that is long enough.
var errEnough = errors.New("the outline is long enough")

type outliner struct {
	d    *json.Decoder
	left int // bytes
}

// value returns the lines of the next value, and whether it is a single one. With errEnough it returns those that it has.
func (o *outliner) value(depth int) (lines []string, isSingle bool, err error) {
	if o.left < 0 {
		return nil, false, errEnough
	}
	if depth > deepest {
		var rest json.RawMessage
		err := o.d.Decode(&rest)
		return o.text(string(rest)), true, err
	}
	t, err := o.d.Token()
	if err != nil {
		return nil, false, err
	}
	switch x := t.(type) {
	case json.Delim:
		lines, err = o.parts(x == '{', depth)
		return lines, false, err
	case nil:
		return nil, true, nil
	case string:
		if x == "" {
			return nil, true, nil
		}
		return o.text(x), true, nil
	}
	return o.text(fmt.Sprint(t)), true, nil
}

func (o *outliner) text(s string) []string {
	o.left -= len(s) + 1
	return strings.Split(s, "\n")
}

// parts returns the lines of an object or list that has begun.
func (o *outliner) parts(isObject bool, depth int) (lines []string, err error) {
	for o.d.More() {
		first, rest := "- ", "  "
		if isObject {
			key, err := o.d.Token()
			if err != nil {
				return nil, err
			}
			first = fmt.Sprint(key) + ":"
			o.left -= len(first)
		}
		inner, isSingle, err := o.value(depth + 1)
		switch {
		case len(inner) == 0:
		case isObject && isSingle && len(inner) == 1:
			lines = append(lines, first+" "+inner[0])
		case isObject:
			lines = append(lines, first)
			for _, l := range inner {
				lines = append(lines, rest+l)
			}
		default:
			lines = append(lines, first+inner[0])
			for _, l := range inner[1:] {
				lines = append(lines, rest+l)
			}
		}
		if err != nil {
			return lines, err
		}
	}
	_, err = o.d.Token() // the end
	return lines, err
}
