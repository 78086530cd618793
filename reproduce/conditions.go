package reproduce

import (
	"cmp"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/replay"
)

// watched is a condition in the source of which the outcomes are counted.
type watched struct {
	file       string
	expression string
	line, body int // lines of the condition and of the first statement that it guards
	head       int // line of the statement: of a clause, that of the switch
	// isIf is set if it is known how often it is reached; else only how often it is true.
	isIf bool
	// atLeast is set if the line of the first statement is recorded more often than it is reached, because it is a loop.
	atLeast bool
}

// conditionRoot is the path of a condition in a report.
func conditionRoot(i int) string { return "condition " + strconv.Itoa(i) }

// Of the package that counts the conditions, which is added to the module that is built. It imports nothing, so that
// every package can import it.
const (
	countersFolder = "internal/wraithcounts"
	countersName   = "wraithcounts"
	countersText   = `//go:build go1.22

package wraithcounts

// All are how often each condition was true, and reached.
var All [%d][2]int

func True(i int) { All[i][0]++ }

func If(i int, holds bool) bool {
	All[i][1]++
	if holds {
		All[i][0]++
	}
	return holds
}
`
)

// watch lets the conditions be counted that the recorded call reached, in all functions of the module.
func (s *supposer) watch() (list []watched, err error) {
	if len(s.call.Reached) == 0 {
		s.out.Gaps = append(s.out.Gaps, "lines were not recorded: conditions are not compared")
		return nil, nil
	}
	module := s.m.pkg.Module
	if _, err := os.Stat(filepath.Join(s.m.dir, countersFolder)); module == nil || err == nil {
		s.out.Gaps = append(s.out.Gaps, "conditions cannot be counted in this module: they are not compared")
		return nil, nil
	}
	path := strings.TrimSuffix(module.Path, "/") + "/" + countersFolder
	for _, file := range slices.Sorted(maps.Keys(s.call.Reached)) {
		at := filepath.Join(s.m.dir, filepath.FromSlash(file))
		text, ok := s.m.overlay[at]
		if !ok {
			continue // of another module
		}
		set := token.NewFileSet()
		syntax, err := parser.ParseFile(set, at, text, parser.SkipObjectResolution)
		if err != nil {
			return nil, fmt.Errorf("read the conditions of %s: %w", file, err)
		}
		w := fileWatch{s: s, set: set, file: file, first: len(list)}
		w.find(syntax)
		if len(w.list) == 0 {
			continue
		}
		s.insert(set.Position(syntax.Name.End()), "; import "+countersName+" "+strconv.Quote(path))
		list = append(list, w.list...)
	}
	if len(list) > 0 {
		s.m.overlay[filepath.Join(s.m.dir, countersFolder, countersName+".go")] = fmt.Appendf(nil, countersText, len(list))
		s.h.counters = path
	}
	return list, nil
}

// fileWatch finds the conditions of a file.
type fileWatch struct {
	s     *supposer
	set   *token.FileSet
	file  string
	first int // number of its first condition
	list  []watched
	// statements is the number of those that begin on each line, and are recorded there.
	statements map[int]int
}

func (w *fileWatch) line(p token.Pos) int { return w.set.Position(p).Line }

func (w *fileWatch) find(file *ast.File) {
	w.statements = map[int]int{}
	parts := map[ast.Node]bool{} // statements that are recorded as a part of another one
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.IfStmt:
			parts[n.Init] = true
		case *ast.ForStmt:
			parts[n.Init], parts[n.Post] = true, true
		case *ast.SwitchStmt:
			parts[n.Init] = true
		case *ast.TypeSwitchStmt:
			parts[n.Init], parts[n.Assign] = true, true
		case *ast.CommClause:
			parts[n.Comm] = true
		}
		switch n := n.(type) {
		case *ast.BlockStmt, *ast.CaseClause, *ast.CommClause, *ast.LabeledStmt, *ast.EmptyStmt:
		case ast.Stmt:
			if !parts[n] {
				w.statements[w.line(n.Pos())]++
			}
		}
		return true
	})
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.IfStmt:
			if x, ok := w.guards(types.ExprString(n.Cond), n, n.Body.List); ok && w.statements[x.line] == 1 {
				x.isIf = true
				w.s.insert(w.set.Position(n.Cond.Pos()), fmt.Sprintf("%s.If(%d, bool(", countersName, w.first+len(w.list)))
				w.s.insert(w.set.Position(n.Cond.End()), "))")
				w.list = append(w.list, x)
			}
		case *ast.ForStmt:
			if n.Cond != nil {
				w.body(types.ExprString(n.Cond), n, n, n.Body.List)
			}
		case *ast.RangeStmt:
			w.body("range "+types.ExprString(n.X), n, n, n.Body.List)
		case *ast.SwitchStmt:
			w.clauses(n, n.Body)
		case *ast.TypeSwitchStmt:
			w.clauses(n, n.Body)
		}
		return true
	})
}

