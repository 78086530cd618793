// Package tide has types whose fields others cannot see.
package tide

import "errors"

// Level is a height in centimetres.
type Level int

// The levels of Gannet Sound.
const (
	Low  Level = 40
	High Level = 410
)

// ErrEbb says that the water goes out.
var ErrEbb = errors.New("ebb tide")

// Table is a table of levels.
type Table struct {
	Station string
	levels  []Level
	mean    float64
}

// NewTable makes a table.
func NewTable(station string, levels ...Level) *Table {
	t := &Table{Station: station, levels: levels}
	for _, l := range levels {
		t.mean += float64(l) / float64(len(levels))
	}
	return t
}

// Highest returns the highest level.
func (t *Table) Highest() Level {
	var top Level
	for _, l := range t.levels {
		top = max(top, l)
	}
	return top
}
