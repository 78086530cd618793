package recorder

import (
	"context"
	"fmt"
	"go/ast"
	"go/types"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/tools/go/packages"

	"wraithology/recorder/effects"
)

// findEffects finds what functions do that own code calls, that are not recorded, and of which nothing is
// known otherwise.
func (w *overlayWriter) findEffects(ctx context.Context, config packages.Config, list []listed, loaded []*packages.Package, messages io.Writer) (*effects.Table, error) {
	if w.detail.Level != Values {
		return nil, nil
	}
	called := map[string]bool{}
	for _, p := range loaded {
		for _, file := range p.Syntax {
			if !w.rewrites(p, file) {
				continue
			}
			ast.Inspect(file, func(n ast.Node) bool {
				if c, ok := n.(*ast.CallExpr); ok {
					if o, _ := calledFunction(p.TypesInfo, c); o != nil && o.Pkg() != nil && !w.own(o.Pkg()) && !isInterfaceMethod(o) && effectOf(o) == mayWrite && passes(o) {
						called[o.Pkg().Path()] = true
					}
				}
				return true
			})
		}
	}
	keys := sourceKeys(list, config.BuildFlags)
	var wanted []effects.Package
	for path := range called {
		if _, built := keys[path]; built && path != "unsafe" && path != "C" {
			wanted = append(wanted, effects.Package{Path: path, Key: keys[path]})
		}
	}
	if len(wanted) == 0 {
		return nil, nil
	}
	slices.SortFunc(wanted, func(a, b effects.Package) int { return strings.Compare(a.Path, b.Path) })
	folder := ""
	if dir, err := os.UserCacheDir(); err == nil {
		folder = filepath.Join(dir, "wraithology", "effects")
	}
	table, err := effects.Load(ctx, config, folder, wanted, func(n int) {
		fmt.Fprintf(messages, "wraith: reading the source of %d called packages, once for each version\n", n)
	})
	if err != nil {
		return nil, fmt.Errorf("find what called functions change: %w", err)
	}
	return table, nil
}

// passes reports whether a call of a function can pass on references.
func passes(o *types.Func) bool {
	if recv := o.Signature().Recv(); recv != nil && carries(recv.Type(), 0) {
		return true
	}
	params := o.Signature().Params()
	for i := range params.Len() {
		if carries(params.At(i).Type(), 0) {
			return true
		}
	}
	return false
}

// sourceKeys returns for each package of a build what identifies its source and that of all that it
// imports: the version of Go and those of the modules. It is empty if a module has none, such as one in
// a folder.
func sourceKeys(list []listed, flags []string) map[string]string {
	versions := map[string]string{}
	for _, p := range list {
		switch m := p.Module; {
		case p.Standard:
			versions[p.ImportPath] = "std"
		case m == nil:
		case m.Replace != nil:
			if m.Replace.Version != "" {
				versions[p.ImportPath] = m.Replace.Path + "@" + m.Replace.Version
			}
		case m.Version != "":
			versions[p.ImportPath] = m.Path + "@" + m.Version
		}
	}
	keys := map[string]string{}
	for _, p := range list {
		if strings.Contains(p.ImportPath, " ") {
			continue
		}
		parts := []string{}
		known := true
		for _, path := range append([]string{p.ImportPath}, p.Deps...) {
			v := versions[path]
			known = known && v != ""
			if !slices.Contains(parts, v) {
				parts = append(parts, v)
			}
		}
		slices.Sort(parts)
		keys[p.ImportPath] = ""
		if known {
			keys[p.ImportPath] = strings.Join(append(append([]string{runtime.GOOS, runtime.GOARCH, os.Getenv("GOFLAGS"), runtime.Version()}, flags...), parts...), "\n")
		}
	}
	return keys
}

