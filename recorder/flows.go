package recorder

import (
	"fmt"
	"go/ast"
	"go/constant"
	"go/token"
	"go/types"
	"strconv"
	"strings"

	"wraithology/core/event"
)

// Bounds of what a site says of its flows.
const (
	maxFlows    = 512
	maxFlowText = 80
)

// zeroValue is the text of the source of what is declared without a value.
const zeroValue = "the zero value"

// flowsOf returns the flows of the values that a statement stores, passes, returns and sends.
func (f *function) flowsOf(n ast.Node) []event.Flow {
	var out []event.Flow
	into := func(kind event.FlowKind, target string, e ast.Expr, result int) {
		flow := f.sources(e, result)
		flow.Kind, flow.Target = kind, target
		out = append(out, flow)
	}
	switch s := n.(type) {
	case nil:
		return nil
	case *ast.AssignStmt:
		for i, l := range s.Lhs {
			if id, ok := l.(*ast.Ident); ok && id.Name == "_" {
				continue
			}
			if len(s.Rhs) == len(s.Lhs) {
				into(event.FlowAssign, f.short(l), s.Rhs[i], 0)
			} else if len(s.Rhs) == 1 {
				into(event.FlowAssign, f.short(l), s.Rhs[0], i)
			}
			if s.Tok != token.ASSIGN && s.Tok != token.DEFINE && len(out) > 0 {
				own := f.sources(l, 0)
				out[len(out)-1].Reads = merge(own.Reads, out[len(out)-1].Reads)
			}
		}
	case *ast.IncDecStmt:
		into(event.FlowAssign, f.short(s.X), s.X, 0)
	case *ast.GenDecl:
		for _, spec := range s.Specs {
			v, ok := spec.(*ast.ValueSpec)
			if !ok {
				continue
			}
			for i, id := range v.Names {
				switch {
				case id.Name == "_":
				case len(v.Values) == len(v.Names):
					into(event.FlowAssign, id.Name, v.Values[i], 0)
				case len(v.Values) == 1:
					into(event.FlowAssign, id.Name, v.Values[0], i)
				default:
					out = append(out, event.Flow{Kind: event.FlowAssign, Target: id.Name, Text: zeroValue})
				}
			}
		}
	case *ast.ReturnStmt:
		for i, res := range f.results {
			switch {
			case len(s.Results) == len(f.results):
				into(event.FlowResult, strconv.Itoa(i), s.Results[i], 0)
			case len(s.Results) == 1:
				into(event.FlowResult, strconv.Itoa(i), s.Results[0], i)
			case res.object != nil:
				out = append(out, event.Flow{Kind: event.FlowResult, Target: strconv.Itoa(i), Text: res.name, Reads: []string{res.name}})
			}
		}
	case *ast.SendStmt:
		into(event.FlowSend, f.short(s.Chan), s.Value, 0)
	case *ast.RangeStmt:
		out = append(out, f.rangeFlows(s)...)
		n = s.X
	}
	out = append(out, f.passed(n)...)
	return out[:min(len(out), maxFlows)]
}

// short returns the text of an expression on one line, cut if it is long.
func (f *function) short(e ast.Expr) string {
	text := strings.Join(strings.Fields(f.r.text(e)), " ")
	if len(text) > maxFlowText {
		text = strings.ToValidUTF8(text[:maxFlowText], "") + "…"
	}
	return text
}

