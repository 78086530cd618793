package branch

import (
	"go/ast"
	"go/token"
	"strconv"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// mostOperands limits the operands of a condition.
const mostOperands = 12

// operands lists the values that an expression uses: of names at a moment, of calls until another one.
func (a *activation) operands(n ast.Node, at, until event.Moment) []replay.Operand {
	x := &reading{a: a, at: at, until: until, seen: map[string]bool{}, made: a.r.CallsBetween(a.call, at, until)}
	if e, ok := n.(ast.Expr); ok {
		x.expression(e)
	}
	return x.out
}

// reading collects the operands of an expression.
type reading struct {
	a         *activation
	at, until event.Moment
	out       []replay.Operand
	seen      map[string]bool
	made      []event.CallID
}

func (x *reading) add(o replay.Operand) {
	if !x.seen[o.Name] && len(x.out) < mostOperands {
		x.seen[o.Name] = true
		o.At = x.leads(o)
		x.out = append(x.out, o)
	}
}

// leads returns a moment at which the path of an operand leads to its value: that of the line, else that of the call's next
// line, for what the line declares.
func (x *reading) leads(o replay.Operand) event.Moment {
	p, err := replay.ParsePath(o.Path)
	if err != nil {
		return event.NoMoment
	}
	moments := []event.Moment{x.a.r.T.LastLine(x.a.call, x.at)}
	lines := x.a.r.T.CallLines(x.a.call)
	if i := lines.After(x.at); i < lines.Len() {
		moments = append(moments, lines.At(i))
	}
	if i := lines.After(x.until); i < lines.Len() {
		moments = append(moments, lines.At(i))
	}
	for _, m := range moments {
		if m == event.NoMoment {
			continue
		}
		if _, v, err := x.a.r.ScopeOf(x.a.call, m).Locate(p, nil); err == nil && v.State != event.Unassigned && (v.Type == nil || o.Value.Type != v.Type || v.Text() == o.Value.Text()) {
			return m
		}
	}
	return event.NoMoment
}

// expression adds the operands of an expression.
func (x *reading) expression(e ast.Expr) {
	switch e := e.(type) {
	case *ast.Ident, *ast.SelectorExpr, *ast.StarExpr, *ast.IndexExpr:
		if !x.path(e) {
			x.parts(e)
		}
	case *ast.ParenExpr:
		x.expression(e.X)
	case *ast.UnaryExpr:
		if e.Op != token.ARROW {
			x.expression(e.X)
		}
	case *ast.BinaryExpr:
		x.expression(e.X)
		x.expression(e.Y)
	case *ast.CallExpr:
		x.call(e)
	case *ast.TypeAssertExpr:
		x.expression(e.X)
	case *ast.SliceExpr:
		x.expression(e.X)
	case *ast.KeyValueExpr:
		x.expression(e.Value)
	case *ast.CompositeLit:
		for _, y := range e.Elts {
			x.expression(y)
		}
	}
}

// parts adds the operands of an expression that does not name a value itself.
func (x *reading) parts(e ast.Expr) {
	switch e := e.(type) {
	case *ast.SelectorExpr:
		x.expression(e.X)
	case *ast.StarExpr:
		x.expression(e.X)
	case *ast.IndexExpr:
		x.expression(e.X)
		x.expression(e.Index)
	}
}

// path adds the value that an expression names, and reports whether it names one.
func (x *reading) path(e ast.Expr) bool {
	text, ok := x.pathText(e)
	if !ok {
		return false
	}
	p, err := replay.ParsePath(text)
	if err != nil {
		return false
	}
	l, v, err := x.a.r.ScopeOf(x.a.call, x.at).Locate(p, nil)
	if err != nil {
		l, v, err = x.a.r.ScopeOf(x.a.call, x.until).Locate(p, nil) // what the line declares
	}
	if err != nil {
		return false
	}
	x.add(replay.Operand{Name: x.a.body.textOf(e), Path: text, Value: v, Written: x.written(l)})
	if i, ok := e.(*ast.IndexExpr); ok {
		x.expression(i.Index)
	}
	return true
}

// written returns the moment of the last write of a location.
func (x *reading) written(l state.Location) event.Moment {
	if g, ok := x.a.r.LastWriteOf(x.a.ctx, l, x.at); ok {
		return g.At
	}
	return event.NoMoment
}

// pathText writes an expression as a path, with the values of its indexes.
func (x *reading) pathText(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.Ident:
		return e.Name, e.Name != "_" && e.Name != "nil" && e.Name != "true" && e.Name != "false" && e.Name != "iota"
	case *ast.ParenExpr:
		return x.pathText(e.X)
	case *ast.SelectorExpr:
		of, ok := x.pathText(e.X)
		return of + "." + e.Sel.Name, ok
	case *ast.StarExpr:
		of, ok := x.pathText(e.X)
		return "*" + of, ok
	case *ast.IndexExpr:
		of, ok := x.pathText(e.X)
		if !ok {
			return "", false
		}
		if lit, is := e.Index.(*ast.BasicLit); is {
			return of + "[" + lit.Value + "]", true
		}
		inner, ok := x.pathText(e.Index)
		if !ok {
			return "", false
		}
		p, err := replay.ParsePath(inner)
		if err != nil {
			return "", false
		}
		_, v, err := x.a.r.ScopeOf(x.a.call, x.at).Locate(p, nil)
		if err != nil || v.State != event.Known {
			return "", false
		}
		switch v.Form() {
		case event.Int:
			return of + "[" + strconv.FormatInt(v.Int, 10) + "]", true
		case event.Uint:
			return of + "[" + strconv.FormatUint(v.Uint, 10) + "]", true
		case event.Text:
			return of + "[" + strconv.Quote(v.Value.Text) + "]", v.Whole == 0
		}
	}
	return "", false
}

