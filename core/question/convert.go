package question

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// object is a composite value in an expression. Its parts are read on demand.
type object struct{ v replay.Value }

// structType is the type of values with fields only: they have no size and cannot be iterated.
var structType = types.NewObjectType("value", traits.IndexerType)

var objectType = types.NewObjectType("value", traits.IndexerType, traits.SizerType, traits.IterableType, traits.ContainerType)

// toCEL converts a value; what names it, for errors.
func toCEL(what string, v replay.Value) ref.Val {
	switch v.State {
	case event.Known:
	case event.Unassigned:
		return types.NewErr("%s has not been assigned yet", what)
	default:
		why := ""
		if v.Why() != "" {
			why = ": " + v.Why()
		}
		verb := " is "
		if v.State == event.MayHaveChanged {
			verb = " "
		}
		return types.NewErr("%s%s%s%s", what, verb, strings.ReplaceAll(string(v.State), "-", " "), why)
	}
	if v.Nil {
		return types.NullValue
	}
	if x, ok := exactOf(v); ok {
		return x
	}
	switch v.Form() {
	case event.Bool:
		return types.Bool(v.Uint != 0)
	case event.Int:
		switch v.Type.Name {
		case event.DurationType:
			return types.Duration{Duration: time.Duration(v.Int)}
		case event.TimestampType:
			return types.Timestamp{Time: time.Unix(0, v.Int).UTC()}
		}
		return types.Int(v.Int)
	case event.Uint, event.Opaque:
		if v.Uint > math.MaxInt64 {
			return types.Uint(v.Uint)
		}
		return types.Int(v.Uint)
	case event.Float:
		return types.Double(v.Float)
	case event.Text:
		if opened := v.Opened(); opened.Form() != event.Text {
			return object{opened}
		}
		if v.Whole > uint64(len(v.Value.Text)) {
			return beginning{v.Value.Text, int64(v.Whole)}
		}
		return types.String(v.Value.Text)
	case event.Interface:
		if len(v.Items) == 1 {
			return toCEL(what, replay.Value{Value: v.Items[0], Memory: v.Memory})
		}
	}
	return object{v}
}

// ConvertToNative implements ref.Val.
func (o object) ConvertToNative(reflect.Type) (any, error) {
	return nil, errors.New("a composite value has no plain form")
}

// ConvertToType implements ref.Val.
func (o object) ConvertToType(t ref.Type) ref.Val {
	if t.TypeName() == "string" {
		return types.String(o.v.Text())
	}
	return types.NewErr("a value of type %s cannot be made a %s", o.v.TypeName(), t.TypeName())
}

// Equal implements ref.Val: references to the same object are equal.
func (o object) Equal(other ref.Val) ref.Val {
	p, ok := other.(object)
	if !ok {
		return types.False
	}
	if o.v.Address != 0 || p.v.Address != 0 {
		return types.Bool(o.v.Address == p.v.Address && o.v.Length == p.v.Length)
	}
	return types.Bool(o.v.Text() == p.v.Text())
}

// Type implements ref.Val.
func (o object) Type() ref.Type {
	if o.v.Form() == event.Struct {
		return structType
	}
	return objectType
}

// Value implements ref.Val.
func (o object) Value() any { return o.v.Text() }

// Get implements traits.Indexer: fields by name, elements by number, entries by key.
func (o object) Get(index ref.Val) ref.Val {
	if s := o.v; s.Form() == event.Map {
		pairs, all := s.Memory.Entries(s.Address, s.Type)
		for i := 0; i+1 < len(pairs); i += 2 {
			key := toCEL("key", replay.Value{Value: pairs[i], Memory: s.Memory})
			if key.Equal(index) == types.True {
				return toCEL(fmt.Sprintf("[%v]", index.Value()), replay.Value{Value: pairs[i+1], Memory: s.Memory})
			}
		}
		if !all {
			return types.NewErr("the entry for %v was not recorded", index.Value())
		}
		if zero, ok := zeroOf(s.ElemType()); ok {
			return zero
		}
		return types.NewErr("the map has no entry for %v", index.Value())
	}
	switch i := index.(type) {
	case types.String:
		f := o.v.Field(string(i))
		if f.Type == nil {
			return types.NewErr("%s has no field %s; it has %s", o.v.TypeName(), string(i), strings.Join(o.v.Fields(), ", "))
		}
		return toCEL(string(i), f)
	case types.Int:
		if x, ok := o.v.Beyond(int64(i)); ok {
			return toCEL("["+strconv.FormatInt(int64(i), 10)+"]", x)
		}
		if n := o.v.Count(); i < 0 || uint64(i) >= n {
			return types.NewErr("element %d is out of range, there are %d", int64(i), n)
		}
		return toCEL("["+strconv.FormatInt(int64(i), 10)+"]", o.v.Element(uint64(i)))
	}
	return types.NewErr("a value is indexed by name or number")
}