// rangeFlows returns the flows into the variables of a range loop.
func (f *function) rangeFlows(s *ast.RangeStmt) []event.Flow {
	var out []event.Flow
	name := func(e ast.Expr) (string, bool) {
		if e == nil {
			return "", false
		}
		id, ok := e.(*ast.Ident)
		return f.short(e), !ok || id.Name != "_"
	}
	key, hasKey := name(s.Key)
	value, hasValue := name(s.Value)
	whole := f.sources(s.X, 0)
	whole.Kind = event.FlowAssign
	switch typeOf(f, s.X).Underlying().(type) {
	case *types.Chan:
		if hasKey {
			out = append(out, event.Flow{Kind: event.FlowAssign, Target: key, Text: "<-" + f.short(s.X), Receives: []string{f.short(s.X)}})
		}
		return out
	case *types.Signature:
		for i, target := range []string{key, value} {
			if i == 0 && hasKey || i == 1 && hasValue {
				out = append(out, event.Flow{Kind: event.FlowYield, Target: target, Callee: strconv.Itoa(i), Text: f.short(s.X), Foreign: []string{f.short(s.X)}})
			}
		}
		return out
	}
	if hasKey {
		flow := whole
		flow.Target = key
		out = append(out, flow)
	}
	if hasValue {
		flow := whole
		flow.Target = value
		if pure(s.X) {
			index := ""
			if hasKey && s.Tok == token.DEFINE {
				index = key
			}
			flow.Reads = []string{f.short(s.X) + "[" + index + "]"}
		}
		out = append(out, flow)
	}
	return out
}

func merge(a, b []string) []string {
	out := append([]string(nil), a...)
	for _, x := range b {
		out = add(out, x)
	}
	return out
}

// sources adds the sources of an expression's value. If the expression has several values, result
// is the number of the wanted one.
func (f *function) sources(e ast.Expr, result int) event.Flow {
	flow := event.Flow{Text: f.short(e)}
	if tv := f.r.pkg.TypesInfo.Types[e]; tv.Value != nil {
		if _, literal := ast.Unparen(e).(*ast.BasicLit); !literal && tv.Value.Kind() != constant.Bool {
			flow.Text = event.ConstantText(flow.Text, tv.Value.ExactString(), maxFlowText)
		}
		return flow
	}
	f.addSources(&flow, e, result)
	return flow
}

func (f *function) addSources(flow *event.Flow, e ast.Expr, result int) {
	info := f.r.pkg.TypesInfo
	if tv, ok := info.Types[e]; ok && (tv.Value != nil || tv.IsType()) {
		return // a constant
	}
	switch x := e.(type) {
	case *ast.Ident:
		if o, ok := info.Uses[x].(*types.Var); ok && !o.IsField() {
			flow.Reads = add(flow.Reads, x.Name)
		}
	case *ast.ParenExpr:
		f.addSources(flow, x.X, result)
	case *ast.SelectorExpr:
		f.addSelector(flow, x)
	case *ast.IndexExpr:
		if !info.Types[x].IsValue() || isFunction(typeOf(f, x.X)) {
			return
		}
		if pure(x) {
			flow.Reads = add(flow.Reads, f.short(x))
		} else {
			f.addSources(flow, x.X, 0)
		}
		f.addSources(flow, x.Index, 0)
	case *ast.StarExpr:
		if pure(x.X) {
			flow.Reads = add(flow.Reads, f.short(x))
			return
		}
		f.addSources(flow, x.X, 0)
	case *ast.UnaryExpr:
		if x.Op == token.ARROW {
			flow.Receives = add(flow.Receives, f.short(x.X))
			return
		}
		f.addSources(flow, x.X, 0)
	case *ast.BinaryExpr:
		f.addSources(flow, x.X, 0)
		f.addSources(flow, x.Y, 0)
	case *ast.TypeAssertExpr:
		f.addSources(flow, x.X, 0)
	case *ast.SliceExpr:
		for _, part := range []ast.Expr{x.X, x.Low, x.High, x.Max} {
			if part != nil {
				f.addSources(flow, part, 0)
			}
		}
	case *ast.CompositeLit:
		for _, element := range x.Elts {
			if kv, ok := element.(*ast.KeyValueExpr); ok {
				element = kv.Value
			}
			f.addSources(flow, element, 0)
		}
	case *ast.CallExpr:
		f.addCall(flow, x, result)
	}
}

func isFunction(t types.Type) bool {
	_, ok := t.Underlying().(*types.Signature)
	return ok
}

