package failure

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// The messages of the Go runtime's panics about an operand (package runtime, error.go and
// panic.go).
var (
	indexMessage  = regexp.MustCompile(`index out of range \[(-?\d+)\]`)
	assertMessage = regexp.MustCompile(`interface conversion: .*? is (.+?), not `)
)

// operand is an expression of the failing line whose value made it fail.
type operand struct {
	name string
	is   string // what is wrong with it
	bad  func(replay.Value) bool
}

// explain names the operand of the failing line that was bad, its value, and how far up it was
// passed in. It changes nothing if it finds none.
func (r Finder) explain(f *replay.Failure) {
	c := r.T.CallOf(f.Moment)
	l, ok := r.lineOf(c, f.Moment)
	if !ok || f.Kind != "panic" {
		return
	}
	o, ok := l.operand(f.Summary)
	if !ok {
		return
	}
	f.Suspect = o.name
	f.Summary += "; " + o.is
	if from := r.passedIn(c, o); from != "" {
		f.Summary += "; " + from
	}
}

// failingLine is a line with the frame in which it failed.
type failingLine struct {
	scope state.Scope
	site  *event.Site
}

// lineOf returns the line that a call has reached at a moment.
func (r Finder) lineOf(c event.CallID, at event.Moment) (failingLine, bool) {
	if c == event.NoCall {
		return failingLine{}, false
	}
	line := r.T.LastLine(c, at)
	if line == event.NoMoment {
		return failingLine{}, false
	}
	return failingLine{r.ScopeOf(c, at), r.T.Site(line)}, true
}

func (l failingLine) value(name string) (replay.Value, bool) {
	p, err := replay.ParsePath(name)
	if err != nil {
		return replay.Value{}, false
	}
	_, v, err := l.scope.Locate(p, nil)
	return v, err == nil && v.State == event.Known
}

func (l failingLine) operand(message string) (operand, bool) {
	switch {
	case indexMessage.MatchString(message):
		want, _ := strconv.ParseInt(indexMessage.FindStringSubmatch(message)[1], 10, 64)
		return l.index(want)
	case strings.Contains(message, "nil pointer dereference"):
		return l.nilOperand(func(v replay.Value) bool {
			return v.Nil && (v.Form() == event.Pointer || v.Form() == event.Interface || v.Form() == event.Func)
		})
	case strings.Contains(message, "assignment to entry in nil map"):
		return l.nilOperand(func(v replay.Value) bool { return v.Nil && v.Form() == event.Map })
	case strings.Contains(message, "integer divide by zero"):
		return l.divisor()
	case assertMessage.MatchString(message):
		dynamic := assertMessage.FindStringSubmatch(message)[1]
		for _, name := range l.site.Reads {
			if v, ok := l.value(name); ok && v.Form() == event.Interface && (len(v.Items) == 1 && v.Items[0].Type != nil && v.Items[0].Type.Name == dynamic || v.Nil && dynamic == "nil") {
				return operand{name, fmt.Sprintf("%s is %s", name, held(v)), func(x replay.Value) bool { return x.TypeName() == v.TypeName() }}, true
			}
		}
	}
	return operand{}, false
}

func held(v replay.Value) string {
	if v.Nil {
		return "nil"
	}
	return fmt.Sprintf("a %s, %s", v.Items[0].Type.Name, v.Text())
}

// index finds the index expression whose index has a value that its list does not have.
func (l failingLine) index(want int64) (operand, bool) {
	for _, text := range slices.Concat(l.site.Reads, l.site.Writes) {
		e, err := parser.ParseExpr(text)
		if err != nil {
			continue
		}
		x, ok := e.(*ast.IndexExpr)
		if !ok {
			continue
		}
		part := func(n ast.Node) string { return text[n.Pos()-1 : n.End()-1] }
		list, listKnown := l.value(part(x.X))
		n, ok := l.number(x.Index, part)
		if !ok || n != want || !listKnown {
			continue
		}
		is := fmt.Sprintf("%s has %d elements", part(x.X), list.Count())
		if part(x.Index) != strconv.FormatInt(n, 10) {
			is = fmt.Sprintf("%s is %d, %s", part(x.Index), n, is)
		}
		name := part(x.Index)
		if _, isPath := l.value(name); !isPath {
			name = part(x.X)
		}
		return operand{name, is, func(v replay.Value) bool { return v.Form() == event.Int && v.Int == want }}, true
	}
	return operand{}, false
}

