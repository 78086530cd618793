package recorder

import (
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"strings"
)

// say returns the statement that records a variable's new value. fresh means that the statement
// created the value and nothing else refers to it.
func (f *function) say(o types.Object, fresh bool) string {
	v, ok := o.(*types.Var)
	if !ok || o.Name() == "_" || !f.r.values {
		return ""
	}
	if v.Name() == frameName || !isGlobal(o) && !f.knows(o) && !f.declares(o) {
		return ""
	}
	return f.sayWith("Y", o, fresh)
}

// begins is say for a variable that the statement declares.
func (f *function) begins(o types.Object, fresh bool) string {
	if f.say(o, fresh) == "" {
		return ""
	}
	if f.loops[o] && !f.r.perIteration {
		return f.say(o, fresh)
	}
	return f.sayWith("B", o, fresh)
}

// sayWith calls the runtime's function shared for a variable that others can refer to.
func (f *function) sayWith(shared string, o types.Object, fresh bool) string {
	call := "W"
	if fresh && isMap(o.Type()) {
		call = "F"
	}
	if f.shared[o] || isGlobal(o) {
		call = shared
	}
	if call == "W" && o.Type() == types.Typ[types.Int] {
		return fmt.Sprintf("%s.I(%d, %s); ", frameName, f.variable(o), o.Name())
	}
	return fmt.Sprintf("%s.%s(%s, %d, %s); ", runtimeName, call, frameName, f.variable(o), f.address(o, o.Name()))
}

// coreOf returns the underlying type; for a type parameter the common underlying type of its type
// set, if there is one (Go specification, "Core types" of version 1.18).
func coreOf(t types.Type) types.Type {
	p, ok := types.Unalias(t).(*types.TypeParam)
	if !ok {
		return t.Underlying()
	}
	if core := coreOfInterface(p.Constraint().Underlying(), 0); core != nil {
		return core
	}
	return t.Underlying()
}

func coreOfInterface(t types.Type, depth int) types.Type {
	i, ok := t.(*types.Interface)
	if !ok || depth > 8 {
		return nil
	}
	var core types.Type
	for n := range i.NumEmbeddeds() {
		var under []types.Type
		switch e := types.Unalias(i.EmbeddedType(n)).(type) {
		case *types.Union:
			for k := range e.Len() {
				under = append(under, e.Term(k).Type().Underlying())
			}
		default:
			if inner := coreOfInterface(e.Underlying(), depth+1); inner != nil {
				under = append(under, inner)
			} else if _, isInterface := e.Underlying().(*types.Interface); !isInterface {
				under = append(under, e.Underlying())
			}
		}
		for _, u := range under {
			if core != nil && !types.Identical(core, u) {
				return nil
			}
			core = u
		}
	}
	return core
}

func isMap(t types.Type) bool {
	_, ok := coreOf(t).(*types.Map)
	return ok
}

// written returns the statements that record the assignments of a statement.
func (f *function) written(s ast.Stmt) string {
	if !f.r.values {
		return ""
	}
	switch s := s.(type) {
	case *ast.AssignStmt:
		if s == nil {
			return ""
		}
		return strings.Join(f.writtenEach(s), "")
	case *ast.IncDecStmt:
		return f.target(s.X, nil, nil, false)
	}
	return ""
}

// writtenEach returns the statements that record the writes of an assignment, for each of its
// targets.
func (f *function) writtenEach(s *ast.AssignStmt) []string {
	list := make([]string, len(s.Lhs))
	for i, l := range s.Lhs {
		fresh := len(s.Rhs) == len(s.Lhs) && f.isFresh(s.Rhs[i]) || len(s.Rhs) == 1 && f.isFresh(s.Rhs[0])
		list[i] = f.target(l, s.Lhs, s.Rhs, fresh)
		if len(s.Rhs) == len(s.Lhs) {
			list[i] += f.keeps(l, s.Rhs[i])
		}
	}
	return list
}

// writtenByPost returns the statements that record the writes of a loop's last part, and those
// among them that can also be recorded after the loop, where the variables that the loop declares
// have no names.
func (f *function) writtenByPost(s *ast.ForStmt) (all, outside string) {
	switch post := s.Post.(type) {
	case *ast.AssignStmt:
		if !f.r.values {
			return "", ""
		}
		for i, text := range f.writtenEach(post) {
			all += text
			if !f.uses(post.Lhs[i], s.Init) {
				outside += text
			}
		}
	case *ast.IncDecStmt:
		if all = f.written(post); !f.uses(post, s.Init) {
			outside = all
		}
	}
	return all, outside
}

// isFresh reports whether an expression calls foreign code. Such code usually keeps no reference to
// its result.
func (f *function) isFresh(e ast.Expr) bool {
	c, ok := e.(*ast.CallExpr)
	return ok && f.foreign(c)
}

