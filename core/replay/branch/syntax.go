// Package branch finds the conditions that decided what ran in a recording, from the source text in
// the log and the lines that each call reached.
package branch

import (
	"bytes"
	"go/ast"
	"go/printer"
	"go/token"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/syntax"
	"wraithology/core/replay/writes"
)

// Brancher explains what ran in a timeline.
type Brancher struct{ writes.Reader }

// New returns the Brancher of a timeline.
func New(w writes.Reader) Brancher { return Brancher{w} }

// mostText limits the text of an expression, in bytes.
const mostText = 200

// body is a function in the syntax of its file.
type body struct{ *syntax.Body }

// body finds the syntax of a function.
func (r Brancher) body(id event.FunctionID) (*body, error) {
	b, err := r.Syntax.Body(id)
	if err != nil {
		return nil, err
	}
	return &body{b}, nil
}

// textOf returns the source of an expression on one line.
func (b *body) textOf(n ast.Node) string {
	var out bytes.Buffer
	if err := printer.Fprint(&out, b.Set, n); err != nil {
		return "" // a node of a parsed file can be printed
	}
	text := strings.Join(strings.Fields(out.String()), " ")
	if len(text) > mostText {
		text = strings.ToValidUTF8(text[:mostText], "") + "…"
	}
	return text
}

// pathTo returns the nodes from the function's block to the outermost statement that begins on a line,
// else to the innermost one that contains the line. It does not enter function literals.
func (b *body) pathTo(line int) []ast.Node {
	var path, best []ast.Node
	begins := false
	var walk func(n ast.Node)
	walk = func(n ast.Node) {
		if begins || b.Line(n.Pos()) > line || b.Line(n.End()) < line {
			return
		}
		path = append(path, n)
		defer func() { path = path[:len(path)-1] }()
		switch n := n.(type) {
		case *ast.BlockStmt, *ast.CaseClause, *ast.CommClause, *ast.LabeledStmt:
		case ast.Stmt:
			best = slices.Clone(path)
			if b.Line(n.Pos()) == line {
				begins = true
				return
			}
		}
		for _, x := range inner(n) {
			walk(x)
		}
	}
	walk(b.Block)
	return best
}

// inner lists the statements directly in a statement.
func inner(n ast.Node) []ast.Node {
	var out []ast.Node
	add := func(list ...ast.Stmt) {
		for _, s := range list {
			out = append(out, s)
		}
	}
	switch n := n.(type) {
	case *ast.BlockStmt:
		add(n.List...)
	case *ast.CaseClause:
		add(n.Body...)
	case *ast.CommClause:
		add(n.Body...)
	case *ast.IfStmt:
		add(n.Body)
		if n.Else != nil {
			add(n.Else)
		}
	case *ast.ForStmt:
		add(n.Body)
	case *ast.RangeStmt:
		add(n.Body)
	case *ast.SwitchStmt:
		add(n.Body)
	case *ast.TypeSwitchStmt:
		add(n.Body)
	case *ast.SelectStmt:
		add(n.Body)
	case *ast.LabeledStmt:
		add(n.Stmt)
	}
	return out
}

// gate is a condition on the way to a statement: the statement is reached only if expression has the
// wanted value.
type gate struct {
	text   string
	wanted bool
	role   replay.Role
	at     int      // the line on which it is evaluated
	after  bool     // its operands have their values only after the line has begun
	uses   ast.Node // the expression whose operands it has; nil for none
	enters ast.Node // the statement that it lets through
}

// gates lists the conditions between the nodes of a path, outermost first. Those of a loop that the
// path only passes by are not among them.
func (b *body) gates(path []ast.Node) []gate {
	var out []gate
	for i := 0; i+1 < len(path); i++ {
		child := path[i+1]
		line := b.Line(path[i].Pos())
		add := func(text string, wanted bool, role replay.Role, after bool, uses ast.Node) {
			out = append(out, gate{text, wanted, role, line, after, uses, child})
		}
		switch n := path[i].(type) {
		case *ast.IfStmt:
			if child == n.Body || child == n.Else {
				add(b.textOf(n.Cond), child == n.Body, replay.Branching, n.Init != nil, n.Cond)
			}
		case *ast.ForStmt:
			if n.Cond != nil && child == n.Body {
				add(b.textOf(n.Cond), true, replay.Looping, n.Init != nil || n.Post != nil, n.Cond)
			}
		case *ast.RangeStmt:
			if child == n.Body {
				add("range "+b.textOf(n.X), true, replay.Looping, false, n.X)
			}
		case *ast.BlockStmt: // of a switch
			if i == 0 {
				continue
			}
			line = b.Line(path[i-1].Pos())
			switch s := path[i-1].(type) {
			case *ast.SwitchStmt:
				b.cases(s, child, add)
			case *ast.TypeSwitchStmt:
				text, uses := b.textOf(s.Assign), subject(s)
				add("switch "+text+": "+b.caseText(child), true, replay.Branching, s.Init != nil, uses)
			case *ast.SelectStmt:
				add("select: "+b.caseText(child), true, replay.Branching, false, nil)
			}
		}
	}
	return out
}

