package reproduce

import (
	"context"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/tools/go/packages"

	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/calls"
)

// module is the recorded program's module on this machine, with the recorded source in place of the files that are
// there now; or, for a trial, as it is now.
type module struct {
	dir     string
	overlay map[string][]byte // by absolute path
	pkg     *packages.Package // of the function
	folder  string            // of the package, relative to dir
	all     []*types.Package  // the package and all that it imports
	flags   []string          // for the go command: -tags of the recorded one
}

// sourceOf returns the folder of the module: the given one, or that which was recorded.
func sourceOf(r replay.Recording, source string) (string, error) {
	info := r.Info()
	if info.Language != "Go" {
		return "", fault.NotRemade.New("calls of recorded Go programs can be made again", "%w: the evidence is not of a Go program", fault.NotRemade)
	}
	dir := source
	if dir == "" {
		dir = info.Dir
	}
	if dir == "" {
		return "", fault.NotRemade.New("give --source DIR, the root of its module", "%w: the recording does not say where its module was", fault.NotRemade)
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", fmt.Errorf("find the source: %w", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "go.mod")); err != nil {
		return "", fault.NotRemade.New("give --source DIR, the root of its module", "%w: no module in %s", fault.NotRemade, dir)
	}
	return dir, nil
}

// recordedSource returns the recorded text of own files in place of those of a module. Paths that lead out of the module are not
// believed.
func recordedSource(r replay.Recording, dir string, files []string) map[string][]byte {
	overlay := map[string][]byte{}
	for _, file := range files {
		text, err := r.Source(file)
		if err != nil || text == "" || !filepath.IsLocal(file) || strings.Contains(file, "@") || filepath.Ext(file) != ".go" {
			continue
		}
		overlay[filepath.Join(dir, filepath.FromSlash(file))] = []byte(text)
	}
	return overlay
}

// hideTests hides the tests of a package, which the test of a call does not need and must not run.
func hideTests(dir, folder string, overlay map[string][]byte) {
	list, _ := os.ReadDir(filepath.Join(dir, folder)) // a folder that is gone has no files to hide
	for _, e := range list {
		if strings.HasSuffix(e.Name(), "_test.go") {
			overlay[filepath.Join(dir, folder, e.Name())] = hidden
		}
	}
	for at := range overlay {
		if strings.HasSuffix(at, "_test.go") && filepath.Dir(at) == filepath.Join(dir, folder) {
			overlay[at] = hidden
		}
	}
}

// hidden is the text of a file that is not built.
var hidden = []byte("//go:build ignore\n\npackage hidden\n")

// load type-checks the package of a function.
func load(ctx context.Context, dir string, overlay map[string][]byte, call replay.MadeCall, flags []string) (*module, error) {
	if !filepath.IsLocal(call.File) || strings.Contains(call.File, "@") {
		return nil, fault.NotRemade.New("name a frame of the main module", "%w: %s is not a file of its module", fault.NotRemade, call.File)
	}
	isTest := strings.HasSuffix(call.File, "_test.go")
	if !isTest {
		hideTests(dir, path.Dir(call.File), overlay)
	}
	m := &module{dir: dir, overlay: overlay, folder: path.Dir(filepath.ToSlash(call.File)), flags: flags}
	config := &packages.Config{
		Context: ctx, Dir: dir, Overlay: overlay, BuildFlags: flags, Tests: isTest,
		Env: buildEnvironment(),
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedImports | packages.NeedTypes |
			packages.NeedTypesSizes | packages.NeedSyntax | packages.NeedTypesInfo | packages.NeedModule | packages.NeedForTest,
	}
	list, err := packages.Load(config, "./"+m.folder)
	if err != nil {
		return nil, fault.BuildFailed.New("", "%w: %w", fault.BuildFailed, err)
	}
	at := filepath.Join(dir, filepath.FromSlash(call.File))
	for _, p := range list {
		if slices.Contains(p.CompiledGoFiles, at) && !strings.HasSuffix(p.Name, "_test") && (m.pkg == nil || len(p.CompiledGoFiles) > len(m.pkg.CompiledGoFiles)) {
			m.pkg = p
		}
	}
	if m.pkg == nil {
		for _, p := range list {
			for _, e := range p.Errors {
				return nil, fault.BuildFailed.New("", "%w: %s", fault.BuildFailed, e)
			}
		}
		return nil, fault.NotRemade.New("give --source DIR, the root of its module", "%w: %s is not built in %s", fault.NotRemade, call.File, dir)
	}
	for _, e := range m.pkg.Errors {
		return nil, fault.BuildFailed.New("", "%w: %s", fault.BuildFailed, e)
	}
	if isTest && m.pkg.Types.Scope().Lookup("TestMain") != nil {
		return nil, fault.NotRemade.New("", "%w: the TestMain of its package would run", fault.NotRemade)
	}
	m.all = closure(m.pkg.Types)
	return m, nil
}

