package state

import (
	"strings"

	"wraithology/core/event"
)

// PlainName writes (*Book).Reading as Book.Reading, without the package's path.
func PlainName(s string) string {
	s = s[strings.LastIndexByte(s, '/')+1:]
	return strings.NewReplacer("(*", "", ")", "").Replace(s)
}

// CommonPrefix counts the leading letters that two names have in common.
func CommonPrefix(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n]|0x20 == b[n]|0x20 {
		n++
	}
	return n
}

// OuterText returns a text value that holds for all calls of a function.
func (r *Log) OuterText(f *event.Function, name string) string {
	for _, x := range f.Outer {
		if x.Name == name {
			if v, err := event.DecodeValues(x.Data, 1, r.T.Types(0)); err == nil {
				return v[0].Text
			}
		}
	}
	return ""
}

var PlainText = &event.Type{ID: 1, Name: "string", Form: event.Text}

// AnyFunctionHas reports whether any function has a variable of a name.
func (r *Log) AnyFunctionHas(name string) bool {
	return r.names()[name]
}
