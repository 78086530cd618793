package branch

import (
	"cmp"
	"context"
	"fmt"
	"go/ast"
	"path/filepath"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Bounds of what is examined for a place that was not reached.
const (
	mostPlaces  = 200 // statements of a target
	mostCallers = 8   // callers of callers
	mostTurns   = 5   // places that are reported
	mostCalls   = 1000
)

// spot is a statement on a line of a function.
type spot struct {
	function event.FunctionID
	line     int
}

// turn is the place where execution turned away from a target. far is the number of functions between.
type turn struct {
	decision replay.Decision
	far      int
	known    bool   // there is a condition
	note     string // why there is none
}

// Missed implements replay.Brancher.
func (r Brancher) Missed(ctx context.Context, at event.Moment, t event.ThreadID, frame int, target replay.Target) (replay.Decisions, error) {
	out := replay.Decisions{Happened: event.NoMoment}
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return out, err
	}
	spots, err := r.spots(target, c)
	if err != nil {
		return out, err
	}
	if len(spots) == 0 {
		out.Note = "no statement of recorded code does that"
		return out, nil
	}
	if target.Write != "" {
		if m, ok := r.wroteIn(ctx, target.Write, at, t, frame, c); ok {
			out.Happened, out.Note = m, "it was written in this call"
			return out, nil
		}
	}
	// Where no call within the frame's call came near, those around it may have.
	ran := false
	for root := c; ; root = r.T.Call(root).Parent {
		x := &search{ctx: ctx, r: r, root: root, visited: map[spot]bool{}, happened: event.NoMoment}
		for _, s := range spots {
			m, _ := x.explain(s, 0)
			x.happened = max(x.happened, m)
		}
		if err := ctx.Err(); err != nil {
			return out, err
		}
		where := ""
		if root != c {
			where = "; not in the frame's call, but in the one of " + r.FunctionName(root) + " around it"
		}
		ran = ran || x.happened != event.NoMoment
		if x.happened != event.NoMoment && target.Write == "" {
			out.Happened, out.Note = x.happened, "it was reached"+where
			return out, nil
		}
		out.List, out.Note = x.nearest()
		if len(out.List) > 0 || out.Note != "" {
			out.Note = strings.TrimPrefix(out.Note+where, "; ")
			return out, nil
		}
		if r.T.Call(root).Parent == event.NoCall {
			break
		}
	}
	out.Note = "no call came near it"
	if ran {
		out.Note = "the statements that write such a value ran, for other values"
	}
	return out, nil
}

// Alternative is a line that would have stored to a name too and was not reached, with the condition that turned away from
// it, or why there is none.
type Alternative struct {
	Line     int
	Decision replay.Decision
	Why      string // empty if there is a condition
}

// Otherwise finds the first line of a call after one moment and before another that would have stored to a variable or field
// of a name and was not reached. Lines of function literals count that the call made in between.
func (r Brancher) Otherwise(ctx context.Context, c event.CallID, name string, after, until event.Moment) (out Alternative, ok bool) {
	a, err := r.activation(ctx, c)
	if err != nil {
		return out, false
	}
	spots, err := r.assignments(name, c)
	if err != nil {
		return out, false
	}
	own := r.T.Call(c).Function
	for _, s := range spots {
		if s.function != own {
			if out, ok = r.unused(ctx, a, s, after, until); ok {
				return out, true
			}
			continue
		}
		if s.line <= r.T.Site(after).Line {
			continue
		}
		path := a.body.pathTo(s.line)
		if len(path) == 0 {
			continue
		}
		if y, reached := a.turned(path); reached == event.NoMoment && y.known && y.decision.Moment > after && y.decision.Moment < until {
			return Alternative{Line: s.line, Decision: y.decision}, true
		}
	}
	return out, false
}

// unused explains why a statement of a function literal was not reached that a call made after one moment and before another.
func (r Brancher) unused(ctx context.Context, a *activation, s spot, after, until event.Moment) (out Alternative, ok bool) {
	l, ok := r.literal(s.function)
	if !ok || l.function != r.T.Call(a.call).Function {
		return out, false
	}
	if made := a.last(a.body.Line(l.path[len(l.path)-1].Pos()), until-1); made == event.NoMoment || made < after {
		return out, false
	}
	x := &search{ctx: ctx, r: r, root: a.call, visited: map[spot]bool{}, happened: event.NoMoment}
	if m, _ := x.explain(s, 0); m != event.NoMoment {
		return out, false
	}
	list, why := x.nearest()
	if len(list) > 0 {
		return Alternative{Line: s.line, Decision: list[0]}, true
	}
	return Alternative{Line: s.line, Why: why}, why != ""
}

