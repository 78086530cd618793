package recorder

import (
	"fmt"
	"go/ast"
	"go/types"
)

// grows rewrites a call of append to record that it moved the existing elements.
func (f *function) grows(c *ast.CallExpr) {
	if !f.r.values || len(c.Args) < 2 || !pure(c.Args[0]) || f.calls(c.Args[1:]) && !f.steady(c.Args[0]) {
		return
	}
	if _, ok := coreOf(typeOf(f, c.Args[0])).(*types.Slice); !ok {
		return
	}
	more := ""
	if last := c.Args[len(c.Args)-1]; c.Ellipsis.IsValid() && pure(last) && types.Identical(typeOf(f, last).Underlying(), typeOf(f, c.Args[0]).Underlying()) {
		more = f.r.text(last) + ", "
	}
	call := "Grown"
	if more != "" {
		call = "Joined"
	}
	f.r.insert(c.Pos(), fmt.Sprintf("%s.%s(%s, %s, %s", runtimeName, call, frameName, f.r.text(c.Args[0]), more))
	f.r.insert(c.End(), ")")
}

// builtins returns the statements that record the changes of calls of the builtins copy and clear
// in a statement.
func (f *function) builtins(s ast.Stmt) string {
	if s == nil || !f.r.values {
		return ""
	}
	var assigned []ast.Expr
	if a, ok := s.(*ast.AssignStmt); ok {
		assigned = a.Lhs
	}
	text := ""
	ast.Inspect(s, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit, *ast.BlockStmt:
			return false // their statements record for themselves
		case *ast.CallExpr:
			if id, ok := n.Fun.(*ast.Ident); ok && f.isBuiltin(id) {
				text += f.builtin(id.Name, n, assigned)
			}
		}
		return true
	})
	return text
}

// builtin returns the statement that records the changes of a call of a builtin, in a statement
// that assigns to some expressions.
func (f *function) builtin(name string, c *ast.CallExpr, assigned []ast.Expr) string {
	same := func(e ast.Expr) bool { return isPlace(e) && !f.assigns(e, assigned) } // it still names the same
	switch name {
	case "copy":
		to := c.Args[0]
		list, ok := coreOf(typeOf(f, to)).(*types.Slice)
		if ok && same(to) && same(c.Args[1]) && types.Identical(list, typeOf(f, c.Args[1]).Underlying()) {
			return fmt.Sprintf("%s.Copied(%s, %s, %s); ", runtimeName, frameName, f.r.text(to), f.r.text(c.Args[1]))
		}
		return f.changed(to, same)
	case "clear":
		if isMap(typeOf(f, c.Args[0])) && same(c.Args[0]) {
			return fmt.Sprintf("%s.New(%s, %s); ", runtimeName, frameName, f.r.text(c.Args[0]))
		}
		return f.changed(c.Args[0], same)
	}
	return ""
}

// changed returns the statement that records the elements of an expression again, or those of the
// list that it is a part of, if one of them is the same as before.
func (f *function) changed(e ast.Expr, same func(ast.Expr) bool) string {
	for {
		part, ok := ast.Unparen(e).(*ast.SliceExpr)
		switch core := coreOf(typeOf(f, e)); {
		case same(e) && isSlice(core):
			return fmt.Sprintf("%s.Changed(%s, %s); ", runtimeName, frameName, f.r.text(e))
		case same(e) && isArray(core):
			return fmt.Sprintf("%s.Changed(%s, %s[:]); ", runtimeName, frameName, f.r.text(e))
		case !ok:
			return ""
		}
		e = part.X
	}
}

func isSlice(t types.Type) bool {
	_, ok := t.(*types.Slice)
	return ok
}

// isArray reports whether a type is an array or a pointer to one.
func isArray(t types.Type) bool {
	if p, ok := t.(*types.Pointer); ok {
		t = p.Elem().Underlying()
	}
	_, ok := t.(*types.Array)
	return ok
}

// isPlace reports whether an expression is pure, or a slice expression with pure bounds.
func isPlace(e ast.Expr) bool {
	x, ok := ast.Unparen(e).(*ast.SliceExpr)
	if !ok {
		return pure(e)
	}
	for _, bound := range []ast.Expr{x.Low, x.High, x.Max} {
		if bound != nil && !pure(bound) {
			return false
		}
	}
	return isPlace(x.X)
}

// readsOnly are packages whose functions do not change the elements of a slice argument.
var readsOnly = map[string]bool{"fmt": true, "strings": true, "strconv": true, "errors": true, "math": true, "path": true, "path/filepath": true, "log": true,
	"log/slog": true, "testing": true, "unicode/utf8": true, "os": true, "time": true, "regexp": true, "encoding/hex": true, "encoding/base64": true}

// changes reports whether a call can change the elements of a slice argument.
func (f *function) changes(c *ast.CallExpr) bool {
	var id *ast.Ident
	switch x := ast.Unparen(c.Fun).(type) {
	case *ast.Ident:
		id = x
	case *ast.SelectorExpr:
		id = x.Sel
	default:
		return true
	}
	o, ok := f.r.pkg.TypesInfo.Uses[id].(*types.Func)
	return !ok || o.Pkg() == nil || !readsOnly[o.Pkg().Path()]
}
