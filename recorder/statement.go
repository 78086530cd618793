package recorder

import (
	"cmp"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"slices"
	"strings"

	"wraithology/core/event"
)

// block rewrites a list of statements.
func (f *function) block(list []ast.Stmt) {
	for _, s := range list {
		f.statement(s)
	}
}

// site adds a site for a line.
func (f *function) site(at token.Pos, nodes ...ast.Node) lineSite {
	if !f.r.lines {
		return lineSite{}
	}
	s := event.Site{ID: event.SiteID(len(f.r.tables.sites)), Function: f.table.ID, Line: f.r.line(at)}
	for _, n := range nodes {
		reads, writes := f.namesOf(n)
		s.Reads, s.Writes = append(s.Reads, reads...), append(s.Writes, writes...)
		s.Flows = append(s.Flows, f.flowsOf(n)...)
	}
	f.r.tables.sites = append(f.r.tables.sites, s)
	return lineSite{s.ID, f.clocked(nodes...), f.makes(nodes...)}
}

func (f *function) reach(at token.Pos, site lineSite) {
	if !f.r.lines {
		return
	}
	f.r.insert(at, site.reaches()+"; "+f.snapshot(at, site.id))
}

func (f *function) statement(s ast.Stmt) {
	switch s := s.(type) {
	case *ast.EmptyStmt:
	case *ast.BlockStmt:
		f.block(s.List)
	case *ast.LabeledStmt:
		f.labelled(s)
	case *ast.IfStmt:
		site := f.site(s.Pos(), node(s.Init), s.Cond)
		f.reach(s.Pos(), site)
		f.ifStatement(s)
	case *ast.ForStmt:
		site := f.site(s.Pos(), node(s.Init), node(s.Cond), node(s.Post))
		f.reach(s.Pos(), site)
		f.forStatement(s, site)
	case *ast.RangeStmt:
		site := f.site(s.Pos(), s)
		f.reach(s.Pos(), site)
		f.rangeStatement(s, site)
	case *ast.SwitchStmt:
		site := f.site(s.Pos(), node(s.Init), node(s.Tag))
		site.clocked, site.makes = site.clocked || f.clocked(cases(s.Body)...), site.makes || f.makes(cases(s.Body)...)
		f.reach(s.Pos(), site)
		f.expressions(node(s.Init))
		f.expressions(node(s.Tag))
		f.clauses(s.Body, f.written(s.Init), nil)
	case *ast.TypeSwitchStmt:
		f.reach(s.Pos(), f.site(s.Pos(), node(s.Init), s.Assign))
		f.expressions(node(s.Init))
		f.expressions(s.Assign)
		f.clauses(s.Body, f.written(s.Init), s)
	case *ast.SelectStmt:
		site := f.selectSite(s)
		site.clocked = true
		f.reach(s.Pos(), site)
		if f.r.lines && !hasDefault(s) {
			f.r.insert(s.Pos(), frameName+".Selects(); ")
		}
		f.selectStatement(s)
	case *ast.ReturnStmt:
		f.returnStatement(s)
	case *ast.DeclStmt:
		f.declaration(s)
	default:
		f.simple(s)
	}
}

// cases returns the expressions of a switch statement's cases.
func cases(body *ast.BlockStmt) []ast.Node {
	var list []ast.Node
	for _, s := range body.List {
		for _, e := range s.(*ast.CaseClause).List {
			list = append(list, e)
		}
	}
	return list
}

func node[N ast.Node](n N) ast.Node {
	if any(n) == nil {
		return nil
	}
	return n
}

func exprs(list ...ast.Expr) []ast.Expr {
	var out []ast.Expr
	for _, e := range list {
		if e != nil {
			out = append(out, e)
		}
	}
	return out
}

