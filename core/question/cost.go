package question

import (
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// costLimit limits the work of one evaluation, in units of cost: a call, an iteration, ten bytes of
// text or ten elements of a list.
const costLimit = 1_000_000

// heaviest is the weight at which a single value costs too much.
const heaviest = 10 * costLimit

// sized charges calls by the size of their arguments and results. The library charges one unit for
// untyped calls, because it does not know that they are calls on texts and lists.
type sized struct{}

// CallCost implements cost.ActualCostEstimator.
func (sized) CallCost(function, _ string, args []ref.Val, result ref.Val) *uint64 {
	total := 1 + weight(result, 0, false)/10
	switch function {
	case operators.Add, mixed[operators.Add]:
		// Appending to a list does not copy it: only the new elements count.
		total = 1
		if len(args) == 2 {
			total += weight(args[1], 0, true)
		}
		if text, ok := result.(types.String); ok {
			total += uint64(len(text)) / 10
		}
		if bytes, ok := result.(types.Bytes); ok {
			total += uint64(len(bytes)) / 10
		}
	case overloads.Matches:
		product := uint64(1)
		for _, a := range args {
			product *= 1 + weight(a, 0, false)
		}
		total += product / 100
	default:
		for _, a := range args {
			total += weight(a, 0, true) / 10
		}
	}
	return &total
}

// weight is the number of bytes and elements of a value, with those of its elements if deep is set.
// Shared elements count each time. It stops counting at heaviest.
func weight(v ref.Val, from uint64, deep bool) uint64 {
	switch v := v.(type) {
	case types.String:
		return from + uint64(len(v))
	case types.Bytes:
		return from + uint64(len(v))
	case object:
		return from + 1 // its parts are read when asked for
	case traits.Mapper:
		for i := v.Iterator(); deep && from < heaviest && i.HasNext() == types.True; {
			from = weight(v.Get(i.Next()), from+1, true)
		}
	case traits.Lister:
		if n, ok := v.Size().(types.Int); !deep && ok {
			return from + uint64(n)
		}
		for i := v.Iterator(); from < heaviest && i.HasNext() == types.True; {
			from = weight(i.Next(), from, true)
		}
	}
	return from + 1
}
