package recorder

import (
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"strings"
)

// Memory that a statement passes to code that is not recorded is remembered while the arguments are
// evaluated (Lend), and recorded again when the statement goes on. So it does not matter where in a
// statement the call is.

// lends rewrites the receiver and the arguments of a call that may run code that is not recorded.
// how is the runtime's function for the way in which the call is made.
func (f *function) lends(c *ast.CallExpr, how string) {
	if !f.r.values {
		return
	}
	tv := f.r.pkg.TypesInfo.Types[c.Fun]
	if tv.IsType() || tv.IsBuiltin() {
		return
	}
	o, selector := f.called(c)
	own := o != nil && o.Pkg() != nil && (f.r.recorded(o) || isInterfaceMethod(o) && f.r.own(o.Pkg()))
	reach := f.reachOf(c, o, selector)
	effect := reach.effect
	if own && !isInterfaceMethod(o) || effect == readsOnly {
		return
	}
	by := f.lender(c, effect)
	beginning := fmt.Sprintf("%s.%s(%s, &%s, ", runtimeName, how, frameName, by)
	var to ast.Expr // what decides when the call is made whether it runs own code, which is recorded
	switch {
	case o == nil:
		to = c.Fun
	case own:
		to = selector.X
	}
	if _, literal := ast.Unparen(orNil(to)).(*ast.FuncLit); literal {
		return
	}
	switch {
	case to != nil && pure(to) && how == "Lend":
		beginning = fmt.Sprintf("%s.LendTo(%s, &%s, %s, ", runtimeName, frameName, by, f.r.text(to))
		if o != nil && carries(typeOf(f, to), 0) {
			f.r.wrap(to, beginning)
		}
	case o != nil && selector != nil && reach.receiver:
		f.lendReceiver(o, selector, beginning)
	}
	before := len(f.r.edits)
	for i, a := range c.Args {
		if effect == writesFirst && (i > 0 || o.Signature().Recv() != nil) {
			break
		}
		if tv := f.r.pkg.TypesInfo.Types[a]; reach.args(i) && carries(typeOf(f, a), 0) && tv.Value == nil && !tv.IsNil() {
			f.r.wrap(a, beginning)
		}
	}
	if o != nil && o.Signature().Recv() == nil && effect == mayWrite && how == "Lend" && len(f.r.edits) == before && o.Signature().TypeParams() == nil {
		f.r.wrap(c.Fun, beginning) // it passes nothing on, but may change what other calls have passed on
	}
}

// lendReceiver rewrites the receiver of a method that is not recorded.
func (f *function) lendReceiver(o *types.Func, selector *ast.SelectorExpr, beginning string) {
	recv, s := o.Signature().Recv(), f.r.pkg.TypesInfo.Selections[selector]
	if recv == nil || s == nil || s.Kind() != types.MethodVal {
		return
	}
	of := typeOf(f, selector.X)
	switch byAddress := isPointer(recv.Type()) && !isPointer(of) && !types.IsInterface(of); {
	case byAddress && f.r.pkg.TypesInfo.Types[selector.X].Addressable():
		f.r.wrap(selector.X, beginning+"&")
	case !byAddress && carries(of, 0):
		f.r.wrap(selector.X, beginning)
	}
}

// called is calledFunction for the function's package.
func (f *function) called(c *ast.CallExpr) (*types.Func, *ast.SelectorExpr) {
	return calledFunction(f.r.pkg.TypesInfo, c)
}

func isInterfaceMethod(o *types.Func) bool {
	recv := o.Signature().Recv()
	return recv != nil && types.IsInterface(recv.Type())
}

// lender declares the description of a call and returns its name.
func (f *function) lender(c *ast.CallExpr, e effect) string {
	name := strings.Join(strings.Fields(f.r.text(c.Fun)), " ")
	if len(name) > maxFlowText {
		name = strings.ToValidUTF8(name[:maxFlowText], "")
	}
	key := fmt.Sprintf("{%q, %t, %t}", name, e == writesOnly, e == mayWrite)
	i, ok := f.r.lenders[key]
	if !ok {
		i = len(f.r.lenders)
		f.r.lenders[key] = i
	}
	return fmt.Sprintf("%s[%d]", f.r.lendersName(), i)
}