// closure lists a package and all that it imports, nearest first.
func closure(p *types.Package) []*types.Package {
	list, seen := []*types.Package{p}, map[*types.Package]bool{p: true}
	for i := 0; i < len(list); i++ {
		for _, q := range list[i].Imports() {
			if !seen[q] {
				seen[q] = true
				list = append(list, q)
			}
		}
	}
	return list
}

// buildEnvironment is that of the go command: nothing is fetched.
func buildEnvironment() []string {
	return append(os.Environ(), "GOPROXY=off", "GOFLAGS="+strings.TrimSpace(os.Getenv("GOFLAGS")), "GOTOOLCHAIN=local")
}

// target is a function or method of the source, with the types of a call.
type target struct {
	*types.Func
	sig  *types.Signature
	args []types.Type // type arguments of a generic function
}

// declared finds the function or method of a call. The error wraps fault.NotRemade for function literals.
func (m *module) declared(call replay.MadeCall) (target, error) {
	name := call.Function.Name
	rest := strings.TrimPrefix(name[len(calls.PackageOf(name)):], ".")
	refuse := func(why string) (target, error) {
		return target{}, fault.NotRemade.New("", "%w: %s %s", fault.NotRemade, name, why)
	}
	if i, j := strings.IndexByte(rest, '['), strings.LastIndexByte(rest, ']'); i >= 0 && j > i {
		rest = rest[:i] + rest[j+1:] // the runtime writes [...] for type arguments
	}
	receiver, method, isMethod := "", rest, false
	switch {
	case strings.HasPrefix(rest, "("):
		end := strings.IndexByte(rest, ')')
		if end < 0 || end+2 > len(rest) {
			return refuse("is not a name of Go")
		}
		receiver, method, isMethod = strings.TrimPrefix(rest[1:end], "*"), rest[end+2:], true
	case strings.Contains(rest, "."):
		receiver, method, isMethod = rest[:strings.IndexByte(rest, '.')], rest[strings.IndexByte(rest, '.')+1:], true
	}
	if strings.ContainsAny(method, ".-") {
		return refuse("is a function literal; name the frame of the function around it")
	}
	if !isMethod {
		f, ok := m.pkg.Types.Scope().Lookup(method).(*types.Func)
		if !ok {
			return refuse("is not in the source, or cannot be called")
		}
		if f.Signature().TypeParams().Len() == 0 {
			return target{Func: f, sig: f.Signature()}, nil
		}
		args := m.inferred(f.Signature(), call)
		if args == nil {
			return refuse("is generic, and its type arguments do not follow from its arguments")
		}
		sig, err := types.Instantiate(nil, f.Signature(), args, true)
		if err != nil {
			return refuse("is generic, and was called with other types")
		}
		return target{f, sig.(*types.Signature), args}, nil
	}
	of, ok := m.pkg.Types.Scope().Lookup(receiver).(*types.TypeName)
	if !ok {
		return refuse("is a function literal, or its type is not in the source")
	}
	t := of.Type()
	if n, ok := t.(*types.Named); ok && n.TypeParams().Len() > 0 {
		if len(call.Parameters) == 0 || call.Parameters[0].Value.Type == nil {
			return refuse("is generic, and its receiver was not recorded")
		}
		t = m.recordedType(call.Parameters[0].Value.Type.Name)
		if p, ok := t.(*types.Pointer); ok {
			t = p.Elem()
		}
		if n, ok := t.(*types.Named); !ok || n.Obj() != of {
			return refuse("is generic, and its type arguments cannot be named")
		}
	}
	if o, _, _ := types.LookupFieldOrMethod(types.NewPointer(t), true, m.pkg.Types, method); o != nil {
		if f, ok := o.(*types.Func); ok {
			return target{Func: f, sig: f.Signature()}, nil
		}
	}
	return refuse("is not in the source")
}