// cases adds the conditions of a case of a switch.
func (b *body) cases(s *ast.SwitchStmt, child ast.Node, add func(string, bool, replay.Role, bool, ast.Node)) {
	c, ok := child.(*ast.CaseClause)
	if !ok {
		return
	}
	switch {
	case s.Tag != nil:
		uses := ast.Node(s.Tag)
		if len(c.List) > 0 {
			uses = &ast.CallExpr{Fun: ast.NewIdent(""), Args: append([]ast.Expr{s.Tag}, c.List...)}
		}
		add("switch "+b.textOf(s.Tag)+": "+b.caseText(c), true, replay.Branching, s.Init != nil, uses)
	case len(c.List) > 0:
		var all []string
		for _, x := range c.List {
			all = append(all, b.textOf(x))
		}
		add(strings.Join(all, " || "), true, replay.Branching, s.Init != nil, &ast.CallExpr{Fun: ast.NewIdent(""), Args: c.List})
	default:
		for _, other := range s.Body.List {
			if o, ok := other.(*ast.CaseClause); ok {
				for _, x := range o.List {
					add(b.textOf(x), false, replay.Branching, s.Init != nil, x)
				}
			}
		}
	}
}

// caseText returns the head of a case.
func (b *body) caseText(n ast.Node) string {
	switch n := n.(type) {
	case *ast.CaseClause:
		if len(n.List) == 0 {
			return "default"
		}
		var all []string
		for _, x := range n.List {
			all = append(all, b.textOf(x))
		}
		return "case " + strings.Join(all, ", ")
	case *ast.CommClause:
		if n.Comm == nil {
			return "default"
		}
		return "case " + b.textOf(n.Comm)
	}
	return ""
}

// subject is the expression of a type switch.
func subject(s *ast.TypeSwitchStmt) ast.Node {
	var x ast.Expr
	switch a := s.Assign.(type) {
	case *ast.AssignStmt:
		x = a.Rhs[0]
	case *ast.ExprStmt:
		x = a.X
	}
	if t, ok := x.(*ast.TypeAssertExpr); ok {
		return t.X
	}
	return x
}

// exit is a statement that leaves the block in which another statement is, so that later statements
// of the block are not reached. path leads to it from that other statement.
type exit struct{ path []ast.Node }

// exits lists the ways out of a statement that do not reach the statement after it.
func (b *body) exits(s ast.Node) []exit {
	var out []exit
	var path []ast.Node
	labels := map[string]bool{}
	var walk func(n ast.Node, inLoop, inSwitch bool)
	walk = func(n ast.Node, inLoop, inSwitch bool) {
		path = append(path, n)
		defer func() { path = path[:len(path)-1] }()
		leaves := false
		switch n := n.(type) {
		case *ast.ReturnStmt:
			leaves = true
		case *ast.BranchStmt:
			switch {
			case n.Label != nil:
				leaves = !labels[n.Label.Name]
			case n.Tok == token.BREAK:
				leaves = !inLoop && !inSwitch
			case n.Tok == token.CONTINUE:
				leaves = !inLoop
			}
		case *ast.ExprStmt:
			leaves = neverReturns(n.X)
		case *ast.LabeledStmt:
			labels[n.Label.Name] = true
		case *ast.ForStmt, *ast.RangeStmt:
			inLoop = true
		case *ast.SwitchStmt, *ast.TypeSwitchStmt, *ast.SelectStmt:
			inSwitch = true
		}
		if leaves {
			out = append(out, exit{slices.Clone(path)})
		}
		for _, x := range inner(n) {
			walk(x, inLoop, inSwitch)
		}
	}
	walk(s, false, false)
	return out
}

// goesTo reports whether an exit is a goto to the label of one of some statements.
func (e exit) goesTo(list []ast.Stmt) bool {
	last, ok := e.path[len(e.path)-1].(*ast.BranchStmt)
	if !ok || last.Tok != token.GOTO {
		return false
	}
	return slices.ContainsFunc(list, func(s ast.Stmt) bool {
		l, ok := s.(*ast.LabeledStmt)
		return ok && l.Label.Name == last.Label.Name
	})
}

// neverReturns reports whether an expression is a call that ends the program, the goroutine or the test.
func neverReturns(x ast.Expr) bool {
	c, ok := x.(*ast.CallExpr)
	if !ok {
		return false
	}
	switch f := c.Fun.(type) {
	case *ast.Ident:
		return f.Name == "panic"
	case *ast.SelectorExpr:
		switch f.Sel.Name {
		case "Exit", "Goexit", "Fatal", "Fatalf", "Fatalln", "FailNow", "Skip", "Skipf", "SkipNow", "Panic", "Panicf", "Panicln":
			return true
		}
	}
	return false
}

// launches lists the defer or go statements of a function that call another one.
func (b *body) launches(name string, line int) []ast.Node {
	var out []ast.Node
	ast.Inspect(b.Block, func(n ast.Node) bool {
		var call *ast.CallExpr
		switch n := n.(type) {
		case *ast.FuncLit:
			return false
		case *ast.DeferStmt:
			call = n.Call
		case *ast.GoStmt:
			call = n.Call
		default:
			return true
		}
		if l, ok := call.Fun.(*ast.FuncLit); ok && b.Line(l.Pos()) == line || calledName(call) == name {
			out = append(out, n)
		}
		return false
	})
	return out
}

// calledName is the last part of the name of a called function.
func calledName(c *ast.CallExpr) string {
	f := c.Fun
	for {
		switch x := f.(type) {
		case *ast.ParenExpr:
			f = x.X
		case *ast.IndexExpr: // type arguments
			f = x.X
		case *ast.IndexListExpr:
			f = x.X
		case *ast.SelectorExpr:
			return x.Sel.Name
		case *ast.Ident:
			return x.Name
		default:
			return ""
		}
	}
}

// lastName is the last part of a function's name in the notation of Go.
func lastName(function string) string {
	name := function[strings.LastIndexByte(function, '/')+1:]
	if i := strings.IndexByte(name, '['); i >= 0 {
		name = name[:i]
	}
	return name[strings.LastIndexByte(name, '.')+1:]
}
