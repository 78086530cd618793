package recorder

import (
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"strings"

	"wraithology/core/event"
)

// function is a function, method or function literal that is being rewritten.
type function struct {
	r        *fileRewriter
	outer    *function
	table    event.Function
	vars     map[types.Object]event.VariableID
	shared   map[types.Object]bool // variables that others may hold a reference to
	results  []result
	tester   types.Object // a parameter of type *testing.T, B or F; nil if there is none
	literals int
	end      token.Pos
	defers   bool                  // it has defer statements
	loops    map[types.Object]bool // variables that heads of loops declare
	labels   map[ast.Stmt]string
	jumps    map[string][]*ast.BranchStmt // the statements that name a label
}

type result struct {
	name   string
	object types.Object // nil if the result had no name
	of     string       // its type
}

// function rewrites one function. It adds
//
//	func f(a int) (wraith__r0 error) { wraith__f := wraith__.Enter(7); wraith__.P(wraith__f, &a); wraith__f.On();
//	        defer wraith__.End1(wraith__f, &wraith__r0); …
//
// on the line of the opening brace.
func (r *fileRewriter) function(outer *function, of *ast.FuncType, body *ast.BlockStmt, recv *ast.FieldList, name string, pos token.Pos) {
	if outer != nil {
		outer.literals++
		name = fmt.Sprintf("%s%d", name, outer.literals)
	} else if strings.HasSuffix(name, ".init.func") {
		name = fmt.Sprintf("%s%d", name, len(r.tables.functions))
	}
	f := &function{r: r, outer: outer, vars: map[types.Object]event.VariableID{}, shared: map[types.Object]bool{}, end: body.End(), defers: hasDefer(body), loops: map[types.Object]bool{}, labels: map[ast.Stmt]string{}, jumps: jumpsIn(body)}
	f.table = event.Function{ID: event.FunctionID(len(r.tables.functions)), Name: name, File: r.file, Line: r.line(pos), EndLine: r.line(body.Rbrace), Own: r.isMain}
	r.tables.functions = append(r.tables.functions, f.table) // keeps the number; filled in at the end
	f.findShared(body)

	var head strings.Builder
	fmt.Fprintf(&head, " %s := %s.Enter(%d);", frameName, runtimeName, f.table.ID)
	for _, list := range []*ast.FieldList{recv, of.Params} {
		if list == nil {
			continue
		}
		for _, field := range list.List {
			for _, id := range field.Names {
				o := r.pkg.TypesInfo.Defs[id]
				if id.Name == "_" || o == nil {
					continue
				}
				v := f.variable(o)
				f.table.Variables[v].Scope = event.Parameter
				f.table.Parameters = append(f.table.Parameters, v)
				fmt.Fprintf(&head, " %s.P(%s, %s);", runtimeName, frameName, f.address(o, id.Name))
				if isTester(o.Type()) {
					f.tester = o
				}
			}
		}
	}
	fmt.Fprintf(&head, " %s.On();", frameName)
	for _, v := range f.table.Parameters {
		if o := f.objectOf(v); f.r.values && f.shared[o] {
			fmt.Fprintf(&head, " %s.B(%s, %d, %s);", runtimeName, frameName, v, f.address(o, o.Name()))
		}
	}
	f.nameResults(of)
	var results []string
	for i, res := range f.results {
		v := f.resultVariable(i)
		f.table.Results = append(f.table.Results, v)
		results = append(results, f.address(res.object, res.name))
	}
	for _, res := range f.results {
		if res.object != nil && res.object.Name() != "_" && f.r.values && f.shared[res.object] {
			fmt.Fprintf(&head, " %s.B(%s, %d, %s);", runtimeName, frameName, f.variable(res.object), f.address(res.object, res.name))
		}
	}
	for _, o := range f.captured(body) {
		if !f.r.values {
			break
		}
		fmt.Fprintf(&head, " %s.Y(%s, %d, %s);", runtimeName, frameName, f.variable(o), f.address(o, o.Name()))
	}
	f.globalsUsed(body)
	// Deferred calls of functions, not function literals: literals are numbered in their names.
	if f.asks(of) {
		fmt.Fprintf(&head, " defer %s.AskOn(&%s);", runtimeName, f.results[len(results)-1].name)
	}
	if len(results) > maxEnd {
		fmt.Fprintf(&head, " defer func() { if %s.Back() { ", frameName)
		for _, result := range results {
			fmt.Fprintf(&head, "%s.R(%s, %s); ", runtimeName, frameName, result)
		}
		fmt.Fprintf(&head, "}; %s.Off() }();", frameName)
	} else {
		fmt.Fprintf(&head, " defer %s.End%d(%s);", runtimeName, len(results), strings.Join(append([]string{frameName}, results...), ", "))
	}
	if f.tester != nil {
		fmt.Fprintf(&head, " defer %s.T(%s);", frameName, f.tester.Name())
	}
	r.insert(body.Lbrace+1, head.String())
	f.block(body.List)
	if len(f.results) == 0 {
		r.insert(body.Rbrace, "; "+frameName+".Ret() ")
	}
	r.tables.functions[f.table.ID] = f.table
}

