package structuredlog

import "strconv"

// kind is the type of a field's value.
type kind uint8

const (
	textField kind = iota
	intField
	floatField
	boolField
	nullField
	listField   // text holds the list in the notation of JSON
	objectField // text holds an object or list within a list
)

// field is a named value of a line.
type field struct {
	name   string
	kind   kind
	text   string // also the digits of a number with a fraction
	number int64
	float  float64
}

// record is one line, or several that belong together.
type record struct {
	time    int64 // nanoseconds since 1970
	timed   bool
	guess   guess
	zone    string // an abbreviation that means several offsets, which was not used
	fields  []field
	request string // of an access log
	unread  bool   // its line could not be read
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
		if f.text != "" {
			return f.text
		}
		return strconv.FormatFloat(f.float, 'g', -1, 64)
	case boolField:
		return strconv.FormatBool(f.number != 0)
	case nullField:
		return ""
	}
	return f.text
}

// moment interprets a field as a time. A number is a count since 1970.
func (f *field) moment(c *clock) (int64, guess, bool) {
	switch f.kind {
	case textField:
		return c.parse(f.text)
	case intField, floatField:
		t, ok := sinceEpoch(f.String())
		return t, noGuess, ok
	}
	return 0, noGuess, false
}
