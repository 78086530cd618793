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

// declared finds a function or method by the recorded name. The error wraps fault.NotRemade for function literals.
func (m *module) declared(name string) (*types.Func, error) {
	rest := strings.TrimPrefix(name[len(calls.PackageOf(name)):], ".")
	refuse := func(why string) error {
		return fault.NotRemade.New("", "%w: %s %s", fault.NotRemade, name, why)
	}
	receiver, method, isMethod := "", rest, false
	switch {
	case strings.HasPrefix(rest, "("):
		end := strings.IndexByte(rest, ')')
		if end < 0 || end+2 > len(rest) {
			return nil, refuse("is not a name of Go")
		}
		receiver, method, isMethod = strings.TrimPrefix(rest[1:end], "*"), rest[end+2:], true
	case strings.Contains(rest, "."):
		receiver, method, isMethod = rest[:strings.IndexByte(rest, '.')], rest[strings.IndexByte(rest, '.')+1:], true
	}
	if strings.Contains(receiver, "[") || strings.Contains(method, "[") {
		return nil, refuse("is generic: with which types it was called is not recorded")
	}
	if strings.ContainsAny(method, ".-") {
		return nil, refuse("is a function literal; name the frame of the function around it")
	}
	if !isMethod {
		if f, ok := m.pkg.Types.Scope().Lookup(method).(*types.Func); ok {
			return f, nil
		}
		if _, ok := m.pkg.Types.Scope().Lookup(receiver).(*types.Func); ok || strings.HasPrefix(method, "init") {
			return nil, refuse("cannot be called")
		}
		return nil, refuse("is not in the source")
	}
	of, ok := m.pkg.Types.Scope().Lookup(receiver).(*types.TypeName)
	if !ok {
		return nil, refuse("is a function literal, or its type is not in the source")
	}
	if o, _, _ := types.LookupFieldOrMethod(types.NewPointer(of.Type()), true, m.pkg.Types, method); o != nil {
		if f, ok := o.(*types.Func); ok {
			return f, nil
		}
	}
	return nil, refuse("is not in the source")
}

// body returns the declaration of a function.
func (m *module) body(f *types.Func) *ast.FuncDecl {
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
