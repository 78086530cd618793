package effects

import (
	"context"
	"fmt"
	"go/types"

	"golang.org/x/tools/go/packages"
	"golang.org/x/tools/go/ssa"
	"golang.org/x/tools/go/ssa/ssautil"
)

// Name is the full name of a function or method, such as (*bytes.Buffer).Write.
func Name(o *types.Func) string { return o.Origin().FullName() }

// summaries are those of all functions that are reached from some.
type summaries struct {
	of      map[*ssa.Function]Summary
	callers map[*ssa.Function]map[*ssa.Function]bool
	queue   []*ssa.Function
	queued  map[*ssa.Function]bool
}

// find analyses the exported functions and methods of packages from the source of these and of all that
// they call.
func find(ctx context.Context, config packages.Config, paths []string) (map[string]map[string]Summary, error) {
	config.Context, config.Tests = ctx, false
	config.Mode = packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedImports | packages.NeedDeps |
		packages.NeedTypes | packages.NeedTypesSizes | packages.NeedSyntax | packages.NeedTypesInfo
	loaded, err := packages.Load(&config, paths...)
	if err != nil {
		return nil, fmt.Errorf("load the source of the called packages: %w", err)
	}
	program, _ := ssautil.AllPackages(loaded, 0)
	s := &summaries{of: map[*ssa.Function]Summary{}, callers: map[*ssa.Function]map[*ssa.Function]bool{}, queued: map[*ssa.Function]bool{}}
	exported := map[string]map[string]*ssa.Function{}
	for _, path := range paths {
		exported[path] = map[string]*ssa.Function{}
		for _, o := range exportedBy(program.ImportedPackage(path)) {
			if fn := program.FuncValue(o); fn != nil {
				exported[path][Name(o)] = fn
				s.need(nil, fn)
			}
		}
	}
	for len(s.queue) > 0 {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		fn := s.queue[len(s.queue)-1]
		s.queue = s.queue[:len(s.queue)-1]
		s.queued[fn] = false
		s.analyse(fn)
	}
	found := map[string]map[string]Summary{}
	for path, functions := range exported {
		found[path] = map[string]Summary{}
		for name, fn := range functions {
			found[path][name] = s.of[fn]
		}
	}
	return found, nil
}

// exportedBy lists the exported functions of a package, and the exported methods of all its types.
func exportedBy(p *ssa.Package) (list []*types.Func) {
	if p == nil {
		return nil
	}
	for _, n := range p.Pkg.Scope().Names() {
		switch o := p.Pkg.Scope().Lookup(n).(type) {
		case *types.Func:
			if o.Exported() {
				list = append(list, o)
			}
		case *types.TypeName:
			named, ok := o.Type().(*types.Named)
			if !ok || o.IsAlias() || types.IsInterface(named) {
				continue
			}
			for i := range named.NumMethods() {
				if named.Method(i).Exported() {
					list = append(list, named.Method(i))
				}
			}
		}
	}
	return list
}

// need returns the summary of a function as it is so far, and analyses its caller again when it grows.
func (s *summaries) need(caller, fn *ssa.Function) Summary {
	if o := fn.Origin(); o != nil {
		fn = o
	}
	if s.callers[fn] == nil {
		s.callers[fn] = map[*ssa.Function]bool{}
		s.of[fn] = Summary{Args: make([]Effect, arguments(fn)+len(fn.FreeVars))}
		s.push(fn)
	}
	if caller != nil {
		s.callers[fn][caller] = true
	}
	return s.of[fn]
}

func (s *summaries) push(fn *ssa.Function) {
	if !s.queued[fn] {
		s.queued[fn] = true
		s.queue = append(s.queue, fn)
	}
}

// analyse analyses a function, and its callers again if it does more than was known so far.
func (s *summaries) analyse(fn *ssa.Function) {
	if p := fn.Package(); p != nil {
		p.Build() // once
	}
	o, _ := fn.Object().(*types.Func)
	now, ok := special(o, len(fn.Blocks) > 0, arguments(fn))
	if !ok {
		now = summarize(fn, func(callee *ssa.Function) Summary { return s.need(fn, callee) })
	}
	before := s.of[fn]
	if now.within(before) {
		return
	}
	s.of[fn] = now.with(before)
	for c := range s.callers[fn] {
		s.push(c)
	}
}

// arguments counts a function's arguments, with the receiver.
func arguments(fn *ssa.Function) int {
	n := fn.Signature.Params().Len()
	if fn.Signature.Recv() != nil {
		n++
	}
	return max(n, len(fn.Params))
}

// within reports whether a summary claims nothing that another one does not.
func (s Summary) within(o Summary) bool {
	if s.Elsewhere && !o.Elsewhere || len(s.Args) > len(o.Args) {
		return false
	}
	for i, e := range s.Args {
		if e&^o.Args[i] != 0 {
			return false
		}
	}
	return true
}

// with claims what either of two summaries claims.
func (s Summary) with(o Summary) Summary {
	for i, e := range o.Args {
		if i < len(s.Args) {
			s.Args[i] |= e
		}
	}
	s.Elsewhere = s.Elsewhere || o.Elsewhere
	return s
}
