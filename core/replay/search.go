package replay

import (
	"strconv"
)

// Search says what is looked for among all recorded values: a text that a value
// has in it, a number that it equals, an object that it refers to. Type, if not
// empty, is the value's type name, or its end after a dot.
type Search struct {
	Text    string
	Number  *float64
	Type    string
	Object  uint64 // an address; 0 for none
	Process uint16 // of the address
}

// NewSearch reads what is looked for: a number also finds texts that hold it.
func NewSearch(text, typeName string) Search {
	s := Search{Text: text, Type: typeName}
	if n, err := strconv.ParseFloat(text, 64); err == nil {
		s.Number = &n
	}
	if unquoted, err := strconv.Unquote(text); err == nil {
		s.Text, s.Number = unquoted, nil
	}
	return s
}

// Found are the places at which a value was found: how many there are, and a page.
type Found struct {
	Total int
	Page  []FoundValue
}

// FoundValue is one place at which a value was found.
type FoundValue struct {
	Place
	Name  string
	Value Value
}