func (w *fileWatch) clauses(of ast.Stmt, body *ast.BlockStmt) {
	for _, c := range body.List {
		if c, ok := c.(*ast.CaseClause); ok {
			w.body(clauseText(c.List), c, of, c.Body)
		}
	}
}

// clauseText is the text of a clause.
func clauseText(list []ast.Expr) string {
	if list == nil {
		return "default"
	}
	var all []string
	for _, e := range list {
		all = append(all, types.ExprString(e))
	}
	return "case " + strings.Join(all, ", ")
}

// body counts how often a body is entered.
func (w *fileWatch) body(expression string, n, head ast.Stmt, body []ast.Stmt) {
	if x, ok := w.guards(expression, n, body); ok {
		x.head = w.line(head.Pos())
		w.s.insert(w.set.Position(body[0].Pos()), fmt.Sprintf("%s.True(%d); ", countersName, w.first+len(w.list)))
		w.list = append(w.list, x)
	}
}

// guards describes the condition of a statement before a body. ok is set if the recorded lines tell how often the body was entered.
func (w *fileWatch) guards(expression string, n ast.Stmt, body []ast.Stmt) (x watched, ok bool) {
	if len(body) == 0 {
		return x, false
	}
	x = watched{file: w.file, expression: expression, line: w.line(n.Pos()), head: w.line(n.Pos()), body: w.line(body[0].Pos())}
	switch body[0].(type) {
	case *ast.LabeledStmt, *ast.EmptyStmt, *ast.BlockStmt:
		return x, false
	case *ast.ForStmt, *ast.RangeStmt:
		x.atLeast = true
	}
	return x, x.body != x.line && w.statements[x.body] == 1
}

// otherwise lists the conditions that turn out differently, in the order in which the recorded call reached them.
func otherwise(list []watched, call replay.MadeCall, report map[string]string) []Otherwise {
	out := []Otherwise{}
	for i, x := range list {
		var isTrue, reached int
		if _, err := fmt.Sscan(report[conditionRoot(i)], &isTrue, &reached); err != nil {
			continue
		}
		at, body := call.Reached[x.file][x.head], call.Reached[x.file][x.body]
		if at.Hits == 0 || x.isIf && reached == 0 {
			continue
		}
		before, after := body.Hits, isTrue
		if x.atLeast {
			before, after = min(before, 1), min(after, 1)
		}
		was, would := counted(before, x.atLeast), counted(after, x.atLeast)
		if x.isIf && !x.atLeast {
			was, would = outcome(before, at.Hits), outcome(after, reached)
		}
		if was != would {
			out = append(out, Otherwise{File: x.file, Line: x.line, First: at.First, Expression: x.expression, Recorded: was, Supposed: would})
		}
	}
	slices.SortStableFunc(out, func(a, b Otherwise) int { return cmp.Compare(a.First, b.First) })
	return out
}

// counted says how often a condition was true; atLeast, only whether it was.
func counted(times int, atLeast bool) string {
	switch {
	case times == 0:
		return "false"
	case atLeast:
		return "true"
	case times == 1:
		return "true once"
	}
	return fmt.Sprintf("true %d times", times)
}

// outcome says how often a condition was true.
func outcome(times, of int) string {
	switch {
	case times == 0:
		return "false"
	case times >= of:
		return "true"
	}
	return fmt.Sprintf("true %d of %d times", times, of)
}
