package branch

import (
	"context"
	"go/ast"
	"slices"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// mostBack is the number of moments of a line, of any call, that are looked at before the lines of the call are.
const mostBack = 100_000

// activation is a call with the syntax of its function.
type activation struct {
	ctx  context.Context
	r    Brancher
	call event.CallID
	body *body
	// moments of the lines of the function, by line
	sites map[int][]event.SiteID
}

func (r Brancher) activation(ctx context.Context, c event.CallID) (*activation, error) {
	id := r.T.Call(c).Function
	b, err := r.body(id)
	if err != nil {
		return nil, err
	}
	a := &activation{ctx: ctx, r: r, call: c, body: b, sites: map[int][]event.SiteID{}}
	for site, x := range r.T.Sites {
		if x.Function == id {
			a.sites[x.Line] = append(a.sites[x.Line], site)
		}
	}
	return a, nil
}

// end returns the last moment of the call.
func (a *activation) end() event.Moment {
	if left := a.r.T.Call(a.call).Leave; left != event.NoMoment {
		return left
	}
	return a.r.T.Len() - 1
}

// last returns the last moment at or before until at which the call reached a line, or NoMoment.
func (a *activation) last(line int, until event.Moment) event.Moment {
	best := event.NoMoment
	enter := a.r.T.Call(a.call).Enter
	for _, site := range a.sites[line] {
		list := a.r.T.SiteMoments(site)
		i := list.Before(until)
		for n := 0; i >= 0; i, n = i-1, n+1 {
			m := list.At(i)
			if m < enter || m <= best {
				break
			}
			if n == mostBack {
				return a.lastOfAll(line, until)
			}
			if a.r.T.CallOf(m) == a.call {
				best = m
				break
			}
		}
	}
	return best
}

// lastOfAll is last by the lines of the call alone, for lines that other calls reached too often in between.
func (a *activation) lastOfAll(line int, until event.Moment) event.Moment {
	lines := a.r.T.CallLines(a.call)
	for i := lines.Before(until); i >= 0; i-- {
		if m := lines.At(i); a.r.T.Site(m).Line == line {
			return m
		}
	}
	return event.NoMoment
}

// count counts the moments from one to another at which the call reached a line.
func (a *activation) count(line int, from, until event.Moment) int {
	n, seen := 0, 0
	for _, site := range a.sites[line] {
		list := a.r.T.SiteMoments(site)
		for i := list.Before(until); i >= 0; i, seen = i-1, seen+1 {
			m := list.At(i)
			if m < from {
				break
			}
			if seen == mostBack {
				return a.countAll(line, from, until)
			}
			if a.r.T.CallOf(m) == a.call {
				n++
			}
		}
	}
	return n
}

// countAll is count by the lines of the call alone.
func (a *activation) countAll(line int, from, until event.Moment) (n int) {
	lines := a.r.T.CallLines(a.call)
	for i := lines.Before(until); i >= 0; i-- {
		m := lines.At(i)
		if m < from || m&(1<<16-1) == 0 && a.ctx.Err() != nil {
			return n
		}
		if a.r.T.Site(m).Line == line {
			n++
		}
	}
	return n
}

// during returns the last moment before the call's next line after a moment: by then, the line of the moment
// has run as far as it did.
func (a *activation) during(m event.Moment) event.Moment {
	return a.r.LineEnd(a.call, m)
}

// decide describes a gate that was evaluated at a moment of the call.
func (a *activation) decide(g gate, value bool, m, since event.Moment) replay.Decision {
	d := replay.Decision{Expression: g.text, Value: value, Role: g.role, Times: a.count(g.at, since, m)}
	d.Place, _ = a.r.Place(m) // a moment of the log has a place
	at := m
	if g.after {
		at = a.during(m)
	}
	if g.uses != nil {
		d.Operands = a.operands(g.uses, at, a.during(m))
	}
	return d
}

// Reached implements replay.Brancher.
func (r Brancher) Reached(ctx context.Context, at event.Moment, t event.ThreadID, frame, callers int) (replay.Decisions, error) {
	out := replay.Decisions{Happened: event.NoMoment}
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return out, err
	}
	m := r.T.LastLine(c, at)
	if m == event.NoMoment { // at the beginning of the call: its callers decided
		m = at
	}
	for depth := 0; ; depth++ {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		a, err := r.activation(ctx, c)
		switch {
		case err != nil && depth == 0:
			return out, err
		case err != nil: // a caller without source text ends the list
			return out, nil
		}
		target := m
		if path := a.body.pathTo(r.T.Site(m).Line); r.T.Kind(m) == event.Line && len(path) > 0 {
			out.List = append(out.List, a.reached(path, target)...)
		}
		if depth == callers {
			return out, nil
		}
		if c, m = a.caller(); c == event.NoCall || m == event.NoMoment {
			return out, nil
		}
	}
}

// reached lists the conditions on a path to a statement that was reached at a moment, innermost first.
func (a *activation) reached(path []ast.Node, m event.Moment) []replay.Decision {
	var out []replay.Decision // outermost first
	begin := a.r.T.Call(a.call).Enter
	since := begin // the present pass through the enclosing block
	for i := range path {
		if by, at := a.jumpTo(path, i, since, m); by != nil {
			out = a.reached(by, at)
			slices.Reverse(out)
		}
		out = append(out, a.passed(path, i, since, m)...)
		if i+1 == len(path) {
			break
		}
		for _, g := range a.body.gates(path[max(i-1, 0) : i+2]) {
			if g.enters != path[i+1] {
				continue
			}
			// The head of the line itself is not yet decided.
			evaluated := a.last(g.at, m-1)
			if evaluated == event.NoMoment || evaluated < since {
				continue
			}
			out = append(out, a.decide(g, g.wanted, evaluated, since))
			if g.role == replay.Looping {
				since = evaluated
			}
		}
	}
	slices.Reverse(out)
	return out
}

