package reproduce

import (
	"context"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// Supposition is a value that is put in place of a recorded one. Name is a path from a parameter, the receiver, a package variable
// or a local variable; Value is an expression over the names of the frame.
type Supposition struct{ Name, Value string }

// ParseSupposition reads NAME=EXPRESSION.
func ParseSupposition(text string) (Supposition, error) {
	name, value, ok := strings.Cut(text, "=")
	s := Supposition{strings.TrimSpace(name), strings.TrimSpace(value)}
	if !ok || s.Name == "" || s.Value == "" || strings.HasPrefix(s.Value, "=") {
		return s, fault.InvalidRequest.New("for example draught=3.5", "invalid supposition %q: expected NAME=EXPRESSION", text)
	}
	return s, nil
}

// Supposed is what would follow from suppositions. Complete is set if Gaps is empty.
type Supposed struct {
	Function   string
	Changed    []Compared // Now is the supposed value
	Results    []Compared
	Conditions []Otherwise
	Error      string
	Gaps       []string
}

// Otherwise is a condition of the call, or of the calls that it makes, that turns out differently: of an if statement, a loop
// or a clause.
type Otherwise struct {
	File               string
	Line               int
	First              event.Moment // when the recorded call reached it
	Expression         string
	Recorded, Supposed string // "true", "false", or how often it was true
}

// at is where suppositions are made.
type at struct {
	moment event.Moment
	thread event.ThreadID
	frame  int
}

// Suppose makes the call of a frame with other values, and says what would differ from the recorded call. Nothing of it is kept. Errors are those of Write,
// and fault.InvalidPath and fault.NoName for names that cannot be set.
func Suppose(ctx context.Context, r replay.Recording, moment event.Moment, thread event.ThreadID, frame int, list []Supposition, o Options) (out Supposed, err error) {
	reader, err := CallsOf(r)
	if err != nil {
		return out, err
	}
	call, err := reader.MadeCall(ctx, moment, thread, frame)
	if err != nil {
		return out, err
	}
	_, m, err := prepare(ctx, r, call, o)
	if err != nil {
		return out, err
	}
	f, err := m.declared(call)
	if err != nil {
		return out, err
	}
	out = Supposed{Function: call.Function.Name, Changed: []Compared{}, Results: []Compared{}, Conditions: []Otherwise{}, Gaps: m.outsideGaps(r, reader, call)}
	h := newHarness(m, f)
	out.Gaps = append(out.Gaps, h.add(call)...)
	s := &supposer{ctx: ctx, r: r, m: m, f: f, call: call, h: h, at: at{moment, thread, frame}, out: &out}
	for _, x := range list {
		if err := s.put(x); err != nil {
			return out, err
		}
	}
	conditions, err := s.watch()
	if err != nil {
		return out, err
	}
	s.apply()
	got, err := h.run(ctx, nil, "")
	if err != nil {
		return out, err
	}
	if got.reports[0] == nil {
		out.Error = got.why(0)
		return out, nil
	}
	out.Results = compareRun(call, got.reports[0], false, h.stood).Results
	out.Conditions = otherwise(conditions, call, got.reports[0])
	return out, nil
}

// supposer puts suppositions into a call.
type supposer struct {
	ctx  context.Context
	r    replay.Recording
	m    *module
	f    target
	call replay.MadeCall
	h    *harness
	at   at
	out  *Supposed

	edits []edit
}

func (s *supposer) put(x Supposition) error {
	path, err := replay.ParsePath(x.Name)
	if err != nil {
		return err
	}
	if v, _ := s.root(path.Root); v == nil && path.Root == s.m.pkg.Name && len(path.Steps) > 0 && path.Steps[0].Field != "" {
		path = replay.Path{Root: path.Steps[0].Field, Steps: path.Steps[1:]} // a package variable, with its package
	}
	q, err := question.Parse(x.Value)
	if err != nil {
		return err
	}
	value, err := q.Ask(s.ctx, s.r, s.at.moment, s.at.thread, s.at.frame)
	if err != nil {
		return err
	}
	was := ""
	if v, err := question.Parse(x.Name); err == nil {
		if got, err := v.Ask(s.ctx, s.r, s.at.moment, s.at.thread, s.at.frame); err == nil {
			was = got.Text()
		}
	}
	s.out.Changed = append(s.out.Changed, Compared{x.Name, was, value.Value})
	root, isLocal := s.root(path.Root)
	if root == nil {
		return fmt.Errorf("%s: %w; suppose values of parameters, the receiver, package variables, or local variables of the frame", path.Root, fault.NoName)
	}
	t, steps, err := s.m.follow(root.Type(), path)
	if err != nil {
		return err
	}
	if isLocal {
		return s.local(x.Name, root, t, value)
	}
	n, err := nodeOf(t, value)
	if err != nil {
		return fmt.Errorf("%s: %w", x.Name, err)
	}
	name := root.Name()
	if root.Parent() == s.m.pkg.Types.Scope() {
		s.h.values[name] = true
		c := s.h.calls[0]
		if !slices.ContainsFunc(c.Globals, func(g setting) bool { return g.Root == name }) {
			c.Globals = append(c.Globals, setting{Root: name, Value: &node{K: "g", V: name}})
		}
	}
	s.h.calls[0].Sets = append(s.h.calls[0].Sets, setting{Root: name, Steps: steps, Value: n})
	return nil
}

// root finds the variable that a name means: a parameter, a local variable at the frame's line, or one of the package.
func (s *supposer) root(name string) (v *types.Var, isLocal bool) {
	sig := s.f.sig
	if recv := sig.Recv(); recv != nil && recv.Name() == name {
		return recv, false
	}
	for p := range sig.Params().Variables() {
		if p.Name() == name {
			return p, false
		}
	}
	if d := s.m.body(s.f.Func); d != nil && d.Body != nil {
		if _, line := s.m.position(d.Pos()); line > 0 {
			var found *types.Var
			frameLine := s.line()
			ast.Inspect(d.Body, func(n ast.Node) bool {
				id, ok := n.(*ast.Ident)
				if !ok || id.Name != name {
					return true
				}
				if o, ok := s.m.pkg.TypesInfo.Defs[id].(*types.Var); ok {
					if _, at := s.m.position(id.Pos()); at < frameLine {
						found = o
					}
				}
				return true
			})
			if found != nil {
				return found, true
			}
		}
	}
	if v, ok := s.m.pkg.Types.Scope().Lookup(name).(*types.Var); ok {
		return v, false
	}
	return nil, false
}

// line is the line of the frame.
func (s *supposer) line() int {
	frames, err := s.r.Frames(s.ctx, s.at.moment, s.at.thread)
	if err != nil || s.at.frame >= len(frames) {
		return 0
	}
	return frames[s.at.frame].Line
}

// local assigns to a local variable before the statement on the frame's line, whenever the call reaches it.
func (s *supposer) local(name string, root *types.Var, t types.Type, value question.Answer) error {
	text, err := literalOf(t, value)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	d, line := s.m.body(s.f.Func), s.line()
	var before ast.Stmt
	ast.Inspect(d.Body, func(n ast.Node) bool {
		var list []ast.Stmt
		switch n := n.(type) {
		case *ast.BlockStmt:
			list = n.List
		case *ast.CaseClause:
			list = n.Body
		case *ast.CommClause:
			list = n.Body
		}
		for _, x := range list {
			if _, at := s.m.position(x.Pos()); at == line && before == nil {
				before = x
			}
		}
		return true
	})
	if before == nil {
		return fault.InvalidRequest.New("name a moment at a whole statement", "%s: no statement begins on line %d, the frame's", name, line)
	}
	at := s.m.pkg.Fset.Position(before.Pos())
	source, ok := s.m.overlay[at.Filename]
	if !ok || at.Offset > len(source) {
		return fault.NoSource.New("", "%s: %w", filepath.Base(at.Filename), fault.NoSource)
	}
	s.insert(at, name+" = "+text+"; ")
	return nil
}

// edit is a text that is inserted into a source file.
type edit struct {
	at   token.Position
	text string
}

func (s *supposer) insert(at token.Position, text string) { s.edits = append(s.edits, edit{at, text}) }

// apply inserts the texts into the source that is built.
func (s *supposer) apply() {
	slices.SortStableFunc(s.edits, func(a, b edit) int { return b.at.Offset - a.at.Offset })
	for _, e := range s.edits {
		source := s.m.overlay[e.at.Filename]
		s.m.overlay[e.at.Filename] = []byte(string(source[:e.at.Offset]) + e.text + string(source[e.at.Offset:]))
	}
}

// follow finds the type at a path, and the steps as the harness takes them.
func (m *module) follow(t types.Type, path replay.Path) (types.Type, []string, error) {
	var steps []string
	invalid := func(why string) error {
		return fault.InvalidPath.New("use fields and numbers of elements, as order.Lines[2].Price", "%s: %s", path, why)
	}
	for _, s := range path.Steps {
		for {
			p, ok := t.Underlying().(*types.Pointer)
			if !ok || s.Deref {
				break
			}
			t = p.Elem()
		}
		switch {
		case s.Deref:
			p, ok := t.Underlying().(*types.Pointer)
			if !ok {
				return nil, nil, invalid("* of something that is not a pointer")
			}
			t, steps = p.Elem(), append(steps, "*")
		case s.Field != "":
			o, _, _ := types.LookupFieldOrMethod(t, true, m.pkg.Types, s.Field)
			f, ok := o.(*types.Var)
			if !ok {
				return nil, nil, invalid("no field " + s.Field)
			}
			t, steps = f.Type(), append(steps, s.Field)
		case s.Number != nil:
			switch u := t.Underlying().(type) {
			case *types.Slice:
				t = u.Elem()
			case *types.Array:
				t = u.Elem()
			default:
				return nil, nil, invalid("not a list")
			}
			steps = append(steps, "["+strconv.FormatInt(*s.Number, 10)+"]")
		default:
			return nil, nil, invalid("entries of maps cannot be supposed")
		}
	}
	return t, steps, nil
}

// scalarOf reads an answer as a value of a type.
func scalarOf(t types.Type, value question.Answer) (kind types.BasicInfo, text string, err error) {
	wrong := func() error {
		return fault.InvalidRequest.New("convert it with int(x), double(x) or string(x)", "%s is not a value of type %s", value.Value, types.TypeString(t, (*types.Package).Name))
	}
	u, ok := t.Underlying().(*types.Basic)
	if !ok {
		if value.Value == "null" || value.Value == "nil" {
			switch t.Underlying().(type) {
			case *types.Pointer, *types.Slice, *types.Map, *types.Interface, *types.Signature, *types.Chan:
				return 0, "", nil
			}
		}
		return 0, "", fault.InvalidRequest.New("suppose its fields or elements one by one", "only numbers, texts, truth values and null can be supposed, not a %s", types.TypeString(t, (*types.Package).Name))
	}
	switch info := u.Info(); {
	case info&types.IsBoolean != 0:
		if value.Value != "true" && value.Value != "false" {
			return 0, "", wrong()
		}
		return types.IsBoolean, value.Value, nil
	case info&types.IsUnsigned != 0:
		n, err := strconv.ParseUint(value.Value, 10, bits(u))
		if err != nil {
			return 0, "", wrong()
		}
		return types.IsUnsigned, strconv.FormatUint(n, 10), nil
	case info&types.IsInteger != 0:
		if n, err := strconv.ParseInt(value.Value, 10, bits(u)); err == nil {
			return types.IsInteger, strconv.FormatInt(n, 10), nil
		}
		return 0, "", wrong()
	case info&types.IsFloat != 0:
		f, err := strconv.ParseFloat(value.Value, 64)
		if err != nil {
			return 0, "", wrong()
		}
		return types.IsFloat, strconv.FormatFloat(f, 'g', -1, 64), nil
	case info&types.IsString != 0:
		if _, err := strconv.Unquote(value.Value); err != nil {
			return 0, "", wrong()
		}
		return types.IsString, value.Value, nil
	}
	return 0, "", wrong()
}

// bits is the size of a whole number.
func bits(u *types.Basic) int {
	switch u.Kind() {
	case types.Int8, types.Uint8:
		return 8
	case types.Int16, types.Uint16:
		return 16
	case types.Int32, types.Uint32:
		return 32
	}
	return 64
}

// nodeOf describes an answer for the harness.
func nodeOf(t types.Type, value question.Answer) (*node, error) {
	kind, text, err := scalarOf(t, value)
	if err != nil {
		return nil, err
	}
	if kind == 0 {
		return &node{}, nil
	}
	if kind == types.IsFloat {
		f, _ := strconv.ParseFloat(text, 64) // scalarOf wrote it
		text = strconv.FormatUint(math.Float64bits(f), 16)
	}
	return &node{K: "v", V: text}, nil
}

// literalOf writes an answer as Go.
func literalOf(t types.Type, value question.Answer) (string, error) {
	kind, text, err := scalarOf(t, value)
	switch {
	case err != nil:
		return "", err
	case kind == 0:
		return "nil", nil
	case kind == types.IsFloat && strings.ContainsAny(text, "IN"): // infinite, or not a number
		return "", fault.InvalidRequest.New("", "%s cannot be supposed for a local variable", text)
	case kind == types.IsString:
		s, _ := strconv.Unquote(text) // scalarOf read it
		return strconv.Quote(s), nil
	}
	return text, nil
}