// maxEnd is the largest number of results for which the runtime has a function.
const maxEnd = 9

// asks reports whether an error of the function triggers writing the ring.
func (f *function) asks(of *ast.FuncType) bool {
	if len(f.r.askOn) == 0 || len(f.results) == 0 || !named(f.r.askOn, f.table.Name) {
		return false
	}
	list := of.Results.List
	return typeOf(f, list[len(list)-1].Type).String() == "error"
}

// nameResults names unnamed results, so that they can be read when the function returns.
func (f *function) nameResults(of *ast.FuncType) {
	if of.Results == nil {
		return
	}
	n := 0
	for _, field := range of.Results.List {
		if len(field.Names) == 0 {
			name := fmt.Sprintf("%s%d", resultName, n)
			f.r.insert(field.Type.Pos(), map[bool]string{true: "("}[n == 0 && !of.Results.Opening.IsValid()]+name+" ")
			f.results = append(f.results, result{name: name, of: types.TypeString(typeOf(f, field.Type), types.RelativeTo(f.r.pkg.Types))})
			n++
			continue
		}
		for _, id := range field.Names {
			name := id.Name
			if name == "_" {
				name = fmt.Sprintf("%s%d", resultName, n)
				f.r.replace(id.Pos(), id.End(), name)
			}
			f.results = append(f.results, result{name: name, object: f.r.pkg.TypesInfo.Defs[id], of: types.TypeString(typeOf(f, field.Type), types.RelativeTo(f.r.pkg.Types))})
			n++
		}
	}
	if !of.Results.Opening.IsValid() {
		f.r.insert(of.Results.End(), ")")
	}
}

func (f *function) resultVariable(i int) event.VariableID {
	res := f.results[i]
	if res.object != nil && res.object.Name() != "_" {
		v := f.variable(res.object)
		f.table.Variables[v].Scope = event.Return
		return v
	}
	name := "result"
	if len(f.results) > 1 {
		name = fmt.Sprintf("result %d", i+1)
	}
	f.table.Variables = append(f.table.Variables, event.Variable{Name: name, Scope: event.Return, Type: res.of, Line: f.table.EndLine + 1, EndLine: f.table.EndLine})
	return event.VariableID(len(f.table.Variables) - 1)
}

// variable returns the number of a variable in the function's table.
func (f *function) variable(o types.Object) event.VariableID {
	if v, ok := f.vars[o]; ok {
		return v
	}
	v := event.VariableID(len(f.table.Variables))
	f.vars[o] = v
	entry := event.Variable{Name: o.Name(), Scope: event.Local, Line: f.r.line(o.Pos()), EndLine: f.table.EndLine,
		Type: types.TypeString(o.Type(), types.RelativeTo(f.r.pkg.Types))}
	if isGlobal(o) {
		entry.Name, entry.Scope, entry.Line = o.Pkg().Name()+"."+o.Name(), event.Global, f.table.Line
	} else if s := o.Parent(); s != nil && s.End() <= f.end {
		entry.EndLine = f.r.line(s.End())
	}
	if !f.declares(o) {
		entry.Line = f.table.Line // a captured variable exists from the beginning
		entry.EndLine = f.table.EndLine
	}
	f.table.Variables = append(f.table.Variables, entry)
	return v
}

func (f *function) declares(o types.Object) bool {
	return f.r.line(o.Pos()) >= f.table.Line && o.Pos() < f.end
}

func (f *function) objectOf(v event.VariableID) types.Object {
	for o, have := range f.vars {
		if have == v {
			return o
		}
	}
	return nil
}

func isGlobal(o types.Object) bool {
	return o.Pkg() != nil && o.Parent() == o.Pkg().Scope()
}