// zeroOf returns the zero value of a plain type: what a map gives for a key that it does not have.
func zeroOf(t *event.Type) (ref.Val, bool) {
	if t == nil {
		return nil, false
	}
	switch t.Form {
	case event.Bool, event.Int, event.Uint, event.Float, event.Text:
		return toCEL("the zero value", replay.Value{Value: event.Value{Type: t, State: event.Known}}), true
	case event.Pointer, event.Slice, event.Map, event.Interface, event.Func, event.Chan:
		return types.NullValue, true
	}
	return nil, false
}

// Size implements traits.Sizer.
func (o object) Size() ref.Val { return types.Int(o.v.Count()) }

// maxIterated limits the iterations of all, exists and similar macros.
const maxIterated = 10_000

// Iterator implements traits.Iterable: over elements, or the keys of a map.
func (o object) Iterator() traits.Iterator {
	list, _ := o.parts()
	return &iterator{list: list}
}

// parts lists the elements, or the keys of a map, and reports whether they are complete.
func (o object) parts() (list []ref.Val, all bool) {
	if o.v.Form() == event.Map {
		pairs, all := o.v.Memory.Entries(o.v.Address, o.v.Type)
		for i := 0; i+1 < len(pairs); i += 2 {
			list = append(list, toCEL("key", replay.Value{Value: pairs[i], Memory: o.v.Memory}))
		}
		return list, all || uint64(len(pairs)/2) >= o.v.Length
	}
	children, n := o.v.Children(replay.Page{Count: maxIterated})
	for _, c := range children {
		list = append(list, toCEL(c.Name, c.Value))
	}
	return list, n <= maxIterated
}

// Contains implements traits.Container: whether a list has an element, or a map a key. It is an
// error if an unknown element could be it.
func (o object) Contains(x ref.Val) ref.Val {
	switch o.v.Form() {
	case event.Map, event.Slice, event.Array:
	default:
		return types.NewErr("%s has no elements", o.v.TypeName())
	}
	list, known := o.parts()
	for _, each := range list {
		if types.IsError(each) {
			known = false
		} else if each.Equal(x) == types.True {
			return types.True
		}
	}
	if !known {
		return types.NewErr("not all of %s is known, and what is does not hold %v", o.v.TypeName(), x.Value())
	}
	return types.False
}

type iterator struct {
	object
	list []ref.Val
}

// HasNext implements traits.Iterator.
func (i *iterator) HasNext() ref.Val { return types.Bool(len(i.list) > 0) }

// Next implements traits.Iterator.
func (i *iterator) Next() ref.Val {
	v := i.list[0]
	i.list = i.list[1:]
	return v
}

// mixed names the functions that replace arithmetic operators, so that integers and floating-point
// numbers can be mixed.
var mixed = map[string]string{operators.Add: "mixed_add", operators.Subtract: "mixed_subtract", operators.Multiply: "mixed_multiply", operators.Divide: "mixed_divide",
	operators.Less: "mixed_less", operators.LessEquals: "mixed_less_equals", operators.Greater: "mixed_greater", operators.GreaterEquals: "mixed_greater_equals",
	"int": "to_int", "uint": "to_uint", "double": "to_double", "string": "to_string"}

func mixNumbers(a *ast.AST) {
	factory := ast.NewExprFactory()
	ast.PreOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind {
			return
		}
		if name, ok := mixed[e.AsCall().FunctionName()]; ok {
			e.SetKindCase(factory.NewCall(e.ID(), name, e.AsCall().Args()...))
		}
	}))
}

func arithmetic(name, operator string, apply func(a, b ref.Val) ref.Val) cel.EnvOption {
	return cel.Function(name, cel.Overload(name, []*cel.Type{cel.DynType, cel.DynType}, cel.DynType, cel.BinaryBinding(func(a, b ref.Val) ref.Val {
		if x, y, ok := bothExact(a, b); ok {
			return x.calculate(operator, y)
		}
		if i, ok := a.(types.Int); ok && b.Type() == types.DoubleType {
			a = types.Double(i)
		}
		if i, ok := b.(types.Int); ok && a.Type() == types.DoubleType {
			b = types.Double(i)
		}
		return apply(a, b)
	})))
}

// formatted makes a function that writes a whole number in a format.
func formatted(f replay.Format) cel.OverloadOpt {
	return cel.UnaryBinding(func(v ref.Val) ref.Val {
		switch n := v.(type) {
		case types.Int:
			return types.String(f.Write(int64(n)))
		case types.Uint:
			return types.String(f.Write(int64(n)))
		}
		return types.NewErr("%s takes a whole number", f)
	})
}