// labelled rewrites a statement with a label. The record of the line is before the label of a loop
// or choice, and after any other label, so that a goto records it too. A loop to which there are gotos gets a label of its own
// for them, before the record, unless they are all that names its label.
func (f *function) labelled(s *ast.LabeledStmt) {
	var gotos []*ast.BranchStmt
	for _, jump := range f.jumps[s.Label.Name] {
		if jump.Tok == token.GOTO {
			gotos = append(gotos, jump)
		}
	}
	switch s.Stmt.(type) {
	case *ast.ForStmt, *ast.RangeStmt, *ast.SwitchStmt, *ast.TypeSwitchStmt, *ast.SelectStmt:
		if len(gotos) > 0 && len(gotos) == len(f.jumps[s.Label.Name]) {
			f.statement(s.Stmt)
			return
		}
		n := len(f.r.edits)
		at := f.r.offset(s.Pos())
		f.labels[s.Stmt] = s.Label.Name
		f.statement(s.Stmt)
		if !f.r.lines {
			return
		}
		f.r.edits[n].at, f.r.edits[n].end = at, at
		if len(gotos) > 0 {
			label := labelName + s.Label.Name
			f.r.edits[n].text = label + ": " + f.r.edits[n].text
			for _, jump := range gotos {
				f.r.replace(jump.Label.Pos(), jump.Label.End(), label)
			}
		}
	case *ast.EmptyStmt:
	default:
		f.statement(s.Stmt)
	}
}

// jumpsIn lists the statements in a function that name a label, by label.
func jumpsIn(body *ast.BlockStmt) map[string][]*ast.BranchStmt {
	out := map[string][]*ast.BranchStmt{}
	ast.Inspect(body, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit:
			return false
		case *ast.BranchStmt:
			if n.Label != nil {
				out[n.Label.Name] = append(out[n.Label.Name], n)
			}
		}
		return true
	})
	return out
}

func (f *function) ifStatement(s *ast.IfStmt) {
	f.expressions(node(s.Init))
	f.expressions(s.Cond)
	set := f.written(s.Init)
	f.r.insert(s.Body.Lbrace+1, " "+set)
	f.block(s.Body.List)
	switch e := s.Else.(type) {
	case nil:
		if set != "" { // the header has been evaluated, whatever came out
			f.r.insert(s.Body.Rbrace+1, " else { "+strings.TrimSuffix(set, "; ")+" }")
		}
	case *ast.BlockStmt:
		f.r.insert(e.Lbrace+1, " "+set)
		f.block(e.List)
	case *ast.IfStmt:
		site := f.site(e.Pos(), node(e.Init), e.Cond)
		f.r.insert(e.Pos(), "{ "+set)
		f.reach(e.Pos(), site)
		f.ifStatement(e)
		f.r.insert(e.End(), " }")
	}
}

func (f *function) forStatement(s *ast.ForStmt, site lineSite) {
	f.declaredByHead(s.Init)
	f.expressions(node(s.Init))
	f.expressions(node(s.Cond))
	f.expressions(node(s.Post))
	set := f.written(s.Init)
	post, outside := f.writtenByPost(s)
	again := f.again(site)
	if post != "" && !strings.Contains(set, post) { // it has not run before the first iteration
		again = fmt.Sprintf(" if %s { %s}; ", site.again(), post)
	}
	f.r.insert(s.Body.Lbrace+1, again+set+f.snapshot(s.Body.Lbrace+1, site.id))
	f.block(s.Body.List)
	if s.Cond == nil || outside == "" {
		return
	}
	// The last step's value outlives the loop, unless it was left before that step.
	breaks := breaksOf(s.Body, f.labels[s], true)
	for _, b := range breaks {
		f.r.insert(b.Pos(), frameName+".Breaks(); ")
	}
	if f.r.lines {
		outside = site.reaches() + "; " + outside
	}
	if len(breaks) > 0 {
		outside = fmt.Sprintf("if %s.Ends() { %s}; ", frameName, outside)
	}
	f.after(s, outside)
}

// breaksOf lists the statements in a node that leave the statement with a label. direct means that those
// without a label leave it too.
func breaksOf(in ast.Node, label string, direct bool) (list []*ast.BranchStmt) {
	ast.Inspect(in, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit:
			return false
		case *ast.BranchStmt:
			if n.Tok == token.BREAK && (n.Label == nil && direct || n.Label != nil && n.Label.Name == label) {
				list = append(list, n)
			}
		case *ast.ForStmt, *ast.RangeStmt, *ast.SwitchStmt, *ast.TypeSwitchStmt, *ast.SelectStmt:
			if direct {
				list = append(list, breaksOf(n, label, false)...)
				return false
			}
		}
		return true
	})
	return list
}