// lendersName is the name of the file's list of lenders. All files of a package share its scope.
func (r *fileRewriter) lendersName() string { return fmt.Sprintf("%sl%d", runtimeName, r.file) }

// declareLenders returns the declaration of the file's lenders.
func (r *fileRewriter) declareLenders() string {
	if len(r.lenders) == 0 {
		return ""
	}
	list := make([]string, len(r.lenders))
	for text, i := range r.lenders {
		list[i] = text
	}
	return fmt.Sprintf("; var %s = [...]%s.Lender{%s}", r.lendersName(), runtimeName, strings.Join(list, ", "))
}

// carries reports whether a value of a type can refer to memory that the program sees change.
func carries(t types.Type, depth int) bool {
	const maxDepth = 8
	if depth > maxDepth {
		return true
	}
	if isTester(t) || isSync(t) {
		return false // what these hold is not recorded
	}
	switch types.Unalias(t).String() {
	case "context.Context", "time.Time", "reflect.Type":
		return false
	}
	if types.Identical(t, types.Universe.Lookup("error").Type()) {
		return false
	}
	switch u := t.Underlying().(type) {
	case *types.Pointer:
		return !isSync(u.Elem()) && u.Elem().String() != "os.File"
	case *types.Slice, *types.Map, *types.Interface:
		return true
	case *types.Array:
		return carries(u.Elem(), depth+1)
	case *types.Struct:
		for i := range u.NumFields() {
			if carries(u.Field(i).Type(), depth+1) {
				return true
			}
		}
	}
	return false
}

// isSync reports whether a type is of package sync or sync/atomic.
func isSync(t types.Type) bool {
	n, ok := types.Unalias(t).(*types.Named)
	return ok && n.Obj().Pkg() != nil && (n.Obj().Pkg().Path() == "sync" || n.Obj().Pkg().Path() == "sync/atomic")
}

// builtinCall rewrites a call of a builtin that moves or changes memory.
func (f *function) builtinCall(name string, c *ast.CallExpr) {
	if !f.r.values || len(c.Args) == 0 {
		return
	}
	first := coreOf(typeOf(f, c.Args[0]))
	call := ""
	switch name {
	case "copy":
		call = "Copy"
		if isText(coreOf(typeOf(f, c.Args[1]))) {
			call = "CopyText"
		}
		if _, ok := first.(*types.Slice); !ok {
			return
		}
	case "clear":
		switch first.(type) {
		case *types.Slice:
			call = "ClearList"
		case *types.Map:
			call = "ClearMap"
		default:
			return
		}
	case "delete":
		m, ok := first.(*types.Map)
		if !ok {
			return
		}
		call = "Delete"
		if !types.Identical(typeOf(f, c.Args[1]), m.Key()) {
			f.r.replace(c.Pos(), c.Args[0].Pos(), fmt.Sprintf("%s.Deletes(%s, ", runtimeName, frameName))
			f.r.replace(c.Args[0].End(), c.Args[1].Pos(), ")(")
			return
		}
	}
	f.r.replace(c.Pos(), c.Args[0].Pos(), fmt.Sprintf("%s.%s(%s, ", runtimeName, call, frameName))
	if call == "Copy" {
		f.fresh(c.Args[1])
	}
}

// fresh rewrites a list that is copied from, so that its elements are recorded if they may not have
// been yet: no variable has the list.
func (f *function) fresh(e ast.Expr) {
	root := ast.Unparen(e)
	for {
		x, ok := root.(*ast.SliceExpr)
		if !ok {
			break
		}
		root = ast.Unparen(x.X)
	}
	if !pure(root) {
		f.r.wrap(e, fmt.Sprintf("%s.Fresh(%s, ", runtimeName, frameName))
	}
}

func isText(t types.Type) bool {
	b, ok := t.(*types.Basic)
	return ok && b.Info()&types.IsString != 0
}