// nearest returns the conditions that turned away, nearest first, or why there is none.
func (x *search) nearest() (list []replay.Decision, note string) {
	slices.SortStableFunc(x.turns, func(a, b turn) int {
		return cmp.Or(cmp.Compare(a.far, b.far), cmp.Compare(b.decision.Moment, a.decision.Moment))
	})
	seen := map[string]bool{}
	for _, y := range x.turns {
		k := fmt.Sprint(y.decision.Moment, y.decision.Expression, y.note)
		if seen[k] || len(list) == mostTurns {
			continue
		}
		seen[k] = true
		if y.known {
			list = append(list, y.decision)
		} else if note == "" {
			note = y.note
		}
	}
	return list, note
}

// wroteIn returns the last write of a path during a call.
func (r Brancher) wroteIn(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, c event.CallID) (event.Moment, bool) {
	moments, err := r.WriteMoments(ctx, path, at, t, frame)
	if err != nil {
		return 0, false
	}
	call := r.T.Call(c)
	for i := len(moments) - 1; i > 0; i-- { // the first one is its creation
		if m := moments[i]; m > call.Enter && m <= at && r.T.Thread(m) == call.Thread {
			return m, true
		}
	}
	return 0, false
}

// spots lists the statements of a target.
func (r Brancher) spots(target replay.Target, c event.CallID) ([]spot, error) {
	switch {
	case target.Function != "":
		ids := r.functionsNamed(target.Function)
		if len(ids) == 0 {
			return nil, fmt.Errorf("function %s: %w", target.Function, fault.NoCode)
		}
		var out []spot
		for _, id := range ids {
			out = append(out, spot{id, 0})
		}
		return out, nil
	case target.Write != "":
		return r.assignments(target.Write, c)
	}
	var out []spot
	files := 0
	for id, f := range r.T.Functions {
		path := r.T.Files[f.File].Path
		if path != target.File && !strings.HasSuffix(path, "/"+target.File) && filepath.Base(path) != target.File {
			continue
		}
		files++
		if target.Line < f.Line || target.Line > f.EndLine {
			continue
		}
		if b, err := r.body(id); err == nil && len(b.pathTo(target.Line)) > 0 && !b.inLiteral(target.Line) {
			out = append(out, spot{id, target.Line})
		}
	}
	if files == 0 || len(out) == 0 {
		return nil, fmt.Errorf("%s:%d: %w", target.File, target.Line, fault.NoCode)
	}
	return out, nil
}

// inLiteral reports whether a line is inside a function literal of the function.
func (b *body) inLiteral(line int) bool {
	found := false
	ast.Inspect(b.Block, func(n ast.Node) bool {
		if l, ok := n.(*ast.FuncLit); ok {
			if b.Line(l.Pos()) < line && line < b.Line(l.End()) {
				found = true
			}
			return false
		}
		return true
	})
	return found
}

