// Package question evaluates expressions over the names of a frame, in the open
// Common Expression Language. Names are resolved only when they are needed.
package question

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Question is a parsed expression. It can be asked anywhere and any number of times, also
// concurrently.
type Question struct {
	text    string
	program cel.Program
	path    ast.Expr // the expression, where it only names something
	quick   quick    // nil if the expression is not simple enough
	width   int      // parts of a composite value in the answer; 0 for a short text
	strict  bool     // a field that a record does not have is an error, also in a condition
}

// Strict returns the question as a condition that has no answer for records that lack one of its fields, instead of
// not holding for them.
func (q *Question) Strict() *Question {
	strict := *q
	strict.strict = true
	return &strict
}

// Wide returns the question with answers that have up to width parts of each composite value.
func (q *Question) Wide(width int) *Question {
	wide := *q
	wide.width = width
	return &wide
}

// textOf writes a value for an answer.
func (q *Question) textOf(v replay.Value) string {
	if q.width > 0 {
		return v.TextTo(q.width)
	}
	return v.Text()
}

// Answer is the result of a question. If State is event.MayHaveChanged, Value is the last known one
// and Why says what may have changed it; else State is event.Known.
type Answer struct {
	Value string
	Type  string
	State event.State
	Why   string
	From  []Latest
}

// Latest is where a value that latest(x) stands for comes from.
type Latest struct {
	Name   string       `json:"name"`
	Moment event.Moment `json:"moment"`
}

// Text returns the value, with a question mark if it may have changed.
func (a Answer) Text() string {
	if a.State == event.MayHaveChanged {
		return a.Value + "?"
	}
	return a.Value
}

// known returns an answer with a known value.
func known(value, typeName string) Answer {
	return Answer{Value: value, Type: typeName, State: event.Known}
}

// Parse reads an expression. The error wraps fault.InvalidExpression and names the place.
func Parse(text string) (*Question, error) {
	if strings.TrimSpace(text) == "" {
		return nil, fmt.Errorf("%w: it is empty", fault.InvalidExpression)
	}
	parsed, issues := environment.Parse(allowKeywords(text))
	if issues != nil && issues.Err() != nil {
		if d := bareDuration.FindString(text); d != "" {
			return nil, fmt.Errorf("%w: a duration is written as duration(%q)", fault.InvalidExpression, d)
		}
		return nil, fmt.Errorf("%w: %s", fault.InvalidExpression, syntaxError(text, issues.Errors()[0]))
	}
	q := &Question{text: text}
	if root := parsed.NativeRep().Expr(); isPath(root) {
		q.path = root
	}
	q.quick = compile(parsed.NativeRep().Expr())
	mixNumbers(parsed.NativeRep())
	program, err := environment.Program(parsed, cel.CostLimit(costLimit), cel.CostTracking(sized{}), cel.InterruptCheckFrequency(100))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.InvalidExpression, err)
	}
	q.program = program
	return q, nil
}

// errTypes means that an operator has no meaning for operands of these types.
var errTypes = errors.New("the types of the operands do not match")

// bareDuration matches a number with a unit of time.
var bareDuration = regexp.MustCompile(`\b\d+(?:\.\d+)?(?:ns|us|µs|ms|s|m|h)\b`)

// Names returns the names that the expression uses, without their parts.
func (q *Question) Names() []string {
	parsed, issues := environment.Parse(allowKeywords(q.text))
	if issues != nil && issues.Err() != nil {
		return nil
	}
	var names []string
	ast.PostOrderVisit(parsed.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if name, ok := pathText(e); ok && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}))
	return names
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return strings.TrimPrefix(line, "ERROR: ")
}

