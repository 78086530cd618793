package syntax

import (
	"go/ast"
	"go/token"

	"wraithology/core/event"
)

// Unbounded is the last line of a variable that may be used until its call ends.
const Unbounded = 0

// LastUse returns the last line on which a local variable or parameter of a function may still be used, or Unbounded. After it
// the variable keeps nothing alive, and the memory that it refers to may be used again (the garbage collector of Go frees
// what only such variables refer to).
//
// The line is that of the last use in the text, extended to the end of loops that go back to a use. A variable that a function
// literal captures, whose address is taken, or whose function has a goto statement, is Unbounded; so is one of a function whose
// source is not in the log.
func (x *Sources) LastUse(id event.FunctionID, v event.VariableID) int {
	lines, ok := x.uses.Load(id)
	if !ok {
		lines = x.lastUses(id)
		x.uses.Store(id, lines)
	}
	if of := lines.([]int); int(v) < len(of) {
		return of[v]
	}
	return Unbounded
}

func (x *Sources) lastUses(id event.FunctionID) []int {
	f := x.t.Function(id)
	b, err := x.Body(id)
	if err != nil {
		return nil
	}
	out := make([]int, len(f.Variables))
	for i, v := range f.Variables {
		if v.Scope == event.Local || v.Scope == event.Parameter {
			out[i] = b.lastUse(v)
		}
	}
	return out
}

// lastUse returns the last line on which a variable may be used, or Unbounded.
func (b *Body) lastUse(v event.Variable) int {
	last, unbounded := v.Line, false
	var path []ast.Node
	ast.Inspect(b.Block, func(n ast.Node) bool {
		if n == nil {
			path = path[:len(path)-1]
			return true
		}
		path = append(path, n)
		if g, ok := n.(*ast.BranchStmt); ok && g.Tok == token.GOTO {
			unbounded = true
		}
		if name, ok := n.(*ast.Ident); ok && name.Name == v.Name && b.Line(n.Pos()) >= v.Line && (v.EndLine < v.Line || b.Line(n.Pos()) <= v.EndLine) {
			line, bounded := b.usedUntil(path, v)
			last, unbounded = max(last, line), unbounded || !bounded
		}
		return true
	})
	if unbounded {
		return Unbounded
	}
	return last
}

// usedUntil returns the last line of a use, which the last node of a path is.
func (b *Body) usedUntil(path []ast.Node, v event.Variable) (line int, bounded bool) {
	line = b.Line(path[len(path)-1].End())
	inStatement := false
	for i := len(path) - 1; i >= 0; i-- {
		switch n := path[i].(type) {
		case *ast.FuncLit, *ast.DeferStmt, *ast.GoStmt:
			return 0, false
		case *ast.UnaryExpr:
			if n.Op == token.AND {
				return 0, false
			}
		case *ast.ExprStmt, *ast.AssignStmt, *ast.ReturnStmt, *ast.SendStmt, *ast.IncDecStmt, *ast.DeclStmt:
			line, inStatement = max(line, b.Line(n.End())), true
		case *ast.IfStmt:
			if !inStatement {
				line = max(line, b.Line(n.Body.Lbrace))
			}
		case *ast.SwitchStmt, *ast.TypeSwitchStmt, *ast.SelectStmt:
			if !inStatement {
				line = max(line, b.Line(n.End())) // its cases are compared later
			}
		case *ast.ForStmt, *ast.RangeStmt:
			if v.Line <= b.Line(n.Pos()) {
				line = max(line, b.Line(n.End()))
			}
		}
	}
	return line, true
}