// calledFunction returns the function of a call, nil for a function value, and the selector that names it.
func calledFunction(info *types.Info, c *ast.CallExpr) (*types.Func, *ast.SelectorExpr) {
	fun := ast.Unparen(c.Fun)
	switch x := fun.(type) {
	case *ast.IndexExpr:
		fun = x.X
	case *ast.IndexListExpr:
		fun = x.X
	}
	switch x := ast.Unparen(fun).(type) {
	case *ast.Ident:
		o, _ := info.Uses[x].(*types.Func)
		return o, nil
	case *ast.SelectorExpr:
		o, _ := info.Uses[x.Sel].(*types.Func)
		return o, x
	}
	return nil, nil
}

// reach is what a call that is not recorded may do to the memory that its parts refer to.
type reach struct {
	effect   effect
	receiver bool
	args     func(i int) bool // by the number of the argument in the call
}

// reachOf returns what a call may do.
func (f *function) reachOf(c *ast.CallExpr, o *types.Func, selector *ast.SelectorExpr) reach {
	all := reach{effectOf(o), true, func(int) bool { return true }}
	if all.effect != mayWrite || o == nil || isInterfaceMethod(o) {
		return all
	}
	s, ok := f.r.effects.Of(o)
	if !ok {
		return all
	}
	offset := 0
	var parts []ast.Expr
	if o.Signature().Recv() != nil {
		if selection := f.r.pkg.TypesInfo.Selections[selector]; selection == nil || selection.Kind() != types.MethodVal {
			return all
		}
		offset, parts = 1, append(parts, selector.X)
	}
	parts = append(parts, c.Args...)
	// What it does to the part with a number; those of a variadic function share an argument.
	of := func(part int) effects.Effect { return s.Args[min(part, len(s.Args)-1)] }
	if len(s.Args) == 0 {
		of = func(int) effects.Effect { return 0 }
	}
	handed := effects.Effect(0)
	for i, p := range parts {
		if of(i)&effects.Calls != 0 && !f.runsOwn(p) {
			handed = effects.Writes | effects.Keeps
		}
	}
	did := func(part int) effects.Effect {
		e := of(part) & (effects.Writes | effects.Keeps)
		if of(part)&(effects.Hands|effects.Calls) != 0 {
			e |= handed
		}
		return e
	}
	var any effects.Effect
	writes := 0 // parts that are written to, apart from the first
	for i := range parts {
		if any |= did(i); did(i) != 0 && i > 0 {
			writes++
		}
	}
	out := reach{effect: mayWrite, receiver: offset > 0 && (did(0) != 0 || s.Elsewhere || handed != 0), args: func(i int) bool { return did(i+offset) != 0 }}
	switch {
	case s.Elsewhere || handed != 0 || any&effects.Keeps != 0:
	case any == 0:
		out.effect = readsOnly
	case writes == 0:
		out.effect = writesFirst
	default:
		out.effect = writesOnly
	}
	return out
}

// runsOwn reports whether all functions or methods that can be called by a value are recorded.
func (f *function) runsOwn(e ast.Expr) bool {
	e = ast.Unparen(e)
	tv := f.r.pkg.TypesInfo.Types[e]
	if tv.IsNil() {
		return true
	}
	switch x := e.(type) {
	case *ast.FuncLit:
		return true
	case *ast.Ident:
		if o, ok := f.r.pkg.TypesInfo.Uses[x].(*types.Func); ok {
			return f.r.recorded(o)
		}
	case *ast.SelectorExpr:
		if o, ok := f.r.pkg.TypesInfo.Uses[x.Sel].(*types.Func); ok {
			return f.r.recorded(o)
		}
	}
	t := types.Unalias(typeOf(f, e))
	if p, ok := t.(*types.Pointer); ok {
		t = types.Unalias(p.Elem())
	}
	named, ok := t.(*types.Named)
	if !ok || named.Obj().Pkg() == nil || types.IsInterface(named) {
		return false
	}
	methods := types.NewMethodSet(types.NewPointer(named))
	for i := range methods.Len() {
		if m, ok := methods.At(i).Obj().(*types.Func); !ok || !f.r.recorded(m) {
			return false
		}
	}
	return methods.Len() > 0
}