// number evaluates an index: sums, differences and products of names and numbers.
func (l failingLine) number(e ast.Expr, part func(ast.Node) string) (int64, bool) {
	switch x := e.(type) {
	case *ast.ParenExpr:
		return l.number(x.X, part)
	case *ast.BasicLit:
		n, err := strconv.ParseInt(x.Value, 0, 64)
		return n, err == nil
	case *ast.BinaryExpr:
		a, ok := l.number(x.X, part)
		b, ok2 := l.number(x.Y, part)
		if !ok || !ok2 {
			return 0, false
		}
		switch x.Op {
		case token.ADD:
			return a + b, true
		case token.SUB:
			return a - b, true
		case token.MUL:
			return a * b, true
		}
		return 0, false
	}
	v, ok := l.value(part(e))
	switch {
	case !ok:
		return 0, false
	case v.Form() == event.Int:
		return v.Int, true
	case v.Form() == event.Uint:
		return int64(v.Uint), true
	}
	return 0, false
}

// nilOperand finds a name with a nil value that other names of the line go through, or else any
// name with such a value.
func (l failingLine) nilOperand(bad func(replay.Value) bool) (operand, bool) {
	names := slices.Concat(l.site.Reads, l.site.Writes)
	for _, name := range slices.Clone(names) { // the roots of what is written are not read
		for i, c := range name {
			if c == '.' || c == '[' {
				names = append(names, name[:i])
			}
		}
	}
	found := ""
	for _, name := range names {
		v, ok := l.value(name)
		if !ok || !bad(v) {
			continue
		}
		through := slices.ContainsFunc(names, func(other string) bool {
			return strings.HasPrefix(other, name+".") || strings.HasPrefix(other, name+"[") || other == "*"+name
		})
		if through || found == "" {
			found = name
		}
		if through {
			break
		}
	}
	return operand{found, found + " is nil", bad}, found != ""
}

// divisor finds the name after a division sign whose value is zero.
func (l failingLine) divisor() (operand, bool) {
	zero := func(v replay.Value) bool {
		return v.Form() == event.Int && v.Int == 0 || v.Form() == event.Uint && v.Uint == 0
	}
	for _, flow := range l.site.Flows {
		for _, name := range l.site.Reads {
			i := strings.LastIndex(flow.Text, name)
			before := strings.TrimRight(flow.Text[:max(i, 0)], " (")
			if v, ok := l.value(name); ok && i >= 0 && zero(v) && (strings.HasSuffix(before, "/") || strings.HasSuffix(before, "%")) {
				return operand{name, name + " is 0", zero}, true
			}
		}
	}
	return operand{}, false
}

// maxPassed limits the calls through which an argument is followed.
const maxPassed = 64

// passedIn describes how far up an operand that is a parameter was bad already.
func (r Finder) passedIn(c event.CallID, o operand) string {
	text := ""
	name := o.name
	for range maxPassed {
		f := r.T.FunctionOf(c)
		call := r.T.Call(c)
		i := slices.IndexFunc(f.Variables, func(v event.Variable) bool { return v.Name == name })
		if i < 0 || !slices.Contains(f.Parameters, event.VariableID(i)) {
			break
		}
		l, ok := r.lineOf(call.Parent, call.Enter)
		if !ok {
			break
		}
		at := slices.IndexFunc(l.site.Flows, func(x event.Flow) bool {
			return x.Kind == event.FlowArgument && x.Target == name && (x.Callee == f.Name || x.Callee == "" || strings.HasPrefix(x.Callee, ".") && strings.HasSuffix(f.Name, x.Callee))
		})
		if at < 0 {
			break
		}
		passed := l.site.Flows[at].Text
		text = fmt.Sprintf("%s passed it in as %s, line %d", r.FunctionName(call.Parent), passed, l.site.Line)
		if v, ok := l.value(passed); !ok || !o.bad(v) {
			break
		}
		c, name = call.Parent, passed
	}
	return text
}
