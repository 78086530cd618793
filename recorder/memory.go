package recorder

import (
	"fmt"
	"go/ast"
	"go/types"
)

// grows lets a call of append say when it has moved the elements that there were.
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

// copied returns the statement that records what the builtin copy has moved.
func (f *function) copied(s ast.Stmt) string {
	e, ok := s.(*ast.ExprStmt)
	if !ok || !f.r.values {
		return ""
	}
	c, ok := e.X.(*ast.CallExpr)
	if !ok || len(c.Args) != 2 {
		return ""
	}
	id, ok := c.Fun.(*ast.Ident)
	if !ok || id.Name != "copy" || !f.isBuiltin(id) || !pure(c.Args[0]) || !pure(c.Args[1]) {
		return ""
	}
	to, ok := coreOf(typeOf(f, c.Args[0])).(*types.Slice)
	if !ok || !types.Identical(to, typeOf(f, c.Args[1]).Underlying()) {
		return ""
	}
	return fmt.Sprintf("%s.Copied(%s, %s, %s); ", runtimeName, frameName, f.r.text(c.Args[0]), f.r.text(c.Args[1]))
}

// readsOnly are packages whose functions do not change the elements of a slice
// that they are given.
var readsOnly = map[string]bool{"fmt": true, "strings": true, "strconv": true, "errors": true, "math": true, "path": true, "path/filepath": true, "log": true,
	"log/slog": true, "testing": true, "unicode/utf8": true, "os": true, "time": true, "regexp": true, "encoding/hex": true, "encoding/base64": true}

// changes reports whether a call may change the elements of a slice that it is given.
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