// functionsNamed lists the functions with a name, or whose name ends in it.
func (r Brancher) functionsNamed(name string) []event.FunctionID {
	var out []event.FunctionID
	for id, f := range r.T.Functions {
		if f.Name == name || strings.HasSuffix(f.Name, "."+name) || strings.HasSuffix(f.Name, "/"+name) || lastName(f.Name) == name {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}

// assignments lists the statements that store to what a path names: to the variable, or to a field or an
// element of the same name.
func (r Brancher) assignments(path string, c event.CallID) ([]spot, error) {
	p, err := replay.ParsePath(path)
	if err != nil {
		return nil, err
	}
	name, field := p.Root, false
	for _, s := range p.Steps {
		if s.Field != "" {
			name, field = s.Field, true
		}
	}
	own := r.T.Call(c).Function
	var out []spot
	for id := range r.T.Functions {
		b, err := r.body(id)
		if err != nil {
			continue
		}
		if !field && id != own && !r.isOuter(id, own, name) {
			continue
		}
		b.eachStore(func(target ast.Expr, at ast.Node) {
			if storesTo(target, name, field) && len(out) < mostPlaces {
				out = append(out, spot{id, b.Line(at.Pos())})
			}
		})
	}
	// Those of the function itself first.
	slices.SortFunc(out, func(a, b spot) int {
		return cmp.Or(cmp.Compare(btoi(a.function != own), btoi(b.function != own)), cmp.Compare(a.function, b.function), cmp.Compare(a.line, b.line))
	})
	return out, nil
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// isOuter reports whether a name is that of a package's variable in a function, or of a variable that the function, a literal,
// uses of another one around it.
func (r Brancher) isOuter(id, around event.FunctionID, name string) bool {
	f, outer := r.T.Function(id), r.T.Function(around)
	within := f.File == outer.File && outer.Line <= f.Line && f.EndLine <= outer.EndLine
	for _, v := range f.Variables {
		if v.Name == name || strings.HasSuffix(v.Name, "."+name) {
			return v.Scope == event.Global || v.Scope == event.Local && v.Line == f.Line && within
		}
	}
	return false
}

// eachStore calls found for each target of an assignment in a function, without those in literals.
func (b *body) eachStore(found func(target ast.Expr, at ast.Node)) {
	ast.Inspect(b.Block, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.FuncLit:
			return false
		case *ast.AssignStmt:
			for _, x := range n.Lhs {
				found(x, n)
			}
		case *ast.IncDecStmt:
			found(n.X, n)
		case *ast.RangeStmt:
			for _, x := range []ast.Expr{n.Key, n.Value} {
				if x != nil {
					found(x, n)
				}
			}
		case *ast.ExprStmt:
			if call, ok := n.X.(*ast.CallExpr); ok && calledName(call) == "delete" && len(call.Args) == 2 {
				found(&ast.IndexExpr{X: call.Args[0], Index: call.Args[1]}, n)
			}
		}
		return true
	})
}

// storesTo reports whether a target is a variable, or a field, of a name, or an element of one.
func storesTo(target ast.Expr, name string, field bool) bool {
	for {
		switch x := target.(type) {
		case *ast.ParenExpr:
			target = x.X
		case *ast.IndexExpr:
			target = x.X
		case *ast.StarExpr:
			target = x.X
		case *ast.SelectorExpr:
			return field && x.Sel.Name == name
		case *ast.Ident:
			return !field && x.Name == name
		default:
			return false
		}
	}
}

// search looks for the places where execution turned away from statements.
type search struct {
	ctx      context.Context
	r        Brancher
	root     event.CallID
	visited  map[spot]bool
	turns    []turn
	happened event.Moment
}

// explain finds where execution turned away from a statement, in the calls of its function within the root call,
// else in those of its callers. reached is the last moment at which it was reached, in a call, or NoMoment.
func (x *search) explain(s spot, far int) (reached event.Moment, in event.CallID) {
	if x.visited[s] || far > mostCallers || len(x.visited) > mostPlaces || x.ctx.Err() != nil {
		return event.NoMoment, event.NoCall
	}
	x.visited[s] = true
	calls := x.callsOf(s.function)
	if len(calls) > 0 && s.line == 0 {
		return x.r.T.Call(calls[0]).Enter, calls[0]
	}
	best := turn{}
	for _, c := range calls {
		a, err := x.r.activation(x.ctx, c)
		if err != nil {
			return event.NoMoment, event.NoCall
		}
		path := a.body.pathTo(s.line)
		if len(path) == 0 {
			return event.NoMoment, event.NoCall
		}
		y, m := a.turned(path)
		if m != event.NoMoment {
			return m, c
		}
		y.far = far
		if best.far = far; y.known && (!best.known || y.decision.Moment > best.decision.Moment) || best.note == "" && !best.known {
			best = y
		}
	}
	if len(calls) == 0 {
		x.explainCallers(s.function, far+1)
	} else if best.known || best.note != "" {
		x.turns = append(x.turns, best)
	}
	return event.NoMoment, event.NoCall
}

// explainCallers finds where execution turned away from the statements that call a function.
func (x *search) explainCallers(id event.FunctionID, far int) {
	f := x.r.T.Function(id)
	if l, ok := x.r.literal(id); ok {
		if m, c := x.explain(spot{l.function, f.Line}, far); m != event.NoMoment {
			x.explainUses(l, m, c, far)
		}
	}
	for _, site := range x.r.callSites(lastName(f.Name)) {
		if m, _ := x.explain(site, far); m != event.NoMoment {
			x.note(far, fmt.Sprintf("line %d of %s was reached, but did not call %s: it called another function of that name, or a condition within the line decided otherwise", site.line, x.r.T.Function(site.function).Name, f.Name))
		}
	}
}

// note adds a reason that is not a condition.
func (x *search) note(far int, text string) { x.turns = append(x.turns, turn{far: far, note: text}) }

// callsOf lists the calls of a function within the root call, latest first.
func (x *search) callsOf(id event.FunctionID) []event.CallID {
	t := x.r.T
	root := t.Call(x.root)
	if root.Function == id {
		return []event.CallID{x.root}
	}
	end := root.Leave
	if end == event.NoMoment {
		end = t.Len() - 1
	}
	var out []event.CallID
	list := t.Enters(id)
	for i := list.Before(end); i >= 0 && len(out) < mostCalls; i-- {
		m := list.At(i)
		if m < root.Enter {
			break
		}
		if c := t.CallOf(m); t.Call(c).Thread == root.Thread || t.Call(c).Enter > root.Enter && x.startedWithin(t.Call(c).Thread, root.Enter, end) {
			out = append(out, c)
		}
	}
	return out
}

// startedWithin reports whether a thread began within a span, for example by a go statement of the call.
func (x *search) startedWithin(t event.ThreadID, from, to event.Moment) bool {
	first, _ := x.r.T.Span(t)
	return first > from && first <= to
}

// callSites lists the statements that call a function of a name.
func (r Brancher) callSites(name string) []spot {
	var out []spot
	for id := range r.T.Functions {
		b, err := r.body(id)
		if err != nil {
			continue
		}
		ast.Inspect(b.Block, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.FuncLit:
				return false
			case *ast.CallExpr:
				if calledName(n) == name && len(out) < mostPlaces {
					out = append(out, spot{id, b.Line(n.Pos())})
				}
			}
			return true
		})
	}
	slices.SortFunc(out, func(a, b spot) int { return cmp.Or(cmp.Compare(a.function, b.function), cmp.Compare(a.line, b.line)) })
	return out
}