// findShared finds the variables that something else can refer to: their address is taken, a
// function literal captures them, a method with a pointer receiver is called on them, or an array
// among them is sliced.
func (f *function) findShared(body *ast.BlockStmt) {
	if f.outer != nil {
		for o := range f.outer.shared {
			f.shared[o] = true
		}
	}
	info := f.r.pkg.TypesInfo
	ast.Inspect(body, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.UnaryExpr:
			if n.Op == token.AND {
				f.share(n.X)
			}
		case *ast.SelectorExpr:
			if s := info.Selections[n]; s != nil && s.Kind() == types.MethodVal {
				if sig, ok := s.Obj().Type().(*types.Signature); ok && sig.Recv() != nil && isPointer(sig.Recv().Type()) && !isPointer(info.TypeOf(n.X)) {
					f.share(n.X)
				}
			}
		case *ast.SliceExpr:
			if _, ok := info.TypeOf(n.X).Underlying().(*types.Array); ok {
				f.share(n.X)
			}
		case *ast.FuncLit:
			ast.Inspect(n.Body, func(m ast.Node) bool {
				if id, ok := m.(*ast.Ident); ok {
					if o, ok := info.Uses[id].(*types.Var); ok && !o.IsField() && !isGlobal(o) && (o.Pos() < n.Pos() || o.Pos() >= n.End()) {
						f.shared[o] = true
					}
				}
				return true
			})
		}
		return true
	})
}

func isPointer(t types.Type) bool {
	_, ok := coreOf(t).(*types.Pointer)
	return ok
}

// share marks the variable of an addressable expression.
func (f *function) share(e ast.Expr) {
	for {
		switch x := e.(type) {
		case *ast.ParenExpr:
			e = x.X
		case *ast.SelectorExpr:
			if isPointer(typeOf(f, x.X)) {
				return
			}
			e = x.X
		case *ast.IndexExpr:
			if _, ok := coreOf(typeOf(f, x.X)).(*types.Array); !ok {
				return
			}
			e = x.X
		case *ast.Ident:
			if o, ok := f.r.pkg.TypesInfo.Uses[x].(*types.Var); ok && !o.IsField() {
				f.shared[o] = true
			}
			return
		default:
			return
		}
	}
}

func typeOf(f *function, e ast.Expr) types.Type {
	if t := f.r.pkg.TypesInfo.TypeOf(e); t != nil {
		return t
	}
	return types.Typ[types.Invalid]
}

// captured lists the variables of outer functions that a literal's body uses, in
// the order of their first use.
func (f *function) captured(body *ast.BlockStmt) []types.Object {
	if f.outer == nil {
		return nil
	}
	var list []types.Object
	seen := map[types.Object]bool{}
	ast.Inspect(body, func(n ast.Node) bool {
		id, ok := n.(*ast.Ident)
		if !ok {
			return true
		}
		o, ok := f.r.pkg.TypesInfo.Uses[id].(*types.Var)
		if !ok || o.IsField() || isGlobal(o) || seen[o] || o.Name() == "_" || o.Pos() >= body.Pos() && o.Pos() < body.End() {
			return true
		}
		if _, mine := f.vars[o]; mine || !f.outer.knows(o) || f.shadowedAt(o, body.Pos()) {
			return true
		}
		seen[o] = true
		list = append(list, o)
		return true
	})
	return list
}

// globalsUsed adds the global variables that a body names to the function's table, so that frames
// show them.
func (f *function) globalsUsed(body *ast.BlockStmt) {
	ast.Inspect(body, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit:
			return false
		case *ast.Ident:
			if o, ok := f.r.pkg.TypesInfo.Uses[n].(*types.Var); ok && isGlobal(o) && f.r.own(o.Pkg()) {
				f.variable(o)
			}
		}
		return true
	})
}

// knows reports whether a variable belongs to the function or an enclosing one.
func (f *function) knows(o types.Object) bool {
	for ; f != nil; f = f.outer {
		if _, ok := f.vars[o]; ok {
			return true
		}
	}
	return false
}

// shadowedAt reports whether another object has the name at a position.
func (f *function) shadowedAt(o types.Object, at token.Pos) bool {
	scope := f.r.pkg.Types.Scope().Innermost(at)
	if scope == nil {
		return true
	}
	_, found := scope.LookupParent(o.Name(), at)
	return found != o
}

func isTester(t types.Type) bool {
	if p, ok := t.(*types.Pointer); ok {
		t = p.Elem()
	}
	n, ok := t.(*types.Named)
	if !ok || n.Obj().Pkg() == nil || n.Obj().Pkg().Path() != "testing" {
		return false
	}
	switch n.Obj().Name() {
	case "T", "B", "F", "TB":
		return true
	}
	return false
}