// oldName is the prefix of the names that old(x) is converted to; scope resolves them.
const oldName = "old "

func expandOld(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	path, ok := pathText(args[0])
	if !ok {
		return nil, f.NewError(args[0].ID(), "old and changed take a name, a field or an element")
	}
	return f.NewIdent(oldName + path), nil
}

// latestName is the prefix of the names that latest(x) is converted to; scope resolves them.
const latestName = "latest "

func expandLatest(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	name, ok := pathText(args[0])
	if !ok {
		return nil, f.NewError(args[0].ID(), "latest takes the name of a field")
	}
	return f.NewIdent(latestName + name), nil
}

// castName is the prefix of the names that the type of cast(x, "T") is converted to.
const castName = "cast "

// expandCast converts cast(x, "T") to a call with the type as a name. scope resolves it, because
// the types are known only there.
func expandCast(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	name, ok := types.String(""), args[1].Kind() == ast.LiteralKind
	if ok {
		name, ok = args[1].AsLiteral().(types.String)
	}
	if !ok {
		return nil, f.NewError(args[1].ID(), "cast takes the name of a type as text")
	}
	return f.NewCall("cast_to", args[0], f.NewIdent(castName+string(name))), nil
}

// expandGlobal converts global("gate.c", "chain") to the name of the variable of that file.
func expandGlobal(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	var parts []string
	for _, a := range args {
		if a.Kind() == ast.LiteralKind {
			if s, ok := a.AsLiteral().(types.String); ok {
				parts = append(parts, string(s))
			}
		}
	}
	if len(parts) != 2 {
		return nil, f.NewError(args[0].ID(), "global takes the end of a file's name and the name of a variable, as texts")
	}
	return f.NewIdent(parts[0] + ":" + parts[1]), nil
}

// countName is the function that size(x) is converted to: size, also of nil.
const countName = "count of"

func expandSize(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	return f.NewCall(countName, args[0]), nil
}

// expandNamed converts named("http.response-size") to the name, which cannot be written otherwise.
func expandNamed(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	if args[0].Kind() == ast.LiteralKind {
		if s, ok := args[0].AsLiteral().(types.String); ok && s != "" {
			return f.NewIdent(string(s)), nil
		}
	}
	return nil, f.NewError(args[0].ID(), "named takes a name as text")
}

// castTo is a type by which memory is to be read.
type castTo struct {
	object
	of *event.Type
}

func castValue(x, to ref.Val) ref.Val {
	c, ok := to.(castTo)
	if !ok {
		return types.MaybeNoSuchOverloadErr(to)
	}
	var at uint64
	switch n := x.(type) {
	case types.Int:
		at = uint64(n)
	case types.Uint:
		at = uint64(n)
	case object:
		at = n.v.Address
	default:
		return types.NewErr("cast takes an address or a pointer")
	}
	v := replay.Value{Memory: c.v.Memory}
	if c.of.Form == event.Pointer {
		v.Value = event.Value{Type: c.of, State: event.Known, Address: at, Nil: at == 0}
	} else {
		v.Value = v.Memory.Load(at, c.of)
	}
	return toCEL(fmt.Sprintf("what is at 0x%x", at), v)
}

func expandChanged(f cel.MacroExprFactory, target ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	old, err := expandOld(f, target, args)
	if err != nil {
		return nil, err
	}
	return f.NewCall(operators.NotEquals, old, args[0]), nil
}

// pathText writes an expression that is a name or path.
func pathText(e ast.Expr) (string, bool) {
	switch e.Kind() {
	case ast.IdentKind:
		return e.AsIdent(), true
	case ast.SelectKind:
		of, ok := pathText(e.AsSelect().Operand())
		return of + "." + e.AsSelect().FieldName(), ok && !e.AsSelect().IsTestOnly()
	case ast.CallKind:
		c := e.AsCall()
		if c.FunctionName() != operators.Index || c.Args()[1].Kind() != ast.LiteralKind {
			return "", false
		}
		of, ok := pathText(c.Args()[0])
		switch i := c.Args()[1].AsLiteral().(type) {
		case types.Int:
			return fmt.Sprintf("%s[%d]", of, int64(i)), ok
		case types.String:
			return fmt.Sprintf("%s[%q]", of, string(i)), ok
		}
	}
	return "", false
}