func (f *function) addSelector(flow *event.Flow, x *ast.SelectorExpr) {
	info := f.r.pkg.TypesInfo
	s := info.Selections[x]
	switch {
	case s == nil: // a name of another package
		if o, ok := info.Uses[x.Sel].(*types.Var); ok && f.r.own(o.Pkg()) {
			flow.Reads = add(flow.Reads, f.short(x))
		} else if ok {
			flow.Foreign = add(flow.Foreign, f.short(x))
		}
	case s.Kind() == types.FieldVal && pure(x):
		flow.Reads = add(flow.Reads, f.short(x))
	default:
		f.addSources(flow, x.X, 0)
	}
}

func (f *function) addCall(flow *event.Flow, c *ast.CallExpr, result int) {
	tv := f.r.pkg.TypesInfo.Types[c.Fun]
	if tv.IsType() || tv.IsBuiltin() {
		for _, a := range c.Args {
			f.addSources(flow, a, 0)
		}
		return
	}
	if name, own := f.callee(c); own {
		if result > 0 {
			name += "#" + strconv.Itoa(result)
		}
		flow.Calls = append(flow.Calls, name)
		return
	}
	flow.Foreign = add(flow.Foreign, f.short(c))
	if selector, ok := c.Fun.(*ast.SelectorExpr); ok && f.r.pkg.TypesInfo.Selections[selector] != nil {
		f.addSources(flow, selector.X, 0)
	}
	for _, a := range c.Args {
		f.addSources(flow, a, 0)
	}
}

// callee returns the function of a call as in the log's table: for a method of an interface a dot
// and its name, for a function value "". own reports whether the function can be recorded.
func (f *function) callee(c *ast.CallExpr) (name string, own bool) {
	o, _ := f.called(c)
	if o == nil {
		return "", true // a function value
	}
	o = o.Origin()
	if isInterfaceMethod(o) {
		return "." + o.Name(), true
	}
	if o.Pkg() == nil || !f.r.recorded(o) {
		return "", false
	}
	return nameOf(o), true
}

// nameOf returns a function's name in the notation of Go's runtime; for a method of an unnamed type a
// dot and its name.
func nameOf(o *types.Func) string {
	recv := o.Signature().Recv()
	of := o.Pkg().Path()
	if o.Pkg().Name() == "main" {
		of = "main"
	}
	if recv == nil {
		return of + "." + o.Name()
	}
	t, pointer := recv.Type(), false
	if p, ok := t.(*types.Pointer); ok {
		t, pointer = p.Elem(), true
	}
	named, ok := t.(*types.Named)
	if !ok {
		return "." + o.Name()
	}
	if pointer {
		return of + ".(*" + named.Obj().Name() + ")." + o.Name()
	}
	return of + "." + named.Obj().Name() + "." + o.Name()
}

// passed returns the flows of arguments to functions that can be recorded, and of parts of
// literals.
func (f *function) passed(n ast.Node) []event.Flow {
	if n == nil {
		return nil
	}
	var out []event.Flow
	inner := map[*ast.CompositeLit]bool{} // literals within others
	ast.Inspect(n, func(n ast.Node) bool {
		if len(out) >= maxFlows {
			return false
		}
		switch x := n.(type) {
		case *ast.FuncLit, *ast.BlockStmt:
			return false
		case *ast.CallExpr:
			if tv := f.r.pkg.TypesInfo.Types[x.Fun]; !tv.IsType() && !tv.IsBuiltin() {
				if name, own := f.callee(x); own {
					out = append(out, f.arguments(x, name)...)
				} else {
					out = append(out, f.foreignCall(x))
				}
			}
		case *ast.CompositeLit:
			if !inner[x] {
				out = append(out, f.parts(x, "")...)
				ast.Inspect(x, func(n ast.Node) bool {
					if nested, ok := n.(*ast.CompositeLit); ok {
						inner[nested] = true
					}
					return true
				})
			}
		}
		return true
	})
	return out
}