// call adds the result of a call that is recorded, or the length of a value; and the operands of the call.
func (x *reading) call(e *ast.CallExpr) {
	name := calledName(e)
	if id, ok := e.Fun.(*ast.Ident); ok && id.Name == "len" && len(e.Args) == 1 && x.length(e) {
		return
	}
	for i, c := range x.made {
		if lastName(x.a.r.T.FunctionOf(c).Name) != name {
			continue
		}
		x.made = append(x.made[:i:i], x.made[i+1:]...)
		if left := x.a.r.T.Call(c).Leave; left != event.NoMoment && left <= x.until {
			o := replay.Operand{Name: x.a.body.textOf(e), Written: left}
			values := x.a.r.ReturnedBy(c).Values
			if len(values) == 1 {
				o.Value = values[0]
				x.add(o)
			}
		}
		break
	}
	if f, ok := e.Fun.(*ast.SelectorExpr); ok {
		x.expression(f.X)
	}
	for _, y := range e.Args {
		x.expression(y)
	}
}

// length adds the length of a value, and reports whether it is known.
func (x *reading) length(e *ast.CallExpr) bool {
	text, ok := x.pathText(e.Args[0])
	if !ok {
		return false
	}
	p, err := replay.ParsePath(text)
	if err != nil {
		return false
	}
	l, v, err := x.a.r.ScopeOf(x.a.call, x.at).Locate(p, nil)
	if err != nil || v.State != event.Known {
		return false
	}
	n := v.Settled().Count()
	if v.Form() == event.Text {
		n = max(uint64(len(v.Value.Text)), uint64(v.Whole))
	}
	length := event.Value{State: event.Known, Type: &wholeNumber, Int: int64(n)}
	x.add(replay.Operand{Name: x.a.body.textOf(e), Path: text, Value: replay.Value{Value: length}, Written: x.written(l)})
	return true
}

// wholeNumber is the type of lengths.
var wholeNumber = event.Type{Name: "int", Form: event.Int, Size: 8}
