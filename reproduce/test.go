// Package reproduce makes recorded calls again: it writes a Go test that rebuilds what a call was given, makes the call, and
// compares what it gives back with the recording; and it runs such calls, with other values or against other source.
//
// Evidence is not trusted. Names in what is written come from the type-checked source, never from the recording, and texts
// are quoted. What is written runs in package sandbox only.
package reproduce

import (
	"context"
	"fmt"
	"go/format"
	"go/scanner"
	"go/token"
	"go/types"
	"go/version"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/calls"
)

// Options say how a call is made again.
type Options struct {
	Source string // root of the module; empty for the recorded one
	Link   string // names the call in the test
}

// Test is a test that makes a recorded call again. It is complete if Gaps is empty: everything that the call was given is
// rebuilt as it was.
type Test struct {
	Function string
	File     string // where the test belongs, relative to the module
	Name     string
	Text     string // of the test's file
	Gaps     []string
	call     replay.MadeCall
	m        *module
	f        target
}

// Complete reports whether everything is rebuilt as it was.
func (t *Test) Complete() bool { return len(t.Gaps) == 0 }

// CallsOf returns the calls of a recording. The error wraps fault.NoHistory if it is not an execution log.
func CallsOf(r replay.Recording) (replay.Calls, error) {
	c, ok := r.(replay.Calls)
	if !ok {
		return nil, fmt.Errorf("%w: only an execution log has calls that can be made again", fault.NoHistory)
	}
	return c, nil
}

// Write writes the test of a call. Errors wrap fault.NotRemade if the call cannot be made again at all, and fault.BuildFailed if
// the source does not compile.
func Write(ctx context.Context, r replay.Recording, call replay.MadeCall, o Options) (*Test, error) {
	reader, m, err := prepare(ctx, r, call, o)
	if err != nil {
		return nil, err
	}
	return m.test(r, reader, call, o.Link)
}

// prepare loads the recorded source of a call that can be made by itself.
func prepare(ctx context.Context, r replay.Recording, call replay.MadeCall, o Options) (replay.Calls, *module, error) {
	reader, err := CallsOf(r)
	if err != nil {
		return nil, nil, err
	}
	if err := canBeMade(call); err != nil {
		return nil, nil, err
	}
	dir, err := sourceOf(r, o.Source)
	if err != nil {
		return nil, nil, err
	}
	m, err := load(ctx, dir, recordedSource(r, dir, reader.SourceFiles()), call, buildFlags(r.Info().Command))
	return reader, m, err
}

// test writes the test of a call of the module's package.
func (m *module) test(r replay.Recording, reader replay.Calls, call replay.MadeCall, link string) (*Test, error) {
	f, err := m.declared(call)
	if err != nil {
		return nil, err
	}
	a := assemble(m, f, call)
	a.b.gaps = append(m.outsideGaps(r, reader, call), a.b.gaps...)
	t := &Test{Function: call.Function.Name, Name: "TestReproduce" + exported(f), call: call, m: m, f: f}
	t.File = path.Join(m.folder, "reproduce_"+strings.ToLower(f.Name())+"_test.go")
	if t.Text, err = a.test(t.Name, link); err != nil {
		return nil, err
	}
	t.Gaps = a.b.gaps
	return t, nil
}

// canBeMade refuses calls that cannot be made by themselves.
func canBeMade(call replay.MadeCall) error {
	name := call.Function.Name
	last := name[len(calls.PackageOf(name)):]
	switch {
	case name == "main.main":
		return fault.NotRemade.New("run the recorded command again: wraith peek EVIDENCE shows it", "%w: main is the whole program", fault.NotRemade)
	case strings.HasSuffix(call.File, "_test.go") && strings.HasPrefix(strings.TrimPrefix(last, "."), "Test"):
		return fault.NotRemade.New("run the recorded command again: wraith peek EVIDENCE shows it", "%w: %s is a whole test", fault.NotRemade, name)
	case call.Outcome == replay.IsUnfinished:
		return fault.NotRemade.New("name a frame whose call returns or panics", "%w: the recording ends before the call of %s does", fault.NotRemade, name)
	}
	return nil
}

