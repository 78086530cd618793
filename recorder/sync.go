package recorder

import (
	"fmt"
	"go/ast"
	"go/token"
	"go/types"

	"wraithology/core/event"
)

// received rewrites a receive from a channel to a call that records it. two means that the receive
// has two results.
func (f *function) received(x *ast.UnaryExpr, two bool) bool {
	if _, ok := coreOf(typeOf(f, x.X)).(*types.Chan); !ok {
		return false // a type parameter: its channel cannot be named
	}
	call := "Got"
	if two {
		call = "GotTwo"
	}
	f.r.replace(x.Pos(), x.X.Pos(), fmt.Sprintf("%s.%s(%s, ", runtimeName, call, frameName))
	f.expressions(x.X)
	f.r.insert(x.End(), ")")
	return true
}

// commaOk returns the receive of a statement with two results.
func commaOk(n ast.Node) *ast.UnaryExpr {
	var values []ast.Expr
	names := 0
	switch s := n.(type) {
	case *ast.AssignStmt:
		names, values = len(s.Lhs), s.Rhs
	case *ast.GenDecl:
		for _, spec := range s.Specs {
			if v, ok := spec.(*ast.ValueSpec); ok && len(v.Names) == 2 && len(v.Values) == 1 {
				names, values = 2, v.Values
			}
		}
	}
	if names != 2 || len(values) != 1 {
		return nil
	}
	x, ok := ast.Unparen(values[0]).(*ast.UnaryExpr)
	if !ok || x.Op != token.ARROW {
		return nil
	}
	return x
}

// send records a send: the wait, and the value.
func (f *function) send(s *ast.SendStmt) {
	c, ok := coreOf(typeOf(f, s.Chan)).(*types.Chan)
	if !ok {
		f.expressions(s)
		return
	}
	tv := f.r.pkg.TypesInfo.Types[s.Value]
	exact := tv.Value == nil && types.Identical(tv.Type, c.Elem())
	of := ""
	if basic, ok := c.Elem().(*types.Basic); ok && tv.Value != nil {
		exact, of = true, "["+basic.Name()+"]" // a constant takes the channel's type
	}
	call := "ToAny"
	if exact {
		call = "To"
	}
	f.r.wrap(s.Chan, fmt.Sprintf("%s.%s(%s, ", runtimeName, call, frameName))
	f.expressions(s.Chan)
	if exact {
		f.r.wrap(s.Value, fmt.Sprintf("%s.Sent%s(%s, ", runtimeName, of, frameName))
	}
	f.expressions(s.Value)
	f.after(s, frameName+".Passed()")
}

// chosen returns the statement that records the effect of a select's case.
func (f *function) chosen(s ast.Stmt) string {
	var channel, place ast.Expr
	call := "Had"
	switch s := s.(type) {
	case *ast.AssignStmt:
		x, ok := ast.Unparen(s.Rhs[0]).(*ast.UnaryExpr)
		if !ok {
			return ""
		}
		channel, place = x.X, s.Lhs[0]
	case *ast.SendStmt:
		channel, place, call = s.Chan, s.Value, "Gave"
	default:
		return ""
	}
	return f.exchanged(call, channel, place)
}

// exchanged returns the statement that records a value that went through a channel, if channel and
// value can be named again.
func (f *function) exchanged(call string, channel, place ast.Expr) string {
	c, ok := coreOf(typeOf(f, channel)).(*types.Chan)
	if !ok || !f.r.lines || !pure(channel) || !pure(place) {
		return ""
	}
	id, isName := place.(*ast.Ident)
	if isName && id.Name == "_" {
		return ""
	}
	t := typeOf(f, place)
	if isName && f.r.pkg.TypesInfo.Defs[id] != nil {
		t = f.r.pkg.TypesInfo.Defs[id].Type()
	}
	if tv := f.r.pkg.TypesInfo.Types[place]; !types.Identical(t, c.Elem()) || tv.Value != nil || call == "Had" && !isName {
		return ""
	}
	return fmt.Sprintf("%s.%s(%s, %s, %s); ", runtimeName, call, frameName, f.r.text(channel), f.r.text(place))
}