var environment = func() *cel.Env {
	env, err := cel.NewEnv(
		cel.CrossTypeNumericComparisons(true),
		converting("to_int", types.IntType), converting("to_uint", types.UintType), converting("to_double", types.DoubleType), converting("to_string", types.StringType),
		comparing("mixed_less", func(sign int) bool { return sign < 0 }),
		comparing("mixed_less_equals", func(sign int) bool { return sign <= 0 }),
		comparing("mixed_greater", func(sign int) bool { return sign > 0 }),
		comparing("mixed_greater_equals", func(sign int) bool { return sign >= 0 }),
		arithmetic("mixed_add", operators.Add, func(a, b ref.Val) ref.Val {
			if x, ok := a.(traits.Adder); ok {
				return x.Add(b)
			}
			return types.MaybeNoSuchOverloadErr(a)
		}),
		arithmetic("mixed_subtract", operators.Subtract, func(a, b ref.Val) ref.Val {
			if x, ok := a.(traits.Subtractor); ok {
				return x.Subtract(b)
			}
			return types.MaybeNoSuchOverloadErr(a)
		}),
		arithmetic("mixed_multiply", operators.Multiply, func(a, b ref.Val) ref.Val {
			if x, ok := a.(traits.Multiplier); ok {
				return x.Multiply(b)
			}
			return types.MaybeNoSuchOverloadErr(a)
		}),
		arithmetic("mixed_divide", operators.Divide, func(a, b ref.Val) ref.Val {
			if x, ok := a.(traits.Divider); ok {
				return x.Divide(b)
			}
			return types.MaybeNoSuchOverloadErr(a)
		}),
		cel.Function("hex", cel.Overload("hex_int", []*cel.Type{cel.DynType}, cel.StringType, cel.UnaryBinding(func(v ref.Val) ref.Val {
			switch n := v.(type) {
			case types.Int:
				return types.String(fmt.Sprintf("0x%x", uint64(n)))
			case types.Uint:
				return types.String(fmt.Sprintf("0x%x", uint64(n)))
			case object:
				return types.String(fmt.Sprintf("0x%x", n.v.Address))
			}
			return types.NewErr("hex takes a whole number or a reference")
		}))),
		cel.Function("binary", cel.Overload("binary_int", []*cel.Type{cel.DynType}, cel.StringType, formatted(replay.Binary))),
		cel.Function("character", cel.Overload("character_int", []*cel.Type{cel.DynType}, cel.StringType, formatted(replay.Character))),
		cel.Function("size_of", cel.Overload("size_of_int", []*cel.Type{cel.DynType}, cel.StringType, formatted(replay.Bytes))),
		cel.Function("nanoseconds", cel.Overload("nanoseconds_int", []*cel.Type{cel.DynType}, cel.StringType, formatted(replay.Nanoseconds))),
		cel.Function("unixTime", cel.Overload("unixTime_int", []*cel.Type{cel.DynType}, cel.StringType, formatted(replay.UnixTime))),
		cel.Macros(cel.GlobalMacro("old", 1, expandOld), cel.GlobalMacro("changed", 1, expandChanged), cel.GlobalMacro("latest", 1, expandLatest), cel.GlobalMacro("cast", 2, expandCast), cel.GlobalMacro("global", 2, expandGlobal),
			cel.GlobalMacro("named", 1, expandNamed), cel.GlobalMacro("size", 1, expandSize)),
		cel.Function(countName, cel.Overload("count_any", []*cel.Type{cel.DynType}, cel.IntType, cel.UnaryBinding(func(v ref.Val) ref.Val {
			if v == types.NullValue {
				return types.Int(0) // a nil list or map has no elements
			}
			if s, ok := v.(traits.Sizer); ok && v.Type().HasTrait(traits.SizerType) {
				return s.Size()
			}
			return types.MaybeNoSuchOverloadErr(v)
		}))),
		cel.Function("cast_to", cel.Overload("cast_to_type", []*cel.Type{cel.DynType, cel.DynType}, cel.DynType, cel.BinaryBinding(castValue))),
		cel.Function("typeOf", cel.Overload("typeOf_any", []*cel.Type{cel.DynType}, cel.StringType, cel.UnaryBinding(func(v ref.Val) ref.Val {
			if o, ok := v.(object); ok {
				return types.String(o.v.TypeName())
			}
			return types.String(v.Type().TypeName())
		}))),
		cel.Function("deref", cel.Overload("deref_pointer", []*cel.Type{cel.DynType}, cel.DynType, cel.UnaryBinding(func(v ref.Val) ref.Val {
			if o, ok := v.(object); ok && o.v.Form() == event.Pointer {
				return toCEL("what the pointer leads to", o.v.Deref())
			}
			return types.NewErr("deref takes a pointer that is not nil")
		}))),
	)
	if err != nil {
		panic(err) // the declarations are constants
	}
	return env
}()