// foreignCall returns the flows of arguments to code that is not recorded.
func (f *function) foreignCall(c *ast.CallExpr) event.Flow {
	flow := event.Flow{Kind: event.FlowForeign, Text: f.short(c)}
	if selector, ok := c.Fun.(*ast.SelectorExpr); ok && f.r.pkg.TypesInfo.Selections[selector] != nil {
		f.addSources(&flow, selector.X, 0)
	}
	for _, a := range c.Args {
		f.addSources(&flow, a, 0)
	}
	return flow
}

func (f *function) arguments(c *ast.CallExpr, callee string) []event.Flow {
	sig, ok := typeOf(f, c.Fun).Underlying().(*types.Signature)
	if !ok {
		return nil
	}
	var out []event.Flow
	if selector, ok := c.Fun.(*ast.SelectorExpr); ok {
		if s := f.r.pkg.TypesInfo.Selections[selector]; s != nil && s.Kind() == types.MethodVal {
			flow := f.sources(selector.X, 0)
			flow.Kind, flow.Callee = event.FlowArgument, callee
			if m, ok := s.Obj().(*types.Func); ok && m.Origin().Signature().Recv() != nil {
				flow.Target = m.Origin().Signature().Recv().Name()
			}
			out = append(out, flow)
		}
	}
	first := len(out)
	for i := range sig.Params().Len() {
		out = append(out, event.Flow{Kind: event.FlowArgument, Callee: callee, Target: sig.Params().At(i).Name()})
	}
	last := len(out) - 1
	if len(c.Args) == 1 && sig.Params().Len() > 1 { // what another call returns
		for i := first; i <= last; i++ {
			out[i].Text = f.short(c.Args[0])
			f.addSources(&out[i], c.Args[0], i-first)
		}
		return out
	}
	for i, a := range c.Args {
		if at := min(first+i, last); at >= first {
			if out[at].Text != "" {
				out[at].Text += ", "
			}
			out[at].Text += f.short(a)
			f.addSources(&out[at], a, 0)
		}
	}
	return out
}

// parts returns the flows into the elements of a literal and of the literals within it. Their targets
// are paths from the outermost one: .draft, [1].draft, ["ness"]. Fields that it does not name are zero.
func (f *function) parts(x *ast.CompositeLit, path string) []event.Flow {
	var out []event.Flow
	part := func(target string, value ast.Expr) {
		inner := ast.Unparen(value)
		if u, ok := inner.(*ast.UnaryExpr); ok && u.Op == token.AND {
			inner = ast.Unparen(u.X)
		}
		if nested, ok := inner.(*ast.CompositeLit); ok {
			out = append(out, f.parts(nested, target)...)
			return
		}
		flow := f.sources(value, 0)
		flow.Kind, flow.Target = event.FlowPart, target
		out = append(out, flow)
	}
	t := coreOf(typeOf(f, x))
	if p, ok := t.(*types.Pointer); ok {
		t = p.Elem().Underlying()
	}
	if of, ok := t.(*types.Struct); ok {
		set := map[string]bool{}
		for i, element := range x.Elts {
			name := ""
			if kv, ok := element.(*ast.KeyValueExpr); ok {
				name, element = f.r.text(kv.Key), kv.Value
			} else if i < of.NumFields() {
				name = of.Field(i).Name()
			}
			set[name] = true
			part(path+"."+name, element)
		}
		for i := range of.NumFields() {
			if name := of.Field(i).Name(); !set[name] {
				out = append(out, event.Flow{Kind: event.FlowPart, Target: path + "." + name, Text: zeroValue})
			}
		}
		return out
	}
	index := int64(0)
	for _, element := range x.Elts {
		step := fmt.Sprintf("[%d]", index)
		if kv, ok := element.(*ast.KeyValueExpr); ok {
			element, step = kv.Value, "[]"
			if v := f.r.pkg.TypesInfo.Types[kv.Key].Value; v != nil {
				switch v.Kind() {
				case constant.String:
					step = "[" + strconv.Quote(constant.StringVal(v)) + "]"
				case constant.Int:
					step = "[" + v.ExactString() + "]"
					index, _ = constant.Int64Val(v)
				}
			}
		}
		index++
		part(path+step, element)
	}
	return out
}
