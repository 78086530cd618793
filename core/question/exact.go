package question

import (
	"errors"
	"math/big"
	"reflect"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// exactNumber is a number that neither an int64 nor a float64 can hold: an integer of 128 bits, or a floating-point number with
// a longer significand. Arithmetic with it is exact.
type exactNumber struct {
	r     *big.Rat
	float bool
}

var exactType = types.NewObjectType("exact number", traits.NegatorType)

// extendedPrecision is the significand of the longest usual floating-point type, binary128, in bits.
const extendedPrecision = 113

// maxExact limits the digits of an exact number.
const maxExact = 1 << 14

// exactOf returns a number that its 64 bits do not hold: as an exact one, or a whole number of 128 bits that is small.
func exactOf(v replay.Value) (ref.Val, bool) {
	if v.Value.Text == "" || v.Type == nil {
		return nil, false
	}
	switch v.Form() {
	case event.Float:
		f, _, err := big.ParseFloat(v.Value.Text, 10, extendedPrecision, big.ToNearestEven)
		if err != nil || f.IsInf() {
			return nil, false
		}
		if _, accuracy := f.Float64(); accuracy == big.Exact {
			return nil, false
		}
		r, _ := f.Rat(nil)
		return exactNumber{r, true}, r != nil
	case event.Int, event.Uint, event.Opaque:
		if v.Type.Size > 8 && strings.Trim(v.Value.Text, "-0123456789") == "" {
			n, ok := new(big.Int).SetString(v.Value.Text, 10)
			if ok && n.IsInt64() {
				return types.Int(n.Int64()), true
			}
			if ok {
				return exactNumber{new(big.Rat).SetInt(n), false}, true
			}
		}
	}
	return nil, false
}

// asExact converts a number to an exact one.
func asExact(v ref.Val) (exactNumber, bool) {
	switch x := v.(type) {
	case exactNumber:
		return x, true
	case types.Int:
		return exactNumber{new(big.Rat).SetInt64(int64(x)), false}, true
	case types.Uint:
		return exactNumber{new(big.Rat).SetInt(new(big.Int).SetUint64(uint64(x))), false}, true
	case types.Double:
		if r := new(big.Rat).SetFloat64(float64(x)); r != nil {
			return exactNumber{r, true}, true
		}
	}
	return exactNumber{}, false
}

// bothExact converts two operands, if one of them is exact and the other one a number.
func bothExact(a, b ref.Val) (x, y exactNumber, ok bool) {
	_, one := a.(exactNumber)
	_, other := b.(exactNumber)
	if !one && !other {
		return x, y, false
	}
	x, ok = asExact(a)
	if !ok {
		return x, y, false
	}
	y, ok = asExact(b)
	return x, y, ok
}

// calculate applies an arithmetic operator. Integers are divided like integers.
func (x exactNumber) calculate(operator string, y exactNumber) ref.Val {
	out := exactNumber{new(big.Rat), x.float || y.float}
	switch operator {
	case operators.Add:
		out.r.Add(x.r, y.r)
	case operators.Subtract:
		out.r.Sub(x.r, y.r)
	case operators.Multiply:
		out.r.Mul(x.r, y.r)
	case operators.Divide:
		switch {
		case y.r.Sign() == 0:
			return types.NewErr("division by zero")
		case out.float:
			out.r.Quo(x.r, y.r)
		default:
			out.r.SetInt(new(big.Int).Quo(x.r.Num(), y.r.Num()))
		}
	}
	if out.r.Num().BitLen()+out.r.Denom().BitLen() > maxExact {
		return types.NewErr("the result has more than %d bits", maxExact)
	}
	return out
}

// String writes the number in decimal.
func (x exactNumber) String() string {
	if !x.float {
		return x.r.Num().String()
	}
	return new(big.Float).SetPrec(extendedPrecision).SetRat(x.r).Text('g', -1)
}

// ConvertToNative implements ref.Val.
func (x exactNumber) ConvertToNative(reflect.Type) (any, error) {
	return nil, errors.New("an exact number has no plain form")
}

// ConvertToType implements ref.Val: to a text, or to a number that can hold it.
func (x exactNumber) ConvertToType(t ref.Type) ref.Val {
	switch t.TypeName() {
	case "string":
		return types.String(x.String())
	case "double":
		f, _ := x.r.Float64()
		return types.Double(f)
	case "int":
		if n := new(big.Int).Quo(x.r.Num(), x.r.Denom()); n.IsInt64() {
			return types.Int(n.Int64())
		}
	case "uint":
		if n := new(big.Int).Quo(x.r.Num(), x.r.Denom()); n.IsUint64() {
			return types.Uint(n.Uint64())
		}
	}
	return types.NewErr("%s cannot be made a %s", x, t.TypeName())
}

// Equal implements ref.Val.
func (x exactNumber) Equal(other ref.Val) ref.Val {
	y, ok := asExact(other)
	return types.Bool(ok && x.r.Cmp(y.r) == 0)
}

// Negate implements traits.Negater.
func (x exactNumber) Negate() ref.Val { return exactNumber{new(big.Rat).Neg(x.r), x.float} }

// Type implements ref.Val.
func (x exactNumber) Type() ref.Type { return exactType }

// Value implements ref.Val.
func (x exactNumber) Value() any { return x.String() }

// comparing makes the function that replaces a comparison, so that exact numbers can be compared.
func comparing(name string, holds func(sign int) bool) cel.EnvOption {
	return cel.Function(name, cel.Overload(name, []*cel.Type{cel.DynType, cel.DynType}, cel.BoolType, cel.BinaryBinding(func(a, b ref.Val) ref.Val {
		if x, y, ok := bothExact(a, b); ok {
			return types.Bool(holds(x.r.Cmp(y.r)))
		}
		c, ok := a.(traits.Comparer)
		if !ok {
			return types.MaybeNoSuchOverloadErr(a)
		}
		switch sign := c.Compare(b).(type) {
		case types.Int:
			return types.Bool(holds(int(sign)))
		default:
			return types.MaybeNoSuchOverloadErr(sign)
		}
	})))
}

// converting makes the function that replaces a conversion, so that exact numbers can be converted.
func converting(name string, to *types.Type) cel.EnvOption {
	return cel.Function(name, cel.Overload(name, []*cel.Type{cel.DynType}, to, cel.UnaryBinding(func(v ref.Val) ref.Val { return v.ConvertToType(to) })))
}
