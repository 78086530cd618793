package recorder

import (
	"go/ast"
	"go/token"
	"go/types"
	"slices"
)

// maxNames limits the names that a site carries.
const maxNames = 32

// namesOf lists the names that a statement or expression reads and writes, as written in the
// source: variables, fields, elements.
func (f *function) namesOf(n ast.Node) (reads, writes []string) {
	if n == nil {
		return nil, nil
	}
	read := func(e ast.Node) {
		ast.Inspect(e, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.FuncLit:
				return false
			case *ast.SelectorExpr:
				if s := f.r.pkg.TypesInfo.Selections[x]; s != nil && s.Kind() == types.FieldVal && pure(x) {
					reads = add(reads, f.r.text(x))
				}
			case *ast.IndexExpr:
				if pure(x) && f.r.pkg.TypesInfo.Types[x].IsValue() {
					reads = add(reads, f.r.text(x))
				}
			case *ast.Ident:
				if o, ok := f.r.pkg.TypesInfo.Uses[x].(*types.Var); ok && !o.IsField() {
					reads = add(reads, x.Name)
				}
			}
			return true
		})
	}
	write := func(e ast.Expr) {
		if id, ok := e.(*ast.Ident); ok && id.Name == "_" {
			return
		}
		writes = add(writes, f.r.text(e))
		switch x := e.(type) {
		case *ast.SelectorExpr:
			read(x.X)
		case *ast.IndexExpr:
			read(x.X)
			read(x.Index)
		case *ast.StarExpr:
			read(x.X)
		}
	}
	switch s := n.(type) {
	case *ast.AssignStmt:
		for _, l := range s.Lhs {
			write(l)
			if s.Tok != token.ASSIGN && s.Tok != token.DEFINE {
				read(l)
			}
		}
		for _, r := range s.Rhs {
			read(r)
		}
	case *ast.IncDecStmt:
		write(s.X)
		read(s.X)
	case *ast.GenDecl:
		for _, spec := range s.Specs {
			if v, ok := spec.(*ast.ValueSpec); ok {
				for _, id := range v.Names {
					write(id)
				}
				for _, e := range v.Values {
					read(e)
				}
			}
		}
	case *ast.RangeStmt:
		for _, e := range []ast.Expr{s.Key, s.Value} {
			if e != nil {
				write(e)
			}
		}
		read(s.X)
	case *ast.ReturnStmt:
		for _, e := range s.Results {
			read(e)
		}
		for i := range f.results {
			if res := f.results[i]; res.object != nil {
				writes = add(writes, res.name)
			}
		}
	default:
		read(n)
	}
	return reads, writes
}

func add(list []string, name string) []string {
	if len(list) >= maxNames || slices.Contains(list, name) {
		return list
	}
	return append(list, name)
}
