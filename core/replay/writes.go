package replay

// Write is one write of a variable, field or element. Old is nil if nothing was known before.
type Write struct {
	Place
	Old *Value
	New Value
}

// Writes are all the writes of a variable, field or element: how many, and a
// page of them.
type Writes struct {
	Total int
	Page  []Write
}
