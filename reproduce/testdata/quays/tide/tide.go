// Package tide has types whose fields others cannot see.
package tide

import (
	"errors"
	"fmt"
)

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

// Gauge reads levels.
type Gauge interface {
	Read(hour int) (Level, error)
	Table() *Table
	reset()
}

type gauge struct {
	table *Table
	reads int
}

// NewGauge makes a gauge.
func NewGauge(station string, levels ...Level) Gauge {
	return &gauge{table: NewTable(station, levels...)}
}

func (g *gauge) Read(hour int) (Level, error) {
	g.reads++
	if hour >= len(g.table.levels) {
		return 0, fmt.Errorf("hour %d: %w", hour, ErrEbb)
	}
	return g.Table().levels[hour], nil
}

func (g *gauge) Table() *Table { return g.table }

func (g *gauge) reset() { g.reads = 0 }

// Grade names a level.
func Grade(l Level) string {
	switch {
	case l > 400:
		return "high"
	case l > 150:
		if isSpring() {
			return "spring"
		}
	default:
		return "low"
	}
	return ""
}

func isSpring() bool { return false }