// Ask evaluates the question in a frame. Errors wrap fault.NoName for unknown names and
// fault.NoValue for names without a value.
func (q *Question) Ask(ctx context.Context, r replay.Recording, at event.Moment, t event.ThreadID, frame int) (Answer, error) {
	s := &scope{ctx: ctx, r: r, at: at, t: t, frame: frame}
	if q.path != nil {
		v, ok := s.follow(q.path)
		switch {
		case ok && v.State == event.Known:
			return known(q.textOf(v), v.TypeName()), nil
		case ok && v.State == event.MayHaveChanged && v.Last != nil:
			last := v.With(*v.Last)
			return Answer{Value: q.textOf(last), Type: last.TypeName(), State: v.State, Why: v.Why()}, nil
		}
	}
	out, err := q.eval(ctx, s)
	if err != nil {
		return Answer{}, err
	}
	if weight(out, 0, true) >= heaviest {
		return Answer{}, fmt.Errorf("%q: %w: the result has more than %d bytes or elements", q.text, fault.CostLimit, heaviest)
	}
	answer := q.answer(out)
	answer.From = s.from
	return answer, nil
}

// Holds evaluates the question as a condition in the innermost frame.
func (q *Question) Holds(ctx context.Context, r replay.Recording, at event.Moment, t event.ThreadID) (bool, error) {
	if q.quick != nil {
		s := scopes.Get().(*scope)
		*s = scope{ctx: ctx, r: r, at: at, t: t}
		s.scalars, _ = r.(scalars)
		v := q.quick(s)
		*s = scope{}
		scopes.Put(s)
		if v.kind == plainBool {
			return v.whole != 0, nil
		}
	}
	s := &scope{ctx: ctx, r: r, at: at, t: t}
	out, err := q.eval(ctx, s)
	if s.absent && !q.strict && errors.Is(err, fault.NoValue) {
		return false, nil // nothing holds of a field that the record does not have
	}
	if err != nil {
		return false, err
	}
	b, ok := out.(types.Bool)
	if !ok {
		return false, fmt.Errorf("%q: %w: a condition must be true or false, this is of type %s", q.text, fault.NoValue, out.Type().TypeName())
	}
	return bool(b), nil
}

func (q *Question) eval(ctx context.Context, s *scope) (ref.Val, error) {
	out, _, err := q.program.ContextEval(ctx, s)
	if s.err != nil {
		return nil, fmt.Errorf("%q: %w", q.text, s.err)
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if cancelled := (interpreter.EvalCancelledError{}); errors.As(err, &cancelled) && cancelled.Cause == interpreter.CostLimitExceeded {
			return nil, fmt.Errorf("%q: %w: more than %d steps", q.text, fault.CostLimit, costLimit)
		}
		if _, name, ok := strings.Cut(firstLine(err.Error()), "no such attribute(s): "); ok {
			return nil, fmt.Errorf("%q: %w", q.text, s.unknown(name))
		}
		if strings.Contains(err.Error(), "no such overload") {
			if s.cut != "" {
				return nil, fmt.Errorf("%q: %w: %s", q.text, fault.NoValue, s.cut)
			}
			return nil, fmt.Errorf("%q: %w: %w; int(x), double(x) and string(x) convert; durations are written as duration(\"250ms\"), times as timestamp(\"2026-11-25T10:00:00Z\")", q.text, fault.NoValue, errTypes)
		}
		return nil, fmt.Errorf("%q: %w: %s", q.text, fault.NoValue, firstLine(err.Error()))
	}
	return out, nil
}

func (q *Question) answer(v ref.Val) Answer {
	switch x := v.(type) {
	case object:
		return known(q.textOf(x.v), x.v.TypeName())
	case types.Duration:
		return known(x.Duration.String(), event.DurationType)
	case types.Timestamp:
		return known(x.Format(time.RFC3339Nano), event.TimestampType)
	case types.String:
		return known(fmt.Sprintf("%q", string(x)), "string")
	case exactNumber:
		if x.float {
			return known(x.String(), "double")
		}
		return known(x.String(), "int")
	case types.Null:
		return known("null", "null")
	case traits.Mapper:
		return known(q.listText("{", x.Iterator(), "}", func(key ref.Val) string {
			return q.answer(key).Value + ": " + q.answer(x.Get(key)).Value
		}), "map")
	case traits.Lister:
		return known(q.listText("[", x.Iterator(), "]", func(part ref.Val) string { return q.answer(part).Value }), "list")
	case *types.Err:
		return known("<"+firstLine(x.Error())+">", "error")
	}
	return known(fmt.Sprint(v.Value()), v.Type().TypeName())
}