// turned finds the deepest statement of a path that the call reached, and the condition that turned away
// there. reached is the last moment at which the whole path was reached.
func (a *activation) turned(path []ast.Node) (y turn, reached event.Moment) {
	end := a.end()
	hit := func(n ast.Node) event.Moment { return a.hit(n, end) }
	for i := 1; i < len(path); i++ {
		if _, is := path[i].(ast.Stmt); !is {
			continue
		}
		m := hit(path[i])
		if m != event.NoMoment {
			reached = m
			continue
		}
		if exit, ok := a.left(path, i, end); ok {
			return turn{decision: exit, known: true}, event.NoMoment
		}
		if gates := a.body.gates(path[max(i-2, 0) : i+1]); len(gates) > 0 {
			for j := len(gates) - 1; j >= 0; j-- {
				if evaluated := a.last(gates[j].at, end); evaluated != event.NoMoment {
					return turn{decision: a.decide(gates[j], !gates[j].wanted, evaluated, a.r.T.Call(a.call).Enter), known: true}, event.NoMoment
				}
			}
		}
		return turn{note: a.stopped()}, event.NoMoment
	}
	return turn{}, reached
}

// hit returns the last moment at which the call reached a statement, or the first one in it.
func (a *activation) hit(n ast.Node, until event.Moment) event.Moment {
	switch n.(type) {
	case *ast.BlockStmt, *ast.CaseClause, *ast.CommClause, *ast.LabeledStmt:
		best := event.NoMoment
		for _, x := range inner(n) {
			best = max(best, a.hit(x, until))
		}
		return best
	}
	return a.last(a.body.Line(n.Pos()), until)
}

// left returns the condition of the exit before the statement at i of a path by which the call left the block.
func (a *activation) left(path []ast.Node, i int, end event.Moment) (replay.Decision, bool) {
	best, found := event.NoMoment, gate{}
	list := upTo(path[i-1], path[i])
	for n := range max(len(list)-1, 0) {
		for _, e := range a.body.exits(list[n]) {
			if e.goesTo(list[n+1:]) {
				continue
			}
			taken := a.hit(e.path[len(e.path)-1], end)
			gates := a.body.gates(e.path)
			if taken <= best || len(gates) == 0 {
				continue
			}
			best, found = taken, gates[len(gates)-1]
		}
	}
	if best == event.NoMoment {
		return replay.Decision{}, false
	}
	evaluated := a.last(found.at, best-1)
	if evaluated == event.NoMoment {
		return replay.Decision{}, false
	}
	found.role = replay.Leaving
	return a.decide(found, found.wanted, evaluated, a.r.T.Call(a.call).Enter), true
}

// stopped says why a call did not go on after its last line.
func (a *activation) stopped() string {
	call := a.r.T.Call(a.call)
	last := a.r.T.LastLine(a.call, a.end())
	where := ""
	if last != event.NoMoment {
		where = fmt.Sprintf(" at line %d", a.r.T.Site(last).Line)
	}
	switch {
	case call.Leave == event.NoMoment:
		return "the call had not ended; it was" + where
	case a.r.Unwound(a.call):
		return "a panic, or the end of the goroutine, left the call" + where
	}
	return "the call ended" + where
}