// uses reports whether a statement names a variable that another one declares.
func (f *function) uses(s ast.Node, declares ast.Stmt) bool {
	found := false
	ast.Inspect(s, func(n ast.Node) bool {
		if id, ok := n.(*ast.Ident); ok && declares != nil {
			if o := f.r.pkg.TypesInfo.Uses[id]; o != nil && declares.Pos() <= o.Pos() && o.Pos() < declares.End() {
				found = true
			}
		}
		return !found
	})
	return found
}

// declaredByHead remembers the variables that the head of a loop declares.
func (f *function) declaredByHead(s ast.Stmt) {
	if a, ok := s.(*ast.AssignStmt); ok {
		for _, l := range a.Lhs {
			if id, ok := l.(*ast.Ident); ok && f.r.pkg.TypesInfo.Defs[id] != nil {
				f.loops[f.r.pkg.TypesInfo.Defs[id]] = true
			}
		}
	}
}

// again records that a loop's line is reached again.
func (f *function) again(site lineSite) string {
	if !f.r.lines {
		return " "
	}
	return " " + site.again() + "; "
}

// snapshot returns the statement that takes a snapshot of the variables that can be named at a
// position.
func (f *function) snapshot(at token.Pos, site event.SiteID) string {
	if !f.r.verify || !f.r.values {
		return ""
	}
	var text strings.Builder
	for _, o := range f.inScope(at) {
		fmt.Fprintf(&text, "%s.V(%s, %d, %s); ", runtimeName, frameName, f.vars[o], f.address(o, o.Name()))
	}
	if text.Len() == 0 {
		return ""
	}
	return fmt.Sprintf("if %s.Sampled(%d) { %s}; ", frameName, site, text.String())
}

// inScope lists the variables of the function's table that can be named at a position, in the order
// of the table.
func (f *function) inScope(at token.Pos) []types.Object {
	var list []types.Object
	for o := range f.vars {
		if (o.Pos() < at || isGlobal(o)) && o.Pkg() == f.r.pkg.Types && o.Name() != "_" && !f.shadowedAt(o, at) {
			list = append(list, o)
		}
	}
	slices.SortFunc(list, func(a, b types.Object) int { return cmp.Compare(f.vars[a], f.vars[b]) })
	return list
}

func (f *function) rangeStatement(s *ast.RangeStmt, site lineSite) {
	f.expressions(s.X)
	head := &ast.AssignStmt{Lhs: exprs(s.Key, s.Value), Tok: s.Tok}
	f.declaredByHead(head)
	set := f.written(head)
	if s.Key != nil {
		set = f.exchanged("Had", s.X, s.Key) + set
	}
	f.r.insert(s.Body.Lbrace+1, f.again(site)+set+f.snapshot(s.Body.Lbrace+1, site.id))
	f.block(s.Body.List)
}

func (f *function) clauses(body *ast.BlockStmt, set string, of *ast.TypeSwitchStmt) {
	for _, s := range body.List {
		c := s.(*ast.CaseClause)
		for _, e := range c.List {
			f.expressions(e)
		}
		text := set
		if of != nil {
			if o := f.r.pkg.TypesInfo.Implicits[c]; o != nil {
				text += f.say(o, false)
			}
		}
		if text != "" {
			f.r.insert(c.Colon+1, " "+text)
		}
		f.block(c.Body)
	}
}

// selectSite is the site of a select statement, with what its cases read and write.
func (f *function) selectSite(s *ast.SelectStmt) lineSite {
	var nodes []ast.Node
	for _, c := range s.Body.List {
		if comm := c.(*ast.CommClause).Comm; comm != nil {
			nodes = append(nodes, comm)
		}
	}
	return f.site(s.Pos(), nodes...)
}

func hasDefault(s *ast.SelectStmt) bool {
	for _, c := range s.Body.List {
		if c.(*ast.CommClause).Comm == nil {
			return true
		}
	}
	return false
}

// communication rewrites the operands of a select's case. The send or receive itself must stay as
// it is.
func (f *function) communication(s ast.Stmt) {
	var receive ast.Expr
	switch s := s.(type) {
	case *ast.SendStmt:
		f.expressions(s.Chan)
		f.expressions(s.Value)
	case *ast.ExprStmt:
		receive = s.X
	case *ast.AssignStmt:
		for _, l := range s.Lhs {
			f.expressions(l)
		}
		receive = s.Rhs[0]
	}
	if x, ok := ast.Unparen(orNil(receive)).(*ast.UnaryExpr); ok {
		f.expressions(x.X)
	}
}

