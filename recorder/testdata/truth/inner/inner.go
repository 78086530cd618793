// Package inner is a second package of the recorded module.
package inner

// Count is changed by its own package only.
var Count = 3

// Box holds one value.
type Box[T any] struct {
	Value T
	Full  bool
}

// Put fills the box.
func (b *Box[T]) Put(v T) {
	b.Value, b.Full = v, true
	Count++
}
