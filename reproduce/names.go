package reproduce

import (
	"go/ast"
	"go/parser"
	"go/types"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay/calls"
)

// typeNamed finds the type of a value in an interface by its recorded name, in the notation of package reflect. It is nil if it
// cannot be found, if several have the name, or if the fields of the one in the source are others.
func (m *module) typeNamed(v event.Value) types.Type {
	if v.Type == nil {
		return nil
	}
	t := m.recordedType(v.Type.Name)
	if t == nil || !matches(t, v) {
		return nil
	}
	return t
}

// recordedType finds a type by its recorded name, or returns nil.
func (m *module) recordedType(name string) types.Type {
	expr, err := parser.ParseExpr(reflected(name))
	if err != nil {
		return nil
	}
	return m.resolve(expr)
}

// reflected rewrites import paths in type arguments, which are not Go, as package names: G[example.com/a/b.T] as G[b.T].
func reflected(name string) string {
	var out strings.Builder
	word := 0 // where the current path begins in out
	for _, r := range name {
		switch {
		case r == '/':
			kept := out.String()[:word]
			out.Reset()
			out.WriteString(kept)
			continue
		case strings.ContainsRune("[]*(){}, ", r):
			out.WriteRune(r)
			word = out.Len()
			continue
		}
		out.WriteRune(r)
	}
	return out.String()
}

// resolve finds the type that an expression names.
func (m *module) resolve(e ast.Expr) types.Type {
	switch e := e.(type) {
	case *ast.Ident:
		if o, ok := types.Universe.Lookup(e.Name).(*types.TypeName); ok {
			return o.Type()
		}
	case *ast.SelectorExpr:
		if p, ok := e.X.(*ast.Ident); ok {
			return m.named(p.Name, e.Sel.Name)
		}
	case *ast.StarExpr:
		if t := m.resolve(e.X); t != nil {
			return types.NewPointer(t)
		}
	case *ast.ParenExpr:
		return m.resolve(e.X)
	case *ast.ArrayType:
		t := m.resolve(e.Elt)
		if t == nil {
			return nil
		}
		if e.Len == nil {
			return types.NewSlice(t)
		}
		if n, ok := e.Len.(*ast.BasicLit); ok {
			if length, err := strconv.ParseInt(n.Value, 0, 64); err == nil {
				return types.NewArray(t, length)
			}
		}
	case *ast.MapType:
		if k, v := m.resolve(e.Key), m.resolve(e.Value); k != nil && v != nil {
			return types.NewMap(k, v)
		}
	case *ast.StructType:
		return m.structure(e)
	case *ast.InterfaceType:
		if e.Methods.NumFields() == 0 {
			return types.NewInterfaceType(nil, nil)
		}
	case *ast.IndexExpr:
		return m.instance(e.X, []ast.Expr{e.Index})
	case *ast.IndexListExpr:
		return m.instance(e.X, e.Indices)
	}
	return nil
}

// structure finds a struct type without a name.
func (m *module) structure(e *ast.StructType) types.Type {
	var fields []*types.Var
	var tags []string
	for _, f := range e.Fields.List {
		t := m.resolve(f.Type)
		if t == nil || len(f.Names) == 0 {
			return nil
		}
		tag := ""
		if f.Tag != nil {
			tag, _ = strconv.Unquote(f.Tag.Value) // the parser has read it
		}
		for _, name := range f.Names {
			fields, tags = append(fields, types.NewField(0, m.pkg.Types, name.Name, t, false)), append(tags, tag)
		}
	}
	return types.NewStruct(fields, tags)
}

func (m *module) instance(generic ast.Expr, with []ast.Expr) types.Type {
	of := m.resolve(generic)
	if of == nil {
		return nil
	}
	var args []types.Type
	for _, e := range with {
		t := m.resolve(e)
		if t == nil {
			return nil
		}
		args = append(args, t)
	}
	t, err := types.Instantiate(nil, of, args, true)
	if err != nil {
		return nil
	}
	return t
}

// named finds the only type with a name in the packages of a name.
func (m *module) named(pkg, name string) (found types.Type) {
	for _, p := range m.all {
		if p.Name() != pkg {
			continue
		}
		o, ok := p.Scope().Lookup(name).(*types.TypeName)
		if !ok {
			continue
		}
		if found != nil {
			return nil
		}
		found = o.Type()
	}
	return found
}

// functionNamed returns the expression of a declared function that can be named in the test and has the signature.
func (m *module) functionNamed(b *builder, name string, of *types.Signature) (expr string, ok bool) {
	path := calls.PackageOf(name)
	short := strings.TrimPrefix(name[len(path):], ".")
	for _, p := range m.all {
		if p.Path() != path && !(path == "main" && p == m.pkg.Types) {
			continue
		}
		f, isFunc := p.Scope().Lookup(short).(*types.Func)
		if !isFunc || !b.accessible(f) || !types.Identical(f.Signature(), of) {
			return "", false
		}
		if p == m.pkg.Types {
			return short, true
		}
		return b.use(p.Path(), p.Name()) + "." + short, true
	}
	return "", false
}

// isOwn reports whether a function is of the module, so that its calls are recorded.
func (m *module) isOwn(name string) bool {
	path := calls.PackageOf(name)
	return path == "main" || m.pkg.Module != nil && (path == m.pkg.Module.Path || strings.HasPrefix(path, m.pkg.Module.Path+"/"))
}
