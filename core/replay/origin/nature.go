package origin

import (
	"math"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// maxTurns limits the changes of nature that one folded chain shows.
const maxTurns = 3

// nature is what kind of value a value is, as far as a change of it is worth a look: the sign of a number,
// whether something is nil or empty. The natures are in order of how telling they are.
type nature string

const (
	ordinary nature = "ordinary"
	positive nature = "positive"
	filled   nature = "not empty"
	zero     nature = "zero"
	empty    nature = "empty"
	isNil    nature = "nil"
	negative nature = "negative"
	infinite nature = "infinite"
	notANum  nature = "not a number"
)

// natureOf returns the nature of a known value.
func natureOf(v replay.Value) nature {
	v = v.Settled()
	if v.State != event.Known {
		return ordinary
	}
	sign := func(below, above bool) nature {
		switch {
		case below:
			return negative
		case above:
			return positive
		}
		return zero
	}
	switch v.Form() {
	case event.Int:
		return sign(v.Int < 0, v.Int > 0)
	case event.Uint:
		return sign(false, v.Uint > 0)
	case event.Float:
		switch {
		case math.IsNaN(v.Float):
			return notANum
		case math.IsInf(v.Float, 0):
			return infinite
		}
		return sign(v.Float < 0, v.Float > 0)
	case event.Pointer, event.Interface, event.Func, event.Chan:
		if v.Nil {
			return isNil
		}
	case event.Text:
		if v.Value.Text == "" && v.Whole == 0 {
			return empty
		}
		return filled
	case event.Slice, event.Map:
		if v.Nil {
			return isNil
		}
		if v.Count() == 0 {
			return empty
		}
		return filled
	}
	return ordinary
}

// isNothing reports whether a value is nil, empty or false.
func isNothing(v replay.Value) bool {
	if v.State == event.Known && v.Form() == event.Bool {
		return v.Uint == 0
	}
	is := natureOf(v)
	return is == isNil || is == empty
}

// turnedInto names the nature of a value that the value before it did not have; empty if it is the same, or
// the ordinary course of things: a zero that became positive, a list that got its first element.
func turnedInto(before, v replay.Value) string {
	from, to := natureOf(before), natureOf(v)
	if before.State != event.Known || v.State != event.Known || from == to {
		return ""
	}
	switch to {
	case ordinary, filled:
		return ""
	case positive:
		if from != negative {
			return ""
		}
	case infinite:
		return v.Text()
	}
	return string(to)
}