// inferred returns the type arguments of a generic function that follow from the types of its recorded arguments; nil if they do
// not.
func (m *module) inferred(sig *types.Signature, call replay.MadeCall) []types.Type {
	bound := map[*types.TypeParam]types.Type{}
	recorded := call.Parameters
	for p := range sig.Params().Variables() {
		if len(recorded) == 0 || recorded[0].Name != p.Name() {
			continue
		}
		if v := recorded[0].Value; v.Type != nil {
			if t := m.recordedType(v.Type.Name); t != nil {
				unify(p.Type(), t, bound)
			}
		}
		recorded = recorded[1:]
	}
	var args []types.Type
	for p := range sig.TypeParams().TypeParams() {
		if bound[p] == nil {
			return nil
		}
		args = append(args, bound[p])
	}
	return args
}

// unify binds the type parameters in a type by the type of an argument.
func unify(p, t types.Type, bound map[*types.TypeParam]types.Type) {
	switch p := p.(type) {
	case *types.TypeParam:
		bound[p] = t
	case *types.Pointer:
		if t, ok := t.(*types.Pointer); ok {
			unify(p.Elem(), t.Elem(), bound)
		}
	case *types.Slice:
		if t, ok := t.Underlying().(*types.Slice); ok {
			unify(p.Elem(), t.Elem(), bound)
		}
	case *types.Array:
		if t, ok := t.Underlying().(*types.Array); ok {
			unify(p.Elem(), t.Elem(), bound)
		}
	case *types.Map:
		if t, ok := t.Underlying().(*types.Map); ok {
			unify(p.Key(), t.Key(), bound)
			unify(p.Elem(), t.Elem(), bound)
		}
	case *types.Named:
		if t, ok := t.(*types.Named); ok && t.Obj() == p.Obj() && t.TypeArgs().Len() == p.TypeArgs().Len() {
			for i := range t.TypeArgs().Len() {
				unify(p.TypeArgs().At(i), t.TypeArgs().At(i), bound)
			}
		}
	}
}

// body returns the declaration of a function.
func (m *module) body(f *types.Func) *ast.FuncDecl {
	f = f.Origin()
	for _, file := range m.pkg.Syntax {
		for _, d := range file.Decls {
			if d, ok := d.(*ast.FuncDecl); ok && m.pkg.TypesInfo.Defs[d.Name] == f {
				return d
			}
		}
	}
	return nil
}

// position returns the file and line of a position, relative to the module.
func (m *module) position(p token.Pos) (file string, line int) {
	at := m.pkg.Fset.Position(p)
	if rel, err := filepath.Rel(m.dir, at.Filename); err == nil {
		return filepath.ToSlash(rel), at.Line
	}
	return at.Filename, at.Line
}

// build builds the tests of the package, with further files in it, and returns the program. work is a folder for what is made.
func (m *module) build(ctx context.Context, work string, files map[string][]byte) (program string, err error) {
	replace := map[string]string{}
	n := 0
	put := func(at string, text []byte) error {
		n++
		here := filepath.Join(work, fmt.Sprintf("overlay-%d.go", n))
		replace[at] = here
		return os.WriteFile(here, text, 0o600)
	}
	for at, text := range m.overlay {
		if err := put(at, text); err != nil {
			return "", fmt.Errorf("write the overlay: %w", err)
		}
	}
	for name, text := range files {
		if err := put(filepath.Join(m.dir, m.folder, name), text); err != nil {
			return "", fmt.Errorf("write the overlay: %w", err)
		}
	}
	description, err := json.Marshal(map[string]any{"Replace": replace})
	if err != nil {
		return "", fmt.Errorf("write the overlay: %w", err)
	}
	overlay := filepath.Join(work, "overlay.json")
	if err := os.WriteFile(overlay, description, 0o600); err != nil {
		return "", fmt.Errorf("write the overlay: %w", err)
	}
	program = filepath.Join(work, "reproduce.test")
	args := append([]string{"test", "-c", "-vet=off", "-overlay", overlay, "-o", program}, m.flags...)
	cmd := exec.CommandContext(ctx, "go", append(args, "./"+m.folder)...)
	cmd.Dir, cmd.Env = m.dir, buildEnvironment()
	out, err := cmd.CombinedOutput()
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if err != nil {
		return "", fault.BuildFailed.New("", "%w: %s", fault.BuildFailed, strings.TrimSpace(string(out)))
	}
	return program, nil
}

// buildFlags returns the flags of a recorded go command that decide what is built.
func buildFlags(command []string) (flags []string) {
	for i, a := range command {
		name, value, hasValue := strings.Cut(strings.TrimLeft(a, "-"), "=")
		if name != "tags" || !strings.HasPrefix(a, "-") {
			continue
		}
		if !hasValue && i+1 < len(command) {
			value = command[i+1]
		}
		if strings.Trim(value, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.,") == "" {
			flags = append(flags, "-tags="+value)
		}
	}
	return flags
}
