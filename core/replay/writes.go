package replay

// Write is one write of a variable, field or element. Old is nil if the value before it is not
// known.
type Write struct {
	Place
	Old *Value
	New Value
}

// Writes are the writes of a variable, field or element: their total and a page of them.
type Writes struct {
	Total int
	Page  []Write
}
