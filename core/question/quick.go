package question

import (
	"cmp"
	"math"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Most conditions compare a few names with a few constants at very many moments. Such expressions
// are evaluated here without CEL, with the same result. In unusual cases, such as an unknown name
// or operands of different types, CEL evaluates the expression and reports the error.

// plainValue is a number, a text or a truth value.
type plainValue struct {
	kind   plainKind
	number float64
	whole  int64
	text   string
}

type plainKind uint8

const (
	notPlain plainKind = iota
	plainBool
	plainInt
	plainFloat
	plainText
	plainDuration // whole nanoseconds
	plainNull
	plainObject // something that is not null and has no plain form
)

// quick evaluates a part of an expression; notPlain hands over to CEL.
type quick func(s *scope) plainValue

func truth(b bool) plainValue {
	v := plainValue{kind: plainBool}
	if b {
		v.whole = 1
	}
	return v
}

func (v plainValue) float() float64 {
	if v.kind == plainInt {
		return float64(v.whole)
	}
	return v.number
}

// exact limits the integers that a float64 represents exactly.
const exact = 1 << 53

// compile returns the quick form of an expression, or nil if it has none.
func compile(e ast.Expr) quick {
	switch e.Kind() {
	case ast.LiteralKind:
		return literal(e)
	case ast.IdentKind, ast.SelectKind:
		if !isPath(e) {
			return nil
		}
		name, _ := pathText(e)
		return func(s *scope) plainValue { return plain(s.followQuick(e, name)) }
	case ast.CallKind:
		return compileCall(e.AsCall())
	}
	return nil
}

func literal(e ast.Expr) quick { return constant(e.AsLiteral()) }

func constant(of ref.Val) quick {
	var v plainValue
	switch x := of.(type) {
	case types.Bool:
		v = truth(bool(x))
	case types.Int:
		v = plainValue{kind: plainInt, whole: int64(x)}
	case types.Double:
		v = plainValue{kind: plainFloat, number: float64(x)}
	case types.String:
		v = plainValue{kind: plainText, text: string(x)}
	case types.Duration:
		v = plainValue{kind: plainDuration, whole: int64(x.Duration)}
	case types.Null:
		v = plainValue{kind: plainNull}
	default:
		return nil
	}
	return func(*scope) plainValue { return v }
}

func plain(v replay.Value, ok bool) plainValue {
	if !ok || v.State != event.Known {
		return plainValue{}
	}
	if v.Nil {
		return plainValue{kind: plainNull}
	}
	if _, ok := exactOf(v); ok {
		return plainValue{}
	}
	switch v.Form() {
	case event.Bool:
		return truth(v.Uint != 0)
	case event.Int:
		switch v.Type.Name {
		case event.DurationType:
			return plainValue{kind: plainDuration, whole: v.Int}
		case event.TimestampType:
			return plainValue{}
		}
		return plainValue{kind: plainInt, whole: v.Int}
	case event.Uint:
		if v.Uint <= math.MaxInt64 {
			return plainValue{kind: plainInt, whole: int64(v.Uint)}
		}
	case event.Float:
		return plainValue{kind: plainFloat, number: v.Float}
	case event.Text:
		if v.Whole == 0 {
			return plainValue{kind: plainText, text: v.Value.Text}
		}
	case event.Interface:
		if len(v.Items) == 1 {
			return plain(replay.Value{Value: v.Items[0], Memory: v.Memory}, true)
		}
	case event.Pointer, event.Struct, event.Array, event.Slice, event.Map, event.Func, event.Chan:
		return plainValue{kind: plainObject}
	}
	return plainValue{}
}

func compileCall(c ast.CallExpr) quick {
	if c.IsMemberFunction() {
		return nil
	}
	if c.FunctionName() == "duration" && len(c.Args()) == 1 && c.Args()[0].Kind() == ast.LiteralKind {
		if d, ok := c.Args()[0].AsLiteral().ConvertToType(types.DurationType).(types.Duration); ok {
			return constant(d)
		}
	}
	var args []quick
	for _, a := range c.Args() {
		q := compile(a)
		if q == nil {
			return nil
		}
		args = append(args, q)
	}
	switch c.FunctionName() {
	case operators.LogicalAnd, operators.LogicalOr:
		ends := int64(0)
		if c.FunctionName() == operators.LogicalOr {
			ends = 1
		}
		return func(s *scope) plainValue {
			for _, a := range args {
				v := a(s)
				if v.kind != plainBool {
					return plainValue{}
				}
				if v.whole == ends {
					return v
				}
			}
			return truth(ends == 0)
		}
	case operators.LogicalNot:
		return func(s *scope) plainValue {
			if v := args[0](s); v.kind == plainBool {
				return truth(v.whole == 0)
			}
			return plainValue{}
		}
	case operators.Less:
		return comparison(args, func(c int) bool { return c < 0 })
	case operators.LessEquals:
		return comparison(args, func(c int) bool { return c <= 0 })
	case operators.Greater:
		return comparison(args, func(c int) bool { return c > 0 })
	case operators.GreaterEquals:
		return comparison(args, func(c int) bool { return c >= 0 })
	case operators.Equals:
		return equality(args, true)
	case operators.NotEquals:
		return equality(args, false)
	case operators.Subtract:
		return sum(args, func(a, b float64) float64 { return a - b })
	case operators.Add:
		return sum(args, func(a, b float64) float64 { return a + b })
	}
	return nil
}

func comparison(args []quick, holds func(c int) bool) quick {
	return func(s *scope) plainValue { return compared(args[0](s), args[1](s), holds) }
}

// equality compares with null too, to which nothing else is equal.
func equality(args []quick, equal bool) quick {
	holds := func(c int) bool { return (c == 0) == equal }
	return func(s *scope) plainValue {
		a, b := args[0](s), args[1](s)
		switch {
		case a.kind == notPlain || b.kind == notPlain:
			return plainValue{}
		case a.kind == plainNull || b.kind == plainNull:
			return truth((a.kind == b.kind) == equal)
		}
		return compared(a, b, holds)
	}
}

func compared(a, b plainValue, holds func(c int) bool) plainValue {
	switch {
	case a.kind == b.kind && (a.kind == plainInt || a.kind == plainDuration):
		return truth(holds(cmp.Compare(a.whole, b.whole)))
	case a.kind == plainText && b.kind == plainText:
		return truth(holds(cmp.Compare(a.text, b.text)))
	case a.kind == plainBool && b.kind == plainBool:
		return truth(holds(cmp.Compare(a.whole, b.whole)))
	case (a.kind == plainInt || a.kind == plainFloat) && (b.kind == plainInt || b.kind == plainFloat):
		x, y := a.float(), b.float()
		if math.IsNaN(x) || math.IsNaN(y) || math.Abs(x) > exact || math.Abs(y) > exact {
			return plainValue{}
		}
		return truth(holds(cmp.Compare(x, y)))
	}
	return plainValue{}
}

func sum(args []quick, apply func(a, b float64) float64) quick {
	return func(s *scope) plainValue {
		a, b := args[0](s), args[1](s)
		switch {
		case a.kind == plainFloat && b.kind == plainFloat:
			return plainValue{kind: plainFloat, number: apply(a.number, b.number)}
		case a.kind == plainInt && b.kind == plainInt:
			if x := apply(float64(a.whole), float64(b.whole)); math.Abs(x) < exact && a.whole < exact && b.whole < exact && a.whole > -exact && b.whole > -exact {
				return plainValue{kind: plainInt, whole: int64(x)}
			}
		}
		return plainValue{}
	}
}

// scalars is implemented by recordings that resolve simple names quickly.
type scalars interface {
	Scalar(at event.Moment, name string) (event.Value, bool)
}

// followQuick resolves a name or a path of fields, which can also be one name.
func (s *scope) followQuick(e ast.Expr, name string) (replay.Value, bool) {
	if s.scalars != nil && name != "" {
		if v, ok := s.scalars.Scalar(s.at, name); ok {
			return replay.Value{Value: v}, true
		}
	}
	if e.Kind() == ast.IdentKind {
		v, ok, err := s.r.Variable(s.ctx, s.at, s.t, s.frame, e.AsIdent())
		return v.Value, ok && err == nil
	}
	if e.Kind() != ast.SelectKind { // an element
		return s.follow(e)
	}
	v, ok := s.followQuick(e.AsSelect().Operand(), "")
	if !ok || v.State != event.Known || v.Nil {
		return v, false
	}
	f := v.Field(e.AsSelect().FieldName())
	return f, f.Type != nil
}