// foreign reports whether a call calls code that is not recorded.
func (f *function) foreign(c *ast.CallExpr) bool {
	o, _ := f.called(c)
	return o != nil && o.Pkg() != nil && !f.r.recorded(o)
}

// target returns the statement that records an assignment. An expression is evaluated again only if
// that cannot fail or change anything: it contains no calls, and the statement cannot have changed
// what it refers to. Otherwise the place is remembered when it is assigned to.
func (f *function) target(l ast.Expr, all, rhs []ast.Expr, fresh bool) string {
	for {
		p, ok := l.(*ast.ParenExpr)
		if !ok {
			break
		}
		l = p.X
	}
	if id, ok := l.(*ast.Ident); ok {
		if id.Name == "_" {
			return ""
		}
		o := f.r.pkg.TypesInfo.Defs[id]
		if o != nil {
			return f.begins(o, fresh)
		}
		if o = f.r.pkg.TypesInfo.Uses[id]; o == nil {
			return ""
		}
		return f.say(o, fresh)
	}
	if x, ok := l.(*ast.IndexExpr); ok && isMap(typeOf(f, x.X)) {
		return f.entry(x, all, rhs)
	}
	root, indirect := f.rootOf(l)
	if !indirect && root != nil && !f.shared[root] && !isGlobal(root) {
		return f.say(root, false) // a part of a variable without references to it
	}
	switch {
	case !pure(l) || f.assigns(l, all):
		at := "At"
		if f.storesSecret(l) {
			at = "AtHidden"
		}
		f.r.wrap(l, fmt.Sprintf("*%s.%s(%s, &", runtimeName, at, frameName))
		return frameName + ".Stored(); "
	case f.calls(rhs) && !f.steady(l):
		guards, ok := f.guards(l)
		if !ok {
			return frameName + ".Unsaid(); "
		}
		store := fmt.Sprintf("%s.S(%s, %s)", runtimeName, frameName, f.place(l))
		if len(guards) == 0 {
			return store + "; "
		}
		return fmt.Sprintf("if %s { %s }; ", strings.Join(guards, " && "), store)
	}
	return fmt.Sprintf("%s.S(%s, %s); ", runtimeName, frameName, f.place(l))
}

// guards returns the conditions under which evaluating a pure expression again cannot fail,
// although a call may have changed what it goes through. ok is false if they cannot be written.
func (f *function) guards(e ast.Expr) (list []string, ok bool) {
	switch x := e.(type) {
	case *ast.Ident, *ast.BasicLit:
		return nil, true
	case *ast.ParenExpr:
		return f.guards(x.X)
	case *ast.BinaryExpr:
		a, ok := f.guards(x.X)
		b, ok2 := f.guards(x.Y)
		return append(a, b...), ok && ok2
	case *ast.StarExpr:
		list, ok = f.guards(x.X)
		return append(list, f.r.text(x.X)+" != nil"), ok
	case *ast.SelectorExpr:
		s := f.r.pkg.TypesInfo.Selections[x]
		if s == nil { // a variable of another package
			return nil, true
		}
		list, ok = f.guards(x.X)
		place, t := f.r.text(x.X), typeOf(f, x.X)
		for _, i := range s.Index() { // the last is the field itself, the others are embedded
			if p, isPointer := coreOf(t).(*types.Pointer); isPointer {
				list, t = append(list, place+" != nil"), p.Elem()
			}
			of, isStruct := coreOf(t).(*types.Struct)
			if !isStruct {
				return nil, false
			}
			place, t = place+"."+of.Field(i).Name(), of.Field(i).Type()
		}
		return list, ok
	case *ast.IndexExpr:
		list, ok = f.guards(x.X)
		index, ok2 := f.guards(x.Index)
		list = append(list, index...)
		of := coreOf(typeOf(f, x.X))
		if isMap(typeOf(f, x.X)) {
			return list, ok && ok2
		}
		if isPointer(typeOf(f, x.X)) {
			list = append(list, f.r.text(x.X)+" != nil")
		}
		if f.r.pkg.TypesInfo.Types[x.Index].Value == nil {
			list = append(list, "0 <= "+f.r.text(x.Index))
		}
		if _, slice := of.(*types.Slice); slice || f.r.pkg.TypesInfo.Types[x.Index].Value == nil {
			list = append(list, fmt.Sprintf("uint64(%s) < uint64(len(%s))", f.r.text(x.Index), f.r.text(x.X)))
		}
		return list, ok && ok2
	}
	return nil, false
}