func orNil(e ast.Expr) ast.Expr {
	if e == nil {
		return &ast.BadExpr{}
	}
	return e
}

func (f *function) selectStatement(s *ast.SelectStmt) {
	for _, s := range s.Body.List {
		c := s.(*ast.CommClause)
		if c.Comm != nil {
			f.communication(c.Comm)
			if text := f.chosen(c.Comm) + f.written(c.Comm); text != "" {
				f.r.insert(c.Colon+1, " "+text)
			}
		}
		f.block(c.Body)
	}
}

// returnStatement rewrites "return a, b" to "r0, r1 = a, b; Ret(); return", to distinguish a panic
// while the results are computed from a return.
func (f *function) returnStatement(s *ast.ReturnStmt) {
	f.reach(s.Pos(), f.site(s.Pos(), s))
	for _, e := range s.Results {
		f.expressions(e)
	}
	if len(s.Results) == 0 {
		f.r.insert(s.Pos(), frameName+".Ret(); ")
		return
	}
	var names []string
	for _, res := range f.results {
		if res.object != nil && res.object.Name() != "_" && f.shadowedAt(res.object, s.Pos()) {
			return // the result cannot be named here; the end of the call handles it
		}
		names = append(names, res.name)
	}
	f.r.replace(s.Return, s.Results[0].Pos(), strings.Join(names, ", ")+" = ")
	f.r.insert(s.End(), "; "+frameName+".Ret(); return")
}

func (f *function) declaration(s *ast.DeclStmt) {
	g, ok := s.Decl.(*ast.GenDecl)
	if !ok || g.Tok != token.VAR {
		return
	}
	f.reach(s.Pos(), f.site(s.Pos(), g))
	f.expressions(g)
	var text strings.Builder
	for _, spec := range g.Specs {
		for _, name := range spec.(*ast.ValueSpec).Names {
			if o := f.r.pkg.TypesInfo.Defs[name]; o != nil {
				text.WriteString(f.begins(o, false))
			}
		}
	}
	f.after(s, text.String())
}

// simple rewrites a statement without inner statements.
func (f *function) simple(s ast.Stmt) {
	f.reach(s.Pos(), f.site(s.Pos(), s))
	switch s := s.(type) {
	case *ast.SendStmt:
		if f.r.lines {
			f.send(s)
			return
		}
	case *ast.DeferStmt:
		f.expressions(s)
		text := ""
		if call, waits := f.syncCall(s.Call); call != "" && !waits {
			text = "defer " + call + "; "
		}
		f.after(s, fmt.Sprintf("%sdefer %s.Settle(%s.Deferred())", text, frameName, frameName))
		return
	}
	synchronises, waits := "", false
	if e, ok := s.(*ast.ExprStmt); ok {
		if synchronises, waits = f.syncCall(e.X); synchronises != "" {
			f.r.insert(s.Pos(), synchronises+"; ")
		}
	}
	f.expressions(s)
	switch s.(type) {
	case *ast.BranchStmt, *ast.GoStmt:
		return
	}
	text := f.written(s)
	if waits {
		text += frameName + ".Passed(); "
	}
	if f.tester != nil && f.mentions(s, f.tester) && !f.shadowedAt(f.tester, s.End()) {
		text += fmt.Sprintf("%s.T(%s); ", frameName, f.tester.Name())
	}
	f.after(s, text)
}

func (f *function) after(s ast.Stmt, text string) {
	if text != "" {
		f.r.insert(s.End(), "; "+strings.TrimSuffix(text, "; "))
	}
}

func (f *function) mentions(n ast.Node, o types.Object) bool {
	found := false
	ast.Inspect(n, func(n ast.Node) bool {
		if _, ok := n.(*ast.FuncLit); ok {
			return false
		}
		if id, ok := n.(*ast.Ident); ok && f.r.pkg.TypesInfo.Uses[id] == o {
			found = true
		}
		return !found
	})
	return found
}

