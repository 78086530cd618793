package structuredlog

import (
	"strconv"
	"time"
)

// kind is the type of a field's value.
type kind uint8

const (
	textField kind = iota
	intField
	floatField
	boolField
	nullField
	listField // text holds the list in the notation of JSON
)

// field is a named value of a line.
type field struct {
	name   string
	kind   kind
	text   string
	number int64
	float  float64
}

// record is one line, or several that belong together.
type record struct {
	time    int64 // nanoseconds since 1970
	timed   bool
	fields  []field
	message string
	writer  string // who wrote it, where its wrapping says so
	output  string
	more    []string // lines that continue it
}

func (r *record) reset() {
	*r = record{fields: r.fields[:0], more: r.more[:0]}
}

func (r *record) add(name, text string) {
	r.fields = append(r.fields, field{name: name, text: text})
}

// get returns the text of a field.
func (r *record) get(name string) (string, bool) {
	for i := range r.fields {
		if r.fields[i].name == name {
			return r.fields[i].String(), true
		}
	}
	return "", false
}

func (f *field) String() string {
	switch f.kind {
	case intField:
		return strconv.FormatInt(f.number, 10)
	case floatField:
		return strconv.FormatFloat(f.float, 'g', -1, 64)
	case boolField:
		return strconv.FormatBool(f.number != 0)
	case nullField:
		return ""
	}
	return f.text
}

// moment interprets a field as a time. A number counts seconds, milliseconds, microseconds or
// nanoseconds since 1970, by its size.
func (f *field) moment() (int64, bool) {
	switch f.kind {
	case textField:
		if t, ok := parseTime(f.text); ok {
			return t, true
		}
		if x, err := strconv.ParseFloat(f.text, 64); err == nil {
			return sinceEpoch(x)
		}
	case intField:
		const latestSeconds, latestMilli, latestMicro, latestTime = 1 << 33, 1 << 43, 1 << 53, 1<<63 - 1
		switch n := f.number; {
		case n < 0:
			return 0, false
		case n < latestSeconds:
			return n * int64(time.Second), true
		case n < latestMilli:
			return n * int64(time.Millisecond), n < latestTime/int64(time.Millisecond)
		case n < latestMicro:
			return n * int64(time.Microsecond), true
		default:
			return n, true
		}
	case floatField:
		return sinceEpoch(f.float)
	}
	return 0, false
}

func sinceEpoch(x float64) (int64, bool) {
	const latestSeconds, latestMilli = 1 << 33, 1 << 43
	switch {
	case !(x >= 0):
		return 0, false
	case x < latestSeconds:
		whole := int64(x)
		return whole*int64(time.Second) + int64((x-float64(whole))*1e9), true
	case x < latestMilli:
		return int64(x * 1e6), true
	}
	return 0, false
}

// layouts are time layouts beside RFC 3339.
var layouts = []string{
	"2006-01-02 15:04:05.999999999Z07:00", "2006-01-02T15:04:05.999999999Z0700", "2006-01-02 15:04:05.999999999 -0700", "2006-01-02 15:04:05,999999999", "2006-01-02 15:04:05.999999999",
	"2006-01-02T15:04:05.999999999", "2006/01/02 15:04:05.999999999", time.RFC1123Z, time.RFC1123, time.RFC850, time.ANSIC, time.UnixDate, "02/Jan/2006:15:04:05 -0700",
}

// parseTime reads a time as text.
func parseTime(s string) (int64, bool) {
	const least, most = len("2006-01-02"), 48
	if len(s) < least || len(s) > most {
		return 0, false
	}
	if t, err := time.Parse(time.RFC3339Nano, s); err == nil {
		return nanoseconds(t)
	}
	for _, layout := range layouts {
		if t, err := time.Parse(layout, s); err == nil {
			return nanoseconds(t)
		}
	}
	return 0, false
}

// nanoseconds returns the time since 1970; ok is false if it is out of range.
func nanoseconds(t time.Time) (int64, bool) {
	if y := t.Year(); y < 1970 || y > 2261 {
		return 0, false
	}
	return t.UnixNano(), true
}