// appends rewrites a call of append. assigned is the variable or place that the result is assigned
// to, if the call is the whole of an assignment: then its new elements are recorded with it.
func (f *function) appends(c *ast.CallExpr, assigned ast.Expr) {
	if !f.r.values || len(c.Args) < 2 {
		return
	}
	list, ok := coreOf(typeOf(f, c.Args[0])).(*types.Slice)
	if !ok || f.r.pkg.TypesInfo.Types[c.Args[0]].IsNil() {
		return
	}
	const maxAppended = 16 // elements at the end of a list that are recorded with it
	if assigned != nil && !c.Ellipsis.IsValid() && len(c.Args) <= maxAppended && pure(c.Args[0]) && f.r.text(assigned) == f.r.text(c.Args[0]) && (!f.calls(c.Args[1:]) || f.steady(c.Args[0])) {
		f.r.wrap(c, fmt.Sprintf("%s.Grown(%s, %s, ", runtimeName, frameName, f.r.text(c.Args[0])))
		return
	}
	call := "Append"
	if c.Ellipsis.IsValid() {
		call = "AppendAll"
		if isText(coreOf(typeOf(f, c.Args[1]))) {
			call = "AppendText"
		}
		f.r.replace(c.Pos(), c.Args[0].Pos(), fmt.Sprintf("%s.%s(%s, ", runtimeName, call, frameName))
		f.r.replace(c.Ellipsis, c.Ellipsis+token.Pos(len("...")), "")
		if call == "AppendAll" {
			f.fresh(c.Args[1])
		}
		return
	}
	for _, a := range c.Args[1:] {
		if !types.Identical(typeOf(f, a), list.Elem()) {
			f.r.replace(c.Pos(), c.Args[0].Pos(), fmt.Sprintf("%s.Appends(%s, ", runtimeName, frameName))
			f.r.replace(c.Args[0].End(), c.Args[1].Pos(), ")(")
			return
		}
	}
	f.r.replace(c.Pos(), c.Args[0].Pos(), fmt.Sprintf("%s.%s(%s, ", runtimeName, call, frameName))
}

// builtinOf returns the builtin of a call, or nil.
func (f *function) builtinOf(c *ast.CallExpr) *types.Builtin {
	id, ok := ast.Unparen(c.Fun).(*ast.Ident)
	if !ok {
		return nil
	}
	b, _ := f.r.pkg.TypesInfo.Uses[id].(*types.Builtin)
	return b
}

// assignedAppend returns the calls of append in a statement whose whole result is assigned, with
// what they are assigned to.
func assignedAppend(n ast.Node) (calls map[*ast.CallExpr]ast.Expr) {
	a, ok := n.(*ast.AssignStmt)
	if !ok || len(a.Lhs) != len(a.Rhs) || a.Tok != token.ASSIGN {
		return nil
	}
	calls = map[*ast.CallExpr]ast.Expr{}
	for i, e := range a.Rhs {
		if c, ok := ast.Unparen(e).(*ast.CallExpr); ok {
			calls[c] = a.Lhs[i]
		}
	}
	return calls
}

// keeps returns the statement that remembers the target of a pointer to a plain value or to a foreign
// struct, if a call that is not recorded returned it: the code may write to it later.
func (f *function) keeps(l, value ast.Expr) string {
	id, isName := l.(*ast.Ident)
	p, isPointer := coreOf(typeOf(f, l)).(*types.Pointer)
	if !isPointer || !isName || id.Name == "_" {
		return ""
	}
	switch p.Elem().Underlying().(type) {
	case *types.Basic:
	case *types.Struct:
		n, ok := types.Unalias(p.Elem()).(*types.Named)
		if !ok || n.Obj().Pkg() == nil || f.r.own(n.Obj().Pkg()) || !carries(p, 0) {
			return ""
		}
	default:
		return ""
	}
	c, ok := ast.Unparen(value).(*ast.CallExpr)
	if !ok || !f.foreign(c) {
		return ""
	}
	if o, _ := f.called(c); effectOf(o) != mayWrite {
		return ""
	}
	return fmt.Sprintf("%s.Kept(%s, &%s, %s); ", runtimeName, frameName, f.lender(c, mayWrite), id.Name)
}