// entry returns the statement that records an entry of a map. If map or key cannot be evaluated
// again, they are remembered when the statement evaluates them.
func (f *function) entry(x *ast.IndexExpr, all, rhs []ast.Expr) string {
	if pure(x) && !f.assigns(x, all) && (!f.calls(rhs) || f.steady(x)) {
		if m, ok := coreOf(typeOf(f, x.X)).(*types.Map); ok && !types.Identical(typeOf(f, x.Index), m.Key()) {
			return fmt.Sprintf("%s.Entry(%s, %s)(%s); ", runtimeName, frameName, f.r.text(x.X), f.r.text(x.Index))
		}
		return fmt.Sprintf("%s.M(%s, %s, %s); ", runtimeName, frameName, f.r.text(x.X), f.r.text(x.Index))
	}
	f.r.wrap(x.X, fmt.Sprintf("%s.Map(%s, ", runtimeName, frameName))
	key, ok := coreOf(typeOf(f, x.X)).(*types.Map)
	if tv := f.r.pkg.TypesInfo.Types[x.Index]; ok && tv.Value == nil && (types.Identical(tv.Type, key.Key()) || types.IsInterface(key.Key())) {
		f.r.wrap(x.Index, fmt.Sprintf("%s.Key(%s, ", runtimeName, frameName))
	}
	return frameName + ".Stored(); "
}

// rootOf returns the variable at the beginning of an expression, and whether the path from it goes
// through a reference.
func (f *function) rootOf(e ast.Expr) (root types.Object, indirect bool) {
	for {
		switch x := e.(type) {
		case *ast.ParenExpr:
			e = x.X
		case *ast.StarExpr:
			indirect, e = true, x.X
		case *ast.SelectorExpr:
			if s := f.r.pkg.TypesInfo.Selections[x]; s == nil {
				return nil, true // a variable of another package
			} else if s.Indirect() || isPointer(typeOf(f, x.X)) {
				indirect = true
			}
			e = x.X
		case *ast.IndexExpr:
			if _, ok := coreOf(typeOf(f, x.X)).(*types.Array); !ok {
				indirect = true
			}
			e = x.X
		case *ast.Ident:
			if o, ok := f.r.pkg.TypesInfo.Uses[x].(*types.Var); ok {
				return o, indirect
			}
			return nil, indirect
		default:
			return nil, true
		}
	}
}

// pure reports whether evaluating an expression again has no effect.
func pure(e ast.Expr) bool {
	switch x := e.(type) {
	case *ast.Ident, *ast.BasicLit:
		return true
	case *ast.ParenExpr:
		return pure(x.X)
	case *ast.SelectorExpr:
		return pure(x.X)
	case *ast.StarExpr:
		return pure(x.X)
	case *ast.IndexExpr:
		return pure(x.X) && pure(x.Index)
	case *ast.BinaryExpr:
		return x.Op != token.QUO && x.Op != token.REM && x.Op != token.SHL && x.Op != token.SHR && pure(x.X) && pure(x.Y)
	}
	return false
}

// calls reports whether expressions run code that may change anything.
func (f *function) calls(list []ast.Expr) bool {
	calls := false
	for _, e := range list {
		ast.Inspect(e, func(n ast.Node) bool {
			if c, ok := n.(*ast.CallExpr); ok {
				if tv := f.r.pkg.TypesInfo.Types[c.Fun]; !tv.IsType() && !tv.IsBuiltin() {
					calls = true
				}
			}
			if u, ok := n.(*ast.UnaryExpr); ok && u.Op == token.ARROW {
				calls = true // another goroutine has had its turn
			}
			return !calls
		})
	}
	return calls
}

// assigns reports whether assignments to all change a variable that the expression uses.
func (f *function) assigns(l ast.Expr, all []ast.Expr) bool {
	found := false
	for _, e := range all {
		id, ok := e.(*ast.Ident)
		if !ok || e == l {
			continue
		}
		o := f.r.pkg.TypesInfo.Uses[id]
		ast.Inspect(l, func(n ast.Node) bool {
			if x, ok := n.(*ast.Ident); ok && o != nil && f.r.pkg.TypesInfo.Uses[x] == o {
				found = true
			}
			return !found
		})
	}
	return found
}

// steady reports whether a call cannot change the target of an expression: it begins with an
// unshared variable of this function and has at most one reference.
func (f *function) steady(l ast.Expr) bool {
	references, ok := 0, true
	ast.Inspect(l, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.Ident:
			if o, isVar := f.r.pkg.TypesInfo.Uses[x].(*types.Var); isVar && !o.IsField() && (f.shared[o] || isGlobal(o)) {
				ok = false
			}
		case *ast.StarExpr:
			references++
		case *ast.SelectorExpr:
			if s := f.r.pkg.TypesInfo.Selections[x]; s != nil && s.Indirect() {
				references++
			}
		case *ast.IndexExpr:
			if _, array := coreOf(typeOf(f, x.X)).(*types.Array); !array {
				references++
			}
		}
		return ok
	})
	return ok && references <= 1
}