// jumpTo finds the goto statement by which the call came to the statement at i of a path, or to one before it in the same
// block, over those in between: the path to it, and when it was reached.
func (a *activation) jumpTo(path []ast.Node, i int, since, m event.Moment) (by []ast.Node, at event.Moment) {
	at = event.NoMoment
	if i == 0 {
		return nil, at
	}
	list := upTo(path[i-1], path[i])
	for n := range max(len(list)-1, 0) {
		for _, e := range a.body.exits(list[n]) {
			if !e.goesTo(list[n+1:]) {
				continue
			}
			if taken := a.hit(e.path[len(e.path)-1], m-1); taken != event.NoMoment && taken >= since && taken > at {
				by, at = append(slices.Clone(path[:i]), e.path...), taken
			}
		}
	}
	return by, at
}

// passed lists the conditions of the statements before the one at i of a path, in the same block, that would
// have left the block.
func (a *activation) passed(path []ast.Node, i int, since, m event.Moment) []replay.Decision {
	if i == 0 {
		return nil
	}
	var out []replay.Decision
	seen := map[gateKey]bool{}
	list := upTo(path[i-1], path[i])
	for n := range max(len(list)-1, 0) {
		for _, e := range a.body.exits(list[n]) {
			if e.goesTo(list[n+1:]) {
				continue
			}
			gates := a.body.gates(e.path)
			// The innermost one that was evaluated did not let through.
			for j := len(gates) - 1; j >= 0; j-- {
				g := gates[j]
				evaluated := a.last(g.at, m-1)
				if evaluated == event.NoMoment || evaluated < since {
					continue
				}
				if k := (gateKey{g.at, g.text}); g.role != replay.Looping && !seen[k] {
					seen[k] = true
					g.role = replay.Leaving
					out = append(out, a.decide(g, !g.wanted, evaluated, since))
				}
				break
			}
		}
	}
	return out
}

type gateKey struct {
	line int
	text string
}

// upTo lists the statements of a block up to one of them.
func upTo(block, statement ast.Node) []ast.Stmt {
	var list []ast.Stmt
	switch b := block.(type) {
	case *ast.BlockStmt:
		list = b.List
	case *ast.CaseClause:
		list = b.Body
	case *ast.CommClause:
		list = b.Body
	}
	for i, s := range list {
		if s == statement {
			return list[:i+1]
		}
		if _, is := s.(*ast.CaseClause); is {
			return nil
		}
		if _, is := s.(*ast.CommClause); is {
			return nil
		}
	}
	return nil
}

// caller returns the call that made a call, or that started its goroutine or deferred it, and the moment of
// the line that did.
func (a *activation) caller() (event.CallID, event.Moment) {
	t := a.r.T
	call := t.Call(a.call)
	f := t.Function(call.Function)
	if call.Parent == event.NoCall {
		if starts, _ := a.r.Starts(call.Thread); len(starts) > 0 {
			return t.CallOf(starts[0]), starts[0]
		}
		return event.NoCall, event.NoMoment
	}
	m := t.LastLine(call.Parent, call.Enter-1)
	if m == event.NoMoment {
		return call.Parent, m
	}
	outer, err := a.r.activation(a.ctx, call.Parent)
	if err != nil {
		return call.Parent, m
	}
	best := event.NoMoment // of the line that deferred it
	for _, n := range outer.body.launches(lastName(f.Name), f.Line) {
		if _, is := n.(*ast.DeferStmt); is {
			if at := outer.last(outer.body.Line(n.Pos()), call.Enter-1); at > best {
				best = at
			}
		}
	}
	if best != event.NoMoment && !outer.calls(t.Site(m).Line, lastName(f.Name), f.Line) {
		return call.Parent, best
	}
	return call.Parent, m
}

// calls reports whether the statement on a line calls a function other than by defer.
func (a *activation) calls(line int, name string, literal int) bool {
	path := a.body.pathTo(line)
	if len(path) == 0 {
		return false
	}
	found := false
	ast.Inspect(path[len(path)-1], func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.DeferStmt:
			return false
		case *ast.BlockStmt:
			return false
		case *ast.CallExpr:
			if calledName(n) == name {
				found = true
			}
		case *ast.FuncLit:
			if a.body.Line(n.Pos()) == literal {
				found = true
			}
			return false
		}
		return true
	})
	return found
}

// mostIterations limits the iterations of a loop that are counted.
const mostIterations = 10_000_000

// Iteration returns how many iterations of a loop over a list a call had begun before the one that the loop's line began at a
// moment, which is the index of its element, and the moment at which the loop began. ok is false if the line is not the head of such a loop.
func (r Brancher) Iteration(ctx context.Context, c event.CallID, at event.Moment) (n int64, first event.Moment, ok bool) {
	first = at
	a, err := r.activation(ctx, c)
	if err != nil || r.T.Kind(at) != event.Line {
		return 0, first, false
	}
	head := r.T.Site(at)
	path := a.body.pathTo(head.Line)
	if len(path) == 0 {
		return 0, first, false
	}
	loop, ok := path[len(path)-1].(*ast.RangeStmt)
	if !ok {
		return 0, first, false
	}
	end := a.body.Line(loop.End())
	lines := r.T.CallLines(c)
	for i := lines.Before(at - 1); i >= 0 && n < mostIterations; i-- {
		m := lines.At(i)
		line := r.T.Site(m).Line
		if line < head.Line || line > end {
			return n, first, true
		}
		if line == head.Line {
			first = m
			n++
		}
	}
	return n, first, n < mostIterations
}