// syncOps are the methods of package sync that wait or unblock.
var syncOps = map[string]struct {
	op    event.Op
	waits bool
}{
	"(*sync.Mutex).Lock": {event.OpLock, true}, "(*sync.Mutex).Unlock": {event.OpUnlock, false},
	"(*sync.RWMutex).Lock": {event.OpLock, true}, "(*sync.RWMutex).Unlock": {event.OpUnlock, false},
	"(*sync.RWMutex).RLock": {event.OpReadLock, true}, "(*sync.RWMutex).RUnlock": {event.OpReadUnlock, false},
	"(*sync.WaitGroup).Wait": {event.OpGroup, true}, "(*sync.WaitGroup).Done": {event.OpDone, false},
	"(*sync.Cond).Wait": {event.OpCondition, true}, "(*sync.Cond).Signal": {event.OpSignal, false}, "(*sync.Cond).Broadcast": {event.OpSignal, false},
}

// syncCall returns the call that records the effect of a call of package sync, or of close, and
// whether it waits. It is empty for other calls.
func (f *function) syncCall(e ast.Expr) (text string, waits bool) {
	c, ok := e.(*ast.CallExpr)
	if !ok || !f.r.lines {
		return "", false
	}
	if b := f.builtinOf(c); b != nil && b.Name() == "close" && len(c.Args) == 1 && pure(c.Args[0]) {
		if _, isChan := coreOf(typeOf(f, c.Args[0])).(*types.Chan); isChan {
			return fmt.Sprintf("%s.Closes(%s, %s)", runtimeName, frameName, f.r.text(c.Args[0])), false
		}
		return "", false
	}
	selector, ok := c.Fun.(*ast.SelectorExpr)
	if !ok || !pure(selector.X) {
		return "", false
	}
	s := f.r.pkg.TypesInfo.Selections[selector]
	m, ok := f.r.pkg.TypesInfo.Uses[selector.Sel].(*types.Func)
	if s == nil || !ok || s.Kind() != types.MethodVal {
		return "", false
	}
	op, ok := syncOps[m.FullName()]
	if !ok {
		return "", false
	}
	place, t := f.r.text(selector.X), typeOf(f, selector.X)
	for _, i := range s.Index()[:len(s.Index())-1] { // the fields that it is embedded in
		if p, ok := coreOf(t).(*types.Pointer); ok {
			t = p.Elem()
		}
		of, ok := t.Underlying().(*types.Struct)
		if !ok {
			return "", false
		}
		place, t = place+"."+of.Field(i).Name(), of.Field(i).Type()
	}
	if !isPointer(t) {
		place = "&" + place
	}
	call := "Release"
	if op.waits {
		call = "Waits"
	}
	return fmt.Sprintf("%s.%s(%s, %d, %s)", runtimeName, call, frameName, op.op, place), op.waits
}

// prints are the functions that write to standard output, and those that write to their first
// argument.
var prints = map[string]string{"fmt.Print": "Fprint", "fmt.Printf": "Fprintf", "fmt.Println": "Fprintln"}

var writers = map[string]bool{"fmt.Fprint": true, "fmt.Fprintf": true, "fmt.Fprintln": true, "log.New": true, "log.SetOutput": true,
	"log/slog.NewTextHandler": true, "log/slog.NewJSONHandler": true}

// output rewrites a call that prints or logs to use a writer that records the text.
func (r *fileRewriter) output(c *ast.CallExpr) {
	selector, ok := c.Fun.(*ast.SelectorExpr)
	if !ok {
		return
	}
	o, ok := r.pkg.TypesInfo.Uses[selector.Sel].(*types.Func)
	if !ok || o.Signature().Recv() != nil || o.Pkg() == nil {
		return
	}
	name := o.Pkg().Path() + "." + o.Name()
	if to, ok := prints[name]; ok {
		if len(c.Args) == 1 {
			if _, several := r.pkg.TypesInfo.TypeOf(c.Args[0]).(*types.Tuple); several {
				return // nothing can be before what a call returns
			}
		}
		r.replace(selector.Sel.Pos(), selector.Sel.End(), to)
		text := runtimeName + ".Stdout()"
		if len(c.Args) > 0 {
			text += ", "
		}
		r.insert(c.Lparen+1, text)
		return
	}
	if !writers[name] || len(c.Args) == 0 || !isWriter(r.pkg.TypesInfo.TypeOf(c.Args[0])) {
		return
	}
	r.wrap(c.Args[0], runtimeName+".Tee(")
}

// isWriter reports whether a type can be that of standard output.
func isWriter(t types.Type) bool {
	return t != nil && (t.String() == "io.Writer" || t.String() == "*os.File")
}
