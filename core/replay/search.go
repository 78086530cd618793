package replay

import (
	"math"
	"strconv"
)

// Search selects recorded values: those that contain a text, equal a number, or refer to an object.
// Int, Uint and Number are the number in the forms that can hold it exactly, and the nearest
// floating-point number. Type, if not empty, is the name of the value's type, or its end after a dot.
type Search struct {
	Text    string
	Int     *int64
	Uint    *uint64
	Number  *float64
	Type    string
	Object  uint64 // an address; 0 for none
	Process uint16 // of the address
}

// NewSearch parses a search. A number also finds texts that contain it.
func NewSearch(text, typeName string) Search {
	s := Search{Text: text, Type: typeName}
	if unquoted, err := strconv.Unquote(text); err == nil {
		s.Text = unquoted
		return s
	}
	number, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return s
	}
	s.Number = &number
	const exact = 1 << 53 // whole numbers below it have an exact floating-point form
	plain := text
	if number == math.Trunc(number) && math.Abs(number) < exact {
		plain = strconv.FormatInt(int64(number), 10)
	}
	if n, err := strconv.ParseInt(plain, 10, 64); err == nil {
		s.Int = &n
	}
	if n, err := strconv.ParseUint(plain, 10, 64); err == nil {
		s.Uint = &n
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
