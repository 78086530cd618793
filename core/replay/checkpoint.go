package replay

import (
	"math"
	"sort"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
)

// Number selects hits: the nth (from 1), each nth, or the last, also before a moment. The zero
// Number selects all.
type Number struct {
	Nth    int
	Every  int
	Last   bool
	Before event.Moment // with Last; 0 for anywhere
}

// ParseNumber parses a hit number: "5", "every 100", "last", "last before 4711".
func ParseNumber(s string) (Number, error) {
	words := strings.Fields(s)
	whole := func(w string, least int64) (int64, bool) {
		n, err := strconv.ParseInt(w, 10, 64)
		return n, err == nil && n >= least && n <= math.MaxInt32
	}
	switch {
	case len(words) == 0:
		return Number{}, nil
	case len(words) == 1 && words[0] == "last":
		return Number{Last: true}, nil
	case len(words) == 1:
		if n, ok := whole(words[0], 1); ok {
			return Number{Nth: int(n)}, nil
		}
	case len(words) == 2 && words[0] == "every":
		if n, ok := whole(words[1], 1); ok {
			return Number{Every: int(n)}, nil
		}
	case len(words) == 3 && words[0] == "last" && words[1] == "before":
		if n, ok := whole(words[2], 1); ok {
			return Number{Last: true, Before: event.Moment(n)}, nil
		}
	}
	return Number{}, fault.InvalidNumber.New("", "invalid hit number %q", s)
}

// All reports whether all hits count.
func (n Number) All() bool { return n == Number{} }

// Choose returns those of the hits, in order, that count.
func (n Number) Choose(held []event.Moment) []event.Moment {
	switch {
	case n.Nth > 0:
		if n.Nth > len(held) {
			return nil
		}
		return held[n.Nth-1 : n.Nth]
	case n.Every > 0:
		var out []event.Moment
		for i := n.Every - 1; i < len(held); i += n.Every {
			out = append(out, held[i])
		}
		return out
	case n.Last:
		if n.Before > 0 {
			held = held[:sort.Search(len(held), func(i int) bool { return held[i] >= n.Before })]
		}
		return held[max(len(held)-1, 0):]
	}
	return held
}
