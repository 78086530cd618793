package recorder

import (
	"go/ast"
	"go/token"
	"go/types"
	"slices"
)

// maxNames limits the names that a site carries.
const maxNames = 32

// names are the names that a statement or expression reads and writes, as written in the source:
// variables, fields, elements.
type names struct {
	f             *function
	reads, writes []string
}

// namesOf lists the names of a statement or expression.
func (f *function) namesOf(n ast.Node) (reads, writes []string) {
	x := names{f: f}
	switch s := n.(type) {
	case nil:
	case *ast.AssignStmt:
		for _, l := range s.Lhs {
			x.write(l)
			if s.Tok != token.ASSIGN && s.Tok != token.DEFINE {
				x.read(l)
			}
		}
		x.readAll(s.Rhs)
	case *ast.IncDecStmt:
		x.write(s.X)
		x.read(s.X)
	case *ast.GenDecl:
		for _, spec := range s.Specs {
			if v, ok := spec.(*ast.ValueSpec); ok {
				for _, id := range v.Names {
					x.write(id)
				}
				x.readAll(v.Values)
			}
		}
	case *ast.RangeStmt:
		for _, e := range []ast.Expr{s.Key, s.Value} {
			if e != nil {
				x.write(e)
			}
		}
		x.read(s.X)
	case *ast.ReturnStmt:
		x.readAll(s.Results)
		for i := range f.results {
			if res := f.results[i]; res.object != nil {
				x.writes = add(x.writes, res.name)
			}
		}
	default:
		x.read(n)
	}
	return x.reads, x.writes
}

func (x *names) readAll(list []ast.Expr) {
	for _, e := range list {
		x.read(e)
	}
}

func (x *names) read(e ast.Node) {
	r := x.f.r
	ast.Inspect(e, func(n ast.Node) bool {
		switch e := n.(type) {
		case *ast.FuncLit:
			return false
		case *ast.SelectorExpr:
			if s := r.pkg.TypesInfo.Selections[e]; s != nil && s.Kind() == types.FieldVal && pure(e) {
				x.reads = add(x.reads, r.text(e))
			}
		case *ast.IndexExpr, *ast.StarExpr:
			if e := e.(ast.Expr); pure(e) && r.pkg.TypesInfo.Types[e].IsValue() {
				x.reads = add(x.reads, r.text(e))
			}
		case *ast.Ident:
			if o, ok := r.pkg.TypesInfo.Uses[e].(*types.Var); ok && !o.IsField() {
				x.reads = add(x.reads, e.Name)
			}
		}
		return true
	})
}

func (x *names) write(e ast.Expr) {
	if id, ok := e.(*ast.Ident); ok && id.Name == "_" {
		return
	}
	x.writes = add(x.writes, x.f.r.text(e))
	switch e := e.(type) {
	case *ast.SelectorExpr:
		x.read(e.X)
	case *ast.IndexExpr:
		x.read(e.X)
		x.read(e.Index)
	case *ast.StarExpr:
		x.read(e.X)
	}
}

func add(list []string, name string) []string {
	if len(list) >= maxNames || slices.Contains(list, name) {
		return list
	}
	return append(list, name)
}