// exported returns the name of a function in that of a test.
func exported(f target) string {
	upper := func(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
	name := upper(f.Name())
	if recv := f.sig.Recv(); recv != nil {
		t := types.Unalias(recv.Type())
		if p, ok := t.(*types.Pointer); ok {
			t = types.Unalias(p.Elem())
		}
		if n, ok := t.(*types.Named); ok {
			name = upper(n.Obj().Name()) + name
		}
	}
	return name
}

// assembly is a call that is made again: statements that build its arguments, the call, and the names of what it gives back.
type assembly struct {
	b        *builder
	f        target
	call     replay.MadeCall
	globals  []string // statements that set package variables
	decls    []string // of the arguments
	args     []string
	roots    []root // arguments that can be looked into after the call
	results  []string
	callText string
	standIns map[standKey]string // their names; empty where there can be none
}

// root is an argument: its recorded name, its name in the test, and its values before and after the call.
type root struct {
	name, expr    string
	of            types.Type
	before, after replay.Value
}

// assemble builds a call's arguments.
func assemble(m *module, f target, call replay.MadeCall) *assembly {
	b := newBuilder(m)
	b.names["t"] = true
	a := &assembly{b: b, f: f, call: call, standIns: map[standKey]string{}}
	b.call, b.stands, b.standsFor = &call, a.standIn, a.interfaceStandIn
	b.standSuffix = "In" + exported(f)
	a.findGlobals()
	sig := f.sig
	params, given := a.match()
	set := a.changedGlobals()
	for _, g := range set {
		b.scan(g.of.Type(), g.Before, g.Name)
	}
	for i, p := range params {
		if given[i] != nil {
			b.scan(p.Type(), given[i].Value, p.Name())
		}
	}
	if b.full {
		b.gap(call.Function.Name, "its arguments have more than %d parts", mostParts)
	}
	b.nest()
	held := b.outerLocks()
	for _, g := range set {
		a.setGlobal(g)
	}
	for i, p := range params {
		a.argument(p, given[i], i == 0 && sig.Recv() != nil)
	}
	a.locks(held)
	a.callText = a.callExpr(sig)
	for i := range sig.Results().Len() {
		res := sig.Results().At(i)
		name := res.Name()
		switch {
		case name != "" && name != "_":
		case res.Type().String() == "error":
			name = "err"
		case sig.Results().Len() > 1:
			name = "got" + strconv.Itoa(i+1)
		default:
			name = "got"
		}
		a.results = append(a.results, b.unique(name))
	}
	return a
}

// match pairs the receiver and the parameters of the source with the recorded ones; nil for those that have no name, and no value.
func (a *assembly) match() (params []*types.Var, given []*replay.Variable) {
	sig := a.f.sig
	if sig.Recv() != nil {
		params = append(params, sig.Recv())
	}
	for v := range sig.Params().Variables() {
		params = append(params, v)
	}
	recorded := a.call.Parameters
	given = make([]*replay.Variable, len(params))
	for i, p := range params {
		if p.Name() != "" && p.Name() != "_" && len(recorded) > 0 && recorded[0].Name == p.Name() {
			given[i] = &recorded[0]
			recorded = recorded[1:]
		}
	}
	if len(recorded) > 0 {
		a.b.gap(recorded[0].Name, "the function has no such parameter in the source")
	}
	return params, given
}

// global is a package variable that can be named in the test.
type global struct {
	replay.MadeGlobal
	of   *types.Var
	expr string
}

// named finds a package variable in the source.
func (a *assembly) named(g replay.MadeGlobal) (global, bool) {
	m := a.b.m
	for _, p := range m.all {
		if p.Path() != g.Package && p.Name() != g.Package && !(g.Package == "main" && p == m.pkg.Types) {
			continue
		}
		v, ok := p.Scope().Lookup(g.Name).(*types.Var)
		if !ok {
			continue
		}
		if !a.b.accessible(v) {
			return global{}, false
		}
		expr := g.Name
		if p != m.pkg.Types {
			expr = p.Name() + "." + g.Name
		}
		return global{g, v, expr}, true
	}
	return global{}, false
}

// findGlobals finds the objects that package variables refer to since the program was initialised: errors, tables.
func (a *assembly) findGlobals() {
	for _, g := range a.call.Globals {
		if g.Used && !g.IsFresh() {
			continue
		}
		v := g.Before
		if v.Form() == event.Interface && len(v.Items) == 1 {
			v = v.With(v.Items[0])
		}
		if v.State != event.Known || v.Form() != event.Pointer || v.Nil || v.Address == 0 {
			continue
		}
		if x, ok := a.named(g); ok && a.b.globals[v.Address].name == "" {
			expr := x.Name
			if x.of.Pkg() != a.b.m.pkg.Types {
				expr = a.b.use(x.of.Pkg().Path(), x.of.Pkg().Name()) + "." + x.Name
			}
			isFresh := g.IsFresh
			if g.Before.Form() == event.Interface { // an error, of which the identity counts
				isFresh = func() bool { return true }
			}
			a.b.globals[v.Address] = knownGlobal{expr, isFresh}
		}
	}
}

// changedGlobals lists the package variables that have to be set because the program changed them after its initialisation.
func (a *assembly) changedGlobals() (list []global) {
	for _, g := range a.call.Globals {
		if !g.Used || g.IsFresh() {
			continue
		}
		x, ok := a.named(g)
		switch {
		case !ok:
			a.b.gap(g.Package+"."+g.Name, "the package variable cannot be named here")
		case isOpaque(x.of.Type()):
		case g.Before.State != event.Known:
			a.b.gap(g.Name, "%s; the package variable stays as its initialisation leaves it", unknown(g.Before))
		default:
			list = append(list, x)
		}
	}
	return list
}

func (a *assembly) setGlobal(g global) {
	b := a.b
	expr := g.Name
	if g.of.Pkg() != b.m.pkg.Types {
		expr = b.use(g.of.Pkg().Path(), g.of.Pkg().Name()) + "." + g.Name
	}
	value := b.expr(g.of.Type(), g.Before, place{path: g.Name, lvalue: expr}, false)
	was := b.unique("was" + strings.ToUpper(g.Name[:1]) + g.Name[1:])
	a.globals = append(a.globals, was+" := "+expr, "t.Cleanup(func() { "+expr+" = "+was+" })", expr+" = "+value)
	a.roots = append(a.roots, root{name: g.Name, expr: expr, of: g.of.Type(), before: g.Before, after: g.After})
}

// mostInline is the longest text of an argument that is written into the call.
const mostInline = 40

// argument builds an argument, or the receiver.
func (a *assembly) argument(p *types.Var, v *replay.Variable, isReceiver bool) {
	b := a.b
	if v == nil {
		expr := b.zero(p.Type())
		if isReceiver {
			expr = b.typed(p.Type(), expr, true)
			if under, ok := types.Unalias(p.Type()).(*types.Pointer); ok {
				text, _ := b.typeText(under.Elem())
				expr = "new(" + text + ")"
			}
		}
		a.args = append(a.args, expr)
		return
	}
	name := b.unique(p.Name())
	if b.isNamed(v.Value) {
		delete(b.names, name) // the object has the name of the parameter
	}
	expr := b.expr(p.Type(), v.Value, place{path: p.Name(), lvalue: name}, true)
	after := v.Value
	for _, x := range a.call.After {
		if x.Name == v.Name {
			after = x.Value
		}
	}
	_, isBasic := p.Type().Underlying().(*types.Basic)
	_, isInterface := p.Type().Underlying().(*types.Interface)
	switch {
	case isBasic && !isReceiver && len(expr) <= mostInline && !strings.Contains(expr, "\n"):
		delete(b.names, name)
		a.args = append(a.args, b.expr(p.Type(), v.Value, place{path: p.Name()}, false))
		return
	case b.declared[expr] && !isInterface: // an object that has its name already
		if name != expr {
			delete(b.names, name)
		}
		name = expr
	case expr == "nil" || strings.HasPrefix(expr, "(") && strings.HasSuffix(expr, "(nil)"):
		text, _ := b.typeText(p.Type())
		a.decls = append(a.decls, "var "+name+" "+text)
	default:
		if isInterface {
			text, _ := b.typeText(p.Type())
			expr = "var " + name + " " + text + " = " + expr
			a.decls = append(a.decls, expr)
			break
		}
		a.decls = append(a.decls, name+" := "+expr)
	}
	a.args = append(a.args, name)
	a.roots = append(a.roots, root{name: p.Name(), expr: name, of: p.Type(), before: v.Value, after: after})
}

// isNamed reports whether a value is a pointer to an object that is declared by itself, and is not yet.
func (b *builder) isNamed(v replay.Value) bool {
	if v.State != event.Known || v.Form() != event.Pointer || v.Nil {
		return false
	}
	o := b.objects[spot{v.Address, v.Type.Elem, false}]
	return o != nil && o.state == 0 && o.within == nil && (o.refs > 1 || b.needsName(o.gt))
}

func (a *assembly) callExpr(sig *types.Signature) string {
	name, args := a.f.Name(), slices.Clone(a.args)
	if list, ok := a.b.typeList(a.f.args); ok && len(a.f.args) > 0 {
		name += "[" + list + "]"
	}
	if sig.Recv() != nil {
		receiver := args[0]
		if strings.HasPrefix(receiver, "&") || strings.HasPrefix(receiver, "*") {
			receiver = "(" + receiver + ")"
		}
		name, args = receiver+"."+name, args[1:]
	}
	if sig.Variadic() && len(args) > 0 {
		args[len(args)-1] += "..."
	}
	return name + "(" + strings.Join(args, ", ") + ")"
}

// standIn writes a function that returns what was returned during the recorded call, in order.
func (a *assembly) standIn(name string, of *types.Signature, _ replay.Value, path string) (string, bool) {
	b := a.b
	returned, ok := returnedBy(calledLike(&a.call, name), of)
	if _, isNameable := b.typeText(of); !ok || !isNameable {
		return "", false
	}
	if len(returned) > 0 || !b.m.isOwn(name) { // else it is not called
		b.gap(path, "the function %s is replaced by one that returns what it returned then", name)
	}
	return a.returning(of, returned, path), true
}

// returning writes a function that returns something else each time.
func (a *assembly) returning(of *types.Signature, returned [][]replay.Variable, path string) string {
	b := a.b
	params, results := b.header(of, "")
	head := "func" + params + " " + results
	if of.Results().Len() == 0 {
		return head + "{}"
	}
	times := b.unique("call")
	body := []string{times + "++", "switch " + times + " {"}
	for i, list := range returned {
		var values []string
		for j, x := range list {
			values = append(values, b.expr(of.Results().At(j).Type(), x.Value, place{path: path + "()"}, false))
		}
		body = append(body, "case "+strconv.Itoa(i+1)+":", "return "+strings.Join(values, ", "))
	}
	body = append(body, "}", `panic("it was not called as often when it was recorded")`)
	b.lines = append(b.lines, times+" := 0")
	return head + " {\n" + strings.Join(body, "\n") + "\n}"
}

// statements are all before the call.
func (a *assembly) statements() []string {
	var out []string
	out = append(out, a.b.lines...)
	out = append(out, a.globals...)
	out = append(out, a.decls...)
	return append(out, a.b.fixes...)
}

// test writes the file of the test.
func (a *assembly) test(name, link string) (string, error) {
	b := a.b
	checks := a.checks()
	var body []string
	body = append(body, a.statements()...)
	if len(body) > 0 {
		body = append(body, "")
	}
	head := ""
	if slices.ContainsFunc(checks, func(s string) bool { return strings.HasPrefix(s, "check(") }) {
		head = checkHelper
	}
	uses := func(helper string) bool {
		return slices.ContainsFunc(body, func(s string) bool { return strings.Contains(s, helper+"(") })
	}
	if uses("setField") {
		head += a.setHelper()
	}
	if uses("fieldOf") {
		head += a.fieldHelper()
	}
	body = append(body, a.makeCall(checks)...)
	body = append(body, checks...)
	b.use("testing", "testing")
	comment := fmt.Sprintf("// %s makes a recorded call again: %s\n", name, strings.Map(printable, link))
	comment += "// It passes while the call behaves as recorded; write what it should do instead into the checks.\n"
	if len(b.gaps) > 0 {
		comment += "//\n// Not as recorded:\n"
		for _, g := range b.gaps {
			comment += "//   - " + strings.Map(printable, g) + "\n"
		}
	}
	code := standTexts(b.standTypes) + comment + "func " + name + "(t *testing.T) {\n" + head + strings.Join(body, "\n") + "\n}\n"
	b.dropUnused(code)
	text := b.constraint() + "package " + b.m.pkg.Name + "\n\n" + b.importText() + "\n" + code
	formatted, err := format.Source([]byte(text))
	if err != nil {
		return "", fmt.Errorf("write the test of %s: %w", a.call.Function.Name, err)
	}
	return string(formatted), nil
}

// printable replaces what would end a comment.
func printable(r rune) rune {
	if r < 0x20 || r == 0x7f || r == 0x2028 || r == 0x2029 || r == 0x85 {
		return ' '
	}
	return r
}

const checkHelper = `check := func(name string, got, want any) {
	t.Helper()
	if got != want {
		t.Errorf("%s is %v, recorded was %v", name, got, want)
	}
}
`

func (a *assembly) setHelper() string {
	reflect, unsafe := a.b.use("reflect", "reflect"), a.b.use("unsafe", "unsafe")
	return `// setField sets an unexported field of another package.
setField := func(of any, name string, value any) {
	field := ` + reflect + `.ValueOf(of).Elem().FieldByName(name)
	` + reflect + `.NewAt(field.Type(), ` + unsafe + `.Pointer(field.UnsafeAddr())).Elem().Set(` + reflect + `.ValueOf(value).Convert(field.Type()))
}
`
}

func (a *assembly) fieldHelper() string {
	reflect, unsafe := a.b.use("reflect", "reflect"), a.b.use("unsafe", "unsafe")
	return `// fieldOf returns a pointer to an unexported field of another package.
fieldOf := func(of any, name string) any {
	field := ` + reflect + `.ValueOf(of).Elem().FieldByName(name)
	return ` + reflect + `.NewAt(field.Type(), ` + unsafe + `.Pointer(field.UnsafeAddr())).Interface()
}
`
}

// makeCall writes the call. Results that no check reads are left off.
func (a *assembly) makeCall(checks []string) []string {
	if a.call.Outcome == replay.DidPanic {
		return []string{"panicked := func() (value any) {", "defer func() { value = recover() }()", a.callText, "return nil", "}()"}
	}
	text := strings.Join(checks, "\n")
	used := false
	var names []string
	for _, n := range a.results {
		if !usesName(text, n) {
			n = "_"
		}
		used = used || n != "_"
		names = append(names, n)
	}
	if !used {
		return []string{a.callText}
	}
	return []string{strings.Join(names, ", ") + " := " + a.callText}
}

// usesName reports whether a text has an identifier.
func usesName(text, name string) bool {
	isPart := func(c byte) bool {
		return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
	}
	for i := 0; ; {
		j := strings.Index(text[i:], name)
		if j < 0 {
			return false
		}
		j += i
		if (j == 0 || !isPart(text[j-1]) && text[j-1] != '.' && text[j-1] != '"') && (j+len(name) == len(text) || !isPart(text[j+len(name)])) {
			return true
		}
		i = j + 1
	}
}

// dropUnused forgets the imports that a text does not use.
func (b *builder) dropUnused(text string) {
	used := qualifiers(text)
	maps.DeleteFunc(b.imports, func(_, name string) bool { return !used[name] })
}

// qualifiers are the identifiers of a Go text that may name a package: those with a period behind and none before them. Names in comments and
// in texts are not among them.
func qualifiers(text string) map[string]bool {
	out := map[string]bool{}
	var s scanner.Scanner
	s.Init(token.NewFileSet().AddFile("", -1, len(text)), []byte(text), nil, 0)
	before, name := token.ILLEGAL, ""
	for {
		_, now, literal := s.Scan()
		switch {
		case now == token.EOF:
			return out
		case now == token.PERIOD && name != "":
			out[name] = true
		}
		name = ""
		if now == token.IDENT && before != token.PERIOD {
			name = literal
		}
		before = now
	}
}

// constraint raises the language version of the test's file in an older module, which may lack any, generic functions and packages
// (go command documentation, section Build constraints).
func (b *builder) constraint() string {
	if m := b.m.pkg.Module; m == nil || m.GoVersion == "" || version.Compare("go"+m.GoVersion, "go1.21") >= 0 {
		return ""
	}
	return "//go:build go1.21\n\n"
}

// importText writes the imports: those of the standard library first.
func (b *builder) importText() string {
	var standard, others []string
	for path, name := range b.imports {
		line := strconv.Quote(path)
		if name != path[strings.LastIndexByte(path, '/')+1:] {
			line = name + " " + line
		}
		first, _, _ := strings.Cut(path, "/")
		if m := b.m.pkg.Module; strings.Contains(first, ".") || m != nil && (path == m.Path || strings.HasPrefix(path, m.Path+"/")) {
			others = append(others, line)
		} else {
			standard = append(standard, line)
		}
	}
	slices.Sort(standard)
	slices.Sort(others)
	return "import (\n" + strings.Join(standard, "\n") + "\n\n" + strings.Join(others, "\n") + "\n)\n"
}
