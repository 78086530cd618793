package replay

import (
	"strconv"
)

// Search selects recorded values: those that contain a text, equal a number, or refer to an object.
// Type, if not empty, is the name of the value's type, or its end after a dot.
type Search struct {
	Text    string
	Number  *float64
	Type    string
	Object  uint64 // an address; 0 for none
	Process uint16 // of the address
}

// NewSearch parses a search. A number also finds texts that contain it.
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

// Found are the places where a value was found: their total and a page of them.
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