// expressions rewrites function literals in a node, and calls that end a function, a panic or the
// program.
func (f *function) expressions(n ast.Node) {
	if n == nil {
		return
	}
	asked := commaOk(n)
	appended := assignedAppend(n)
	how := map[*ast.CallExpr]string{} // references are passed on, if not at once
	addressed := map[ast.Node]bool{}
	ast.Inspect(n, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit:
			name := f.table.Name + ".func"
			if f.outer != nil {
				name = f.table.Name + "."
			}
			f.r.function(f, n.Type, n.Body, nil, name, n.Pos())
			return false
		case *ast.DeferStmt:
			how[n.Call] = "LendLater"
		case *ast.GoStmt:
			how[n.Call] = "LendFor"
		case *ast.UnaryExpr:
			addressed[n.X] = true
			if literal, ok := ast.Unparen(n.X).(*ast.CompositeLit); ok && n.Op == token.AND && f.r.values && literal.Type != nil {
				addressed[literal] = true
				f.r.wrap(n, fmt.Sprintf("%s.Made(%s, ", runtimeName, frameName))
			}
			if n.Op == token.ARROW && f.r.lines && f.received(n, n == asked) {
				return false
			}
		case *ast.CompositeLit:
			if f.r.values && n.Type != nil && isMap(typeOf(f, n)) && !addressed[n] {
				f.r.wrap(n, fmt.Sprintf("%s.New(%s, ", runtimeName, frameName))
				f.inside(n)
				return false
			}
			if _, list := coreOf(typeOf(f, n)).(*types.Slice); f.r.values && n.Type != nil && list && !addressed[n] {
				f.r.wrap(n, fmt.Sprintf("%s.MadeList(%s, ", runtimeName, frameName))
			}
		case *ast.CallExpr:
			if f.r.values && f.makesMap(n) {
				f.r.wrap(n, fmt.Sprintf("%s.New(%s, ", runtimeName, frameName))
				f.inside(n)
				return false
			}
			f.call(n, how[n], appended[n])
		}
		return true
	})
}

// inside rewrites the parts of a map literal or of a call of make.
func (f *function) inside(n ast.Node) {
	switch n := n.(type) {
	case *ast.CompositeLit:
		for _, e := range n.Elts {
			f.expressions(e)
		}
	case *ast.CallExpr:
		for _, e := range n.Args[1:] {
			f.expressions(e)
		}
	}
}

func (f *function) makesMap(c *ast.CallExpr) bool {
	b := f.builtinOf(c)
	return b != nil && b.Name() == "make" && isMap(typeOf(f, c))
}

// call rewrites a call. how is the runtime's function for the references that it passes on, if it is
// deferred or runs on another goroutine. assigned is what the call is assigned to, if that is known.
func (f *function) call(c *ast.CallExpr, how string, assigned ast.Expr) {
	f.r.output(c)
	if b := f.builtinOf(c); b != nil {
		switch b.Name() {
		case "new":
			if f.r.values && how == "" {
				f.r.wrap(c, fmt.Sprintf("%s.Made(%s, ", runtimeName, frameName))
			}
		case "make":
			if _, list := coreOf(typeOf(f, c)).(*types.Slice); list && f.r.values && how == "" {
				f.r.wrap(c, fmt.Sprintf("%s.MadeList(%s, ", runtimeName, frameName))
			}
		case "append":
			f.appends(c, assigned)
		case "copy", "clear", "delete":
			f.builtinCall(b.Name(), c)
		case "panic":
			if how == "" {
				f.wrap(c.Args[0], "Panic")
			}
		case "recover":
			if how == "" {
				f.wrap(c, "Recover")
			}
		}
		return
	}
	if selector, ok := c.Fun.(*ast.SelectorExpr); ok && how == "" {
		if o, ok := f.r.pkg.TypesInfo.Uses[selector.Sel].(*types.Func); ok && o.FullName() == "os.Exit" {
			f.wrap(c.Args[0], "Exit")
		} else if ok && failing[o.Name()] && pure(selector.X) && isTester(typeOf(f, selector.X)) {
			f.wrap(selector.X, "Test")
		}
	}
	f.lends(c, cmp.Or(how, "Lend"))
}

// failing are the methods of a test that report a failure.
var failing = map[string]bool{"Error": true, "Errorf": true, "Fatal": true, "Fatalf": true}

// wrap passes an expression through one of the frame's methods. Its end is added to the edits
// before those of everything that follows.
func (f *function) wrap(e ast.Expr, method string) {
	f.r.wrap(e, frameName+"."+method+"(")
}
