package branch

import (
	"fmt"
	"go/ast"

	"wraithology/core/event"
)

// mostHandedOn limits how often a function is passed on from one call to another.
const mostHandedOn = 8

// literal is a function literal in the function around it. path leads to it from that function's block.
type literal struct {
	function event.FunctionID
	body     *body
	path     []ast.Node
}

// literal finds the function literal that a function of the log is; ok is false for a declared function.
func (r Brancher) literal(of event.FunctionID) (out literal, ok bool) {
	f := r.T.Function(of)
	for id, other := range r.T.Functions {
		if id == of || other.File != f.File || other.Line > f.Line || other.EndLine < f.EndLine {
			continue
		}
		b, err := r.body(id)
		if err != nil {
			continue
		}
		b.eachPath(func(path []ast.Node) {
			l, is := path[len(path)-1].(*ast.FuncLit)
			if is && b.Line(l.Pos()) == f.Line && b.Line(l.End()) == f.EndLine && !ok {
				out, ok = literal{id, b, append([]ast.Node(nil), path...)}, true
			}
		})
		if ok {
			return out, ok
		}
	}
	return out, false
}

// eachPath calls found with the path to each node of a function, without those within function literals. The path is valid
// during the call.
func (b *body) eachPath(found func(path []ast.Node)) {
	var path []ast.Node
	ast.Inspect(b.Block, func(n ast.Node) bool {
		if n == nil {
			path = path[:len(path)-1]
			return true
		}
		path = append(path, n)
		found(path)
		if _, is := n.(*ast.FuncLit); is {
			path = path[:len(path)-1]
			return false
		}
		return true
	})
}

// explainUses finds why a function literal was not called that a call made at a moment.
func (x *search) explainUses(l literal, made event.Moment, in event.CallID, far int) {
	for i := len(l.path) - 2; i >= 0; i-- {
		child := l.path[i+1]
		switch n := l.path[i].(type) {
		case *ast.CallExpr:
			for index, argument := range n.Args {
				if argument == child {
					x.explainArgument(n, index, made, in, far, 0)
				}
			}
			return
		case *ast.KeyValueExpr:
			if key, ok := n.Key.(*ast.Ident); ok {
				x.explainSites(x.r.callSites(key.Name), "the field "+key.Name, far)
			}
			return
		case *ast.AssignStmt:
			for k, right := range n.Rhs {
				if right == child && k < len(n.Lhs) {
					x.explainStored(n.Lhs[k], in, far)
				}
			}
			return
		case *ast.ValueSpec:
			for k, right := range n.Values {
				if right == child && k < len(n.Names) {
					x.explainStored(n.Names[k], in, far)
				}
			}
			return
		case ast.Stmt:
			return
		}
	}
}

// explainStored finds why a function that a call stored in a variable or field was not called.
func (x *search) explainStored(in ast.Expr, c event.CallID, far int) {
	switch in := in.(type) {
	case *ast.Ident:
		x.explainSites(x.r.callSites(in.Name), "the variable "+in.Name, far)
	case *ast.SelectorExpr:
		x.explainSites(x.r.callSites(in.Sel.Name), "the field "+in.Sel.Name, far)
	}
}

// explainSites explains why statements that call a function value did not run.
func (x *search) explainSites(sites []spot, what string, far int) {
	if len(sites) == 0 {
		x.note(far, "the function was stored in "+what+", which no statement of recorded code calls")
	}
	for _, s := range sites {
		if m, _ := x.explain(s, far+1); m != event.NoMoment {
			x.note(far, fmt.Sprintf("line %d of %s was reached, but called another function", s.line, x.r.T.Function(s.function).Name))
		}
	}
}

// explainArgument finds why a function was not called that a line passed to a call as an argument.
func (x *search) explainArgument(n *ast.CallExpr, index int, line event.Moment, in event.CallID, far, handedOn int) {
	name := calledName(n)
	callee := event.NoCall
	for _, c := range x.r.CallsBetween(in, line, x.r.LineEnd(in, line)) {
		if lastName(x.r.T.FunctionOf(c).Name) == name {
			callee = c
		}
	}
	if callee == event.NoCall {
		x.note(far, fmt.Sprintf("line %d of %s passed it to %s, which did not call it; that code is not recorded", x.r.T.Site(line).Line, x.r.FunctionName(in), name))
		return
	}
	a, err := x.r.activation(x.ctx, callee)
	if err != nil {
		return
	}
	parameter := a.body.parameter(index)
	if parameter == "" {
		return
	}
	uses := 0
	a.body.eachPath(func(path []ast.Node) {
		id, is := path[len(path)-1].(*ast.Ident)
		if !is || id.Name != parameter || len(path) < 2 {
			return
		}
		uses++
		x.explainUse(a, path, far, handedOn)
	})
	if uses == 0 {
		x.note(far, fmt.Sprintf("%s got it as %s, and has no statement that uses it", x.r.FunctionName(callee), parameter))
	}
}

// explainUse finds why a use of a parameter did not call the function in it. path leads to the use.
func (x *search) explainUse(a *activation, path []ast.Node, far, handedOn int) {
	id := x.r.T.Call(a.call).Function
	for i := len(path) - 2; i >= 0; i-- {
		switch n := path[i].(type) {
		case *ast.CallExpr:
			if n.Fun == path[i+1] {
				if m, _ := x.explain(spot{id, a.body.Line(n.Pos())}, far+1); m != event.NoMoment {
					x.note(far, fmt.Sprintf("line %d of %s called another function", a.body.Line(n.Pos()), x.r.FunctionName(a.call)))
				}
				return
			}
			if isConversion(n) {
				continue
			}
			m := a.last(a.body.Line(n.Pos()), a.end())
			if m == event.NoMoment {
				x.explain(spot{id, a.body.Line(n.Pos())}, far+1)
			} else if handedOn < mostHandedOn {
				for k, argument := range n.Args {
					if argument == path[i+1] {
						x.explainArgument(n, k, m, a.call, far+1, handedOn+1)
					}
				}
			}
			return
		case ast.Stmt:
			return
		}
	}
}

// isConversion reports whether a call can only be a conversion to a type, or one to a generic one.
func isConversion(n *ast.CallExpr) bool {
	switch n.Fun.(type) {
	case *ast.ParenExpr, *ast.FuncType, *ast.InterfaceType, *ast.ArrayType:
		return len(n.Args) == 1
	}
	return false
}

// parameter returns the name of a function's parameter, or "" if it has no name. The last one takes all further arguments.
func (b *body) parameter(index int) string {
	of := &ast.FuncType{}
	switch n := b.Node.(type) {
	case *ast.FuncDecl:
		of = n.Type
	case *ast.FuncLit:
		of = n.Type
	}
	if of.Params == nil {
		return ""
	}
	var names []string
	variadic := false
	for _, field := range of.Params.List {
		_, variadic = field.Type.(*ast.Ellipsis)
		for _, id := range field.Names {
			names = append(names, id.Name)
		}
	}
	switch {
	case index < len(names):
		return names[index]
	case variadic && len(names) > 0:
		return names[len(names)-1]
	}
	return ""
}