// usualWidth is the number of parts of a list that an expression made, in an answer.
const usualWidth = 16

// listText writes the parts of a list or map that an expression made.
func (q *Question) listText(open string, parts traits.Iterator, end string, write func(ref.Val) string) string {
	var list []string
	for n := 0; parts.HasNext() == types.True; n++ {
		part := parts.Next()
		if n == max(q.width, usualWidth) {
			list = append(list, "…")
			break
		}
		list = append(list, write(part))
	}
	return open + strings.Join(list, ", ") + end
}

// scope resolves the names of one frame at one moment.
type scope struct {
	ctx   context.Context
	r     replay.Recording
	at    event.Moment
	t     event.ThreadID
	frame int
	err   error
	from  []Latest // of what latest(x) stands for

	cut    string // why a text is known in part
	absent bool   // a name is a field that the record does not have

	scalars scalars // of the recording, for the innermost frame; nil if it has none
}

// scopes are those of conditions that are evaluated without CEL, at very many moments.
var scopes = sync.Pool{New: func() any { return &scope{} }}

// ResolveName implements interpreter.Activation.
func (s *scope) ResolveName(name string) (any, bool) {
	if path, ok := strings.CutPrefix(name, oldName); ok {
		past, ok := s.r.(replay.Past)
		if !ok {
			return types.NewErr("the evidence has one moment only"), true
		}
		v, err := past.ValueBefore(s.ctx, path, s.at, s.t, s.frame)
		if err != nil {
			return types.NewErr("old(%s): %s", path, err), true
		}
		return toCEL("old("+path+")", v), true
	}
	if of, ok := strings.CutPrefix(name, latestName); ok {
		return s.latest(of), true
	}
	if of, ok := strings.CutPrefix(name, castName); ok {
		return s.castTo(of), true
	}
	v, ok, err := s.r.Variable(s.ctx, s.at, s.t, s.frame, name)
	if err != nil {
		s.err = err
		return nil, false
	}
	if !ok {
		if !strings.Contains(name, ".") && s.err == nil && len(within(name, s.names())) == 0 {
			s.err = s.unknown(name)
		}
		return nil, false
	}
	s.err = nil
	if b, ok := toCEL(name, v.Value).(beginning); ok {
		s.cut = b.why()
	}
	if v.Value.Nil && v.Written == event.NoMoment {
		_, s.absent = s.r.(replay.Records)
	}
	return toCEL(name, v.Value), true
}

// latest returns the value of a field in the last record that had it, and remembers the record.
func (s *scope) latest(name string) ref.Val {
	records, ok := s.r.(replay.Records)
	if !ok {
		return types.NewErr("latest needs evidence of records; a recording has a value at each moment")
	}
	v, err := records.Latest(s.ctx, s.at, s.t, s.frame, name)
	if err != nil {
		return types.NewErr("%s", err)
	}
	if source := (Latest{name, v.Written}); !slices.Contains(s.from, source) {
		s.from = append(s.from, source)
	}
	return toCEL("latest("+name+")", v.Value)
}

// castTo finds a type by name, if the evidence can do that.
func (s *scope) castTo(name string) ref.Val {
	machine, ok := s.r.(replay.Machine)
	if !ok {
		return types.NewErr("cast needs the memory of a core dump")
	}
	memory := machine.Types()
	of, err := memory.TypeNamed(name)
	if err != nil {
		return types.NewErr("%s", err)
	}
	if of == nil {
		return types.NewErr("the debug information has no type %s", name)
	}
	return castTo{object: object{replay.Value{Memory: memory}}, of: of}
}

// Parent implements interpreter.Activation.
func (s *scope) Parent() interpreter.Activation { return nil }

func (s *scope) names() []string {
	list, err := s.r.Variables(s.ctx, s.at, s.t, s.frame)
	if err != nil {
		return nil
	}
	var names []string
	for _, v := range list {
		names = append(names, v.Name)
	}
	return names
}

// within lists the names that a name is a prefix of: variables of a package, or fields.
func within(name string, names []string) (list []string) {
	for _, n := range names {
		if strings.HasPrefix(n, name+".") {
			list = append(list, n)
		}
	}
	return list
}

func (s *scope) unknown(name string) error {
	names := s.names()
	if list := within(name, names); len(list) > 0 {
		return fmt.Errorf("%s: %w, but %s", name, fault.NoName, strings.Join(list[:min(len(list), 8)], ", "))
	}
	sort.SliceStable(names, func(i, j int) bool { return distance(name, names[i]) < distance(name, names[j]) })
	switch {
	case len(names) == 0:
		return fmt.Errorf("%s: %w; the frame has no variables", name, fault.NoName)
	case distance(name, names[0]) <= max(2, len(name)/3):
		return fmt.Errorf("%s: %w; did you mean %s?", name, fault.NoName, names[0])
	}
	return fmt.Errorf("%s: %w; there are %s", name, fault.NoName, strings.Join(names[:min(len(names), 8)], ", "))
}

// distance is the edit distance between two names, ignoring letter case (Wagner and Fischer, 1974).
func distance(a, b string) int {
	a, b = strings.ToLower(a), strings.ToLower(b)
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost++
			}
			diagonal = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}

func isPath(e ast.Expr) bool {
	switch e.Kind() {
	case ast.IdentKind:
		return true
	case ast.SelectKind:
		return !e.AsSelect().IsTestOnly() && isPath(e.AsSelect().Operand())
	case ast.CallKind:
		c := e.AsCall()
		return c.FunctionName() == operators.Index && isPath(c.Args()[0]) && c.Args()[1].Kind() == ast.LiteralKind
	}
	return false
}

// follow resolves an expression that is a name or path and keeps its type.
func (s *scope) follow(e ast.Expr) (replay.Value, bool) {
	switch e.Kind() {
	case ast.IdentKind:
		v, ok, err := s.r.Variable(s.ctx, s.at, s.t, s.frame, e.AsIdent())
		return v.Value, ok && err == nil
	case ast.SelectKind:
		if name, ok := pathText(e); ok {
			if v, ok, err := s.r.Variable(s.ctx, s.at, s.t, s.frame, name); ok && err == nil {
				return v.Value, true
			}
		}
		if v, ok := s.follow(e.AsSelect().Operand()); ok {
			f := v.Field(e.AsSelect().FieldName())
			return f, f.Type != nil
		}
	case ast.CallKind:
		if v, ok := s.follow(e.AsCall().Args()[0]); ok {
			if key, ok := e.AsCall().Args()[1].AsLiteral().(types.String); ok {
				return entryOf(v.Settled(), string(key))
			}
			if i, ok := e.AsCall().Args()[1].AsLiteral().(types.Int); ok && i >= 0 && v.Form() != event.Map {
				if x, ok := v.Beyond(int64(i)); ok {
					return x, x.State == event.Known
				}
				x := v.Element(uint64(i))
				return x, x.Type != nil && x.State != event.Unrecorded
			}
		}
	}
	return replay.Value{}, false
}

// entryOf returns the entry of a map whose key is a text.
func entryOf(m replay.Value, key string) (replay.Value, bool) {
	if m.Form() != event.Map || m.State != event.Known || m.Nil {
		return replay.Value{}, false
	}
	pairs, _ := m.Memory.Entries(m.Address, m.Type)
	for i := 0; i+1 < len(pairs); i += 2 {
		if k := pairs[i]; k.State == event.Known && k.Form() == event.Text && k.Text == key {
			return m.With(pairs[i+1]), true
		}
	}
	return replay.Value{}, false
}
