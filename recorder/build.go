package recorder

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/types"
	"go/version"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/tools/go/packages"

	"wraithology/core/event"
	"wraithology/core/execlog"
	"wraithology/core/fault"
	"wraithology/recorder/effects"
)

//go:embed inject/ask.go inject/encode.go inject/end.go inject/frame.go inject/goroutine.go inject/item.go inject/keep.go inject/lend.go inject/memory.go inject/output.go inject/plan.go inject/redact.go inject/sample.go inject/snapshot.go inject/spool.go inject/sync.go inject/testing.go
var runtimeFiles embed.FS

// runtimePackage is the last part of the runtime's import path inside the recorded module. The
// folder is never created. Patterns such as ./... ignore folders named testdata, so they do not
// find it.
const runtimePackage = "testdata/wraith_runtime"

// goCommand is a go run, go test or go build that is to be recorded.
type goCommand struct {
	verb  string
	flags []string // that concern the build, and go test's own
	names []string // packages or files
	args  []string // for the program

	detail Detail
	ring   int64
}

// Flags of the go command that take a value as the next argument.
var valueFlags = strings.Fields("-C -p -asmflags -buildmode -buildvcs -compiler -covermode -coverpkg -exec -gccgoflags -gcflags -installsuffix -ldflags -mod -modfile -overlay -pgo -pkgdir -tags -toolexec -o " +
	"-run -bench -benchtime -blockprofile -blockprofilerate -count -coverprofile -cpu -cpuprofile -fuzz -fuzzminimizetime -fuzztime -list -memprofile -memprofilerate -mutexprofile -mutexprofilefraction -outputdir -parallel -shuffle -skip -test.run -timeout -trace -vet")

// Flags that change what is built and so what must be loaded for the rewriting.
var loadFlags = strings.Fields("-tags -mod -modfile -race -msan -asan -gcflags -ldflags -buildmode -pgo")

func parseGoCommand(args []string) (*goCommand, error) {
	if len(args) < 2 {
		return nil, fmt.Errorf("%w: expected run, test or build after go", fault.NotRecordable)
	}
	c := &goCommand{verb: args[1]}
	if !slices.Contains([]string{"run", "test", "build"}, c.verb) {
		return nil, fmt.Errorf("%w: go %s; go run, go test and go build can be recorded", fault.NotRecordable, c.verb)
	}
	rest := args[2:]
	for len(rest) > 0 {
		a := rest[0]
		if a == "-args" || a == "--args" {
			c.args, rest = rest, nil
			break
		}
		if !strings.HasPrefix(a, "-") || a == "-" {
			if c.verb == "run" {
				break
			}
			c.names, rest = append(c.names, a), rest[1:]
			continue
		}
		name := strings.TrimPrefix(a, "-")
		name, _, inline := strings.Cut("-"+strings.TrimPrefix(name, "-"), "=")
		if name == "-overlay" || name == "-C" {
			return nil, fmt.Errorf("%w: flag %s is not supported: change to the folder, or remove the overlay", fault.NotRecordable, name)
		}
		c.flags, rest = append(c.flags, a), rest[1:]
		if !inline && slices.Contains(valueFlags, name) && len(rest) > 0 {
			c.flags, rest = append(c.flags, rest[0]), rest[1:]
		}
	}
	if c.verb == "run" {
		for len(rest) > 0 && (len(c.names) == 0 || strings.HasSuffix(c.names[0], ".go") && strings.HasSuffix(rest[0], ".go")) {
			c.names, rest = append(c.names, rest[0]), rest[1:]
		}
		c.args = rest
	}
	if len(c.names) == 0 {
		c.names = []string{"."}
	}
	return c, nil
}

func (c *goCommand) loadFlags() []string {
	var out []string
	for i := 0; i < len(c.flags); i++ {
		name, _, inline := strings.Cut("-"+strings.TrimLeft(c.flags[i], "-"), "=")
		takes := slices.Contains(valueFlags, name) && !inline
		if slices.Contains(loadFlags, name) {
			out = append(out, c.flags[i])
			if takes && i+1 < len(c.flags) {
				out = append(out, c.flags[i+1])
			}
		}
		if takes {
			i++
		}
	}
	return out
}

// values returns the values of a flag that takes one.
func (c *goCommand) values(flag string) (list []string) {
	for i, f := range c.flags {
		name, value, inline := strings.Cut("-"+strings.TrimLeft(f, "-"), "=")
		if name != flag {
			continue
		}
		if !inline && i+1 < len(c.flags) {
			value = c.flags[i+1]
		}
		list = append(list, value)
	}
	return list
}

// listed is what go list says of a package.
type listed struct {
	ImportPath string
	Dir        string
	ForTest    string
	Standard   bool
	Deps       []string
	Module     *listedModule
}

// listedModule is the module of a package.
type listedModule struct {
	Path      string
	Version   string
	Dir       string
	Main      bool
	GoVersion string
	Replace   *struct{ Path, Version string }
}

// rewrittenLanguage is the Go version that rewritten files need. Programs of older versions keep
// their meaning up to this one, so older modules can be built with it.
const rewrittenLanguage = "go1.21"

// raised returns the compiler flags that raise the language version of older modules that are
// recorded, together with the compiler flags of the command.
func (c *goCommand) raised(list []listed, recorded []*dependency) []string {
	own := ""
	for _, value := range c.values("-gcflags") {
		if pattern, flags, ok := strings.Cut(value, "="); !ok || strings.HasPrefix(value, "-") {
			own = value
		} else if pattern == "all" {
			own = flags
		}
	}
	var out []string
	seen := map[string]bool{}
	for _, p := range list {
		m := p.Module
		if m == nil || seen[m.Path] || !m.Main && !slices.ContainsFunc(recorded, func(d *dependency) bool { return d.path == m.Path }) {
			continue
		}
		seen[m.Path] = true
		if v := "go" + m.GoVersion; m.GoVersion == "" || version.Compare(v, rewrittenLanguage) < 0 {
			out = append(out, "-gcflags="+m.Path+"/...="+strings.TrimSpace("-lang="+rewrittenLanguage+" "+own))
		}
	}
	return out
}

func goList(ctx context.Context, args ...string) ([]listed, error) {
	cmd := exec.CommandContext(ctx, "go", append([]string{"list", "-e", "-json=ImportPath,Dir,ForTest,Standard,Deps,Module"}, args...)...)
	var out, trouble bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &trouble
	if err := cmd.Run(); err != nil {
		return nil, fmt.Errorf("list the packages: %w\n%s", err, trouble.String())
	}
	var list []listed
	for d := json.NewDecoder(&out); d.More(); {
		var p listed
		if err := d.Decode(&p); err != nil {
			return nil, fmt.Errorf("read the list of packages: %w", err)
		}
		list = append(list, p)
	}
	return list, nil
}

// overlay rewrites the packages of the main module that the command builds, writes the overlay's
// description into dir, and returns its path.
func (c *goCommand) overlay(ctx context.Context, dir string, header event.Header, defaultLog string, trouble io.Writer) (string, error) {
	args := append([]string{"-deps"}, c.loadFlags()...)
	if c.verb == "test" {
		args = append(args, "-test")
	}
	list, err := goList(ctx, append(args, c.names...)...)
	if err != nil {
		return "", err
	}
	others := dependencies(list, c.detail.Packages)
	c.flags = append(c.flags, c.raised(list, others)...)
	ownPaths, modulePath, moduleDir := ownPackages(list)
	if moduleDir == "" {
		return "", fmt.Errorf("%w: no package of a main module is built; run it inside the module (go mod init makes one)", fault.NotRecordable)
	}
	if err := matching(packagesFlag, c.detail.Packages, recordable(list)); err != nil {
		return "", err
	}
	patterns := slices.Clone(ownPaths)
	if i := slices.Index(patterns, "command-line-arguments"); i >= 0 {
		patterns = append(slices.Delete(patterns, i, i+1), c.names...)
	}
	config := &packages.Config{
		Context: ctx, Tests: c.verb == "test", BuildFlags: c.loadFlags(),
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedImports |
			packages.NeedTypes | packages.NeedTypesSizes | packages.NeedSyntax | packages.NeedTypesInfo | packages.NeedForTest | packages.NeedModule,
	}
	loaded, err := packages.Load(config, patterns...)
	if err != nil {
		return "", fmt.Errorf("load the packages: %w", err)
	}
	var copies overlayFile
	if len(others) > 0 {
		further, err := c.loadOthers(config, others)
		if err != nil {
			return "", err
		}
		loaded = append(loaded, further...)
		if copies, err = c.copies(ctx, others, dir); err != nil {
			return "", err
		}
		for _, d := range others {
			ownPaths = append(ownPaths, d.packages...)
		}
	}
	w := &overlayWriter{others: others, detail: c.detail, ring: c.ring, dir: dir, replace: map[string]string{}, runtimePath: modulePath + "/" + runtimePackage, moduleDir: moduleDir}
	own := map[string]bool{}
	for _, p := range ownPaths {
		own[p], own[p+"_test"] = true, true
	}
	w.own = func(p *types.Package) bool { return own[p.Path()] }
	w.findUnrecorded(loaded)
	if w.effects, err = w.findEffects(ctx, *config, list, loaded, trouble); err != nil {
		return "", err
	}
	if copies.path != "" {
		if err := w.put(copies.path, copies.text); err != nil {
			return "", err
		}
	}
	if err := w.rewrite(loaded); err != nil {
		return "", err
	}
	if err := w.detail.checkFunctions(w.tables.declared); err != nil {
		return "", err
	}
	// The same source must give the same text, which the go command has built already.
	header.Program, header.Started, header.Host, header.TraceID = "", time.Time{}, "", ""
	if defaultLog == "" {
		header = event.Header{} // packing writes it
	}
	return w.finish(header, defaultLog, ownPaths, filepath.Join(moduleDir, runtimePackage))
}

func ownPackages(list []listed) (paths []string, modulePath, moduleDir string) {
	for _, p := range list {
		path, _, _ := strings.Cut(p.ImportPath, " ")
		if p.Standard || strings.HasSuffix(path, ".test") || path != "command-line-arguments" && (p.Module == nil || !p.Module.Main) {
			continue
		}
		if p.Module != nil && moduleDir == "" {
			modulePath, moduleDir = p.Module.Path, p.Module.Dir
		}
		path = strings.TrimSuffix(path, "_test")
		if !slices.Contains(paths, path) {
			paths = append(paths, path)
		}
	}
	return paths, modulePath, moduleDir
}

// overlayWriter gathers the rewritten files.
type overlayWriter struct {
	dir, runtimePath, moduleDir string
	others                      []*dependency // modules other than the main one
	own                         func(*types.Package) bool
	unrecorded                  map[string]bool // full names of own functions that stay as they are
	effects                     *effects.Table  // of functions that are called and not recorded
	replace                     map[string]string
	tables                      tables
	detail                      Detail
	ring                        int64
}

// findUnrecorded finds the functions of own packages that stay as they are.
func (w *overlayWriter) findUnrecorded(loaded []*packages.Package) {
	w.unrecorded = map[string]bool{}
	for _, p := range loaded {
		for _, file := range p.Syntax {
			stays := !w.rewrites(p, file)
			for _, d := range file.Decls {
				if d, ok := d.(*ast.FuncDecl); ok && (stays || d.Body == nil || hasDirective(d.Doc)) {
					if o, ok := p.TypesInfo.Defs[d.Name].(*types.Func); ok {
						w.unrecorded[o.FullName()] = true
					}
				}
			}
		}
	}
}

// rewrites reports whether a file of a package is rewritten.
func (w *overlayWriter) rewrites(p *packages.Package, file *ast.File) bool {
	return len(p.Errors) == 0 && p.Types != nil && chosen(w.detail.Packages, strings.TrimSuffix(p.PkgPath, "_test")) &&
		slices.Contains(p.GoFiles, p.Fset.File(file.Pos()).Name()) && !importsC(file)
}

// recorded reports whether a function is of own code that is recorded.
func (w *overlayWriter) recorded(o *types.Func) bool {
	o = o.Origin()
	return o.Pkg() != nil && w.own(o.Pkg()) && !isInterfaceMethod(o) && !w.unrecorded[o.FullName()] && named(w.detail.Functions, nameOf(o))
}

// recordedPackages returns those of own packages whose functions are all recorded.
func (w *overlayWriter) recordedPackages(own []string) []string {
	if len(w.detail.Functions) > 0 {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(own), func(path string) bool { return !chosen(w.detail.Packages, path) })
}

// onLines returns the list with a line break before and after each.
func onLines(list []string) string { return "\n" + strings.Join(list, "\n") + "\n" }

func (w *overlayWriter) rewrite(loaded []*packages.Package) error {
	// A package's test variant includes the package's files, so it comes first.
	slices.SortStableFunc(loaded, func(a, b *packages.Package) int { return len(b.CompiledGoFiles) - len(a.CompiledGoFiles) })
	done := map[string]bool{}
	for _, p := range loaded {
		for _, file := range p.Syntax {
			path := p.Fset.File(file.Pos()).Name()
			if done[path] || !w.rewrites(p, file) { // of errors the build tells
				continue
			}
			done[path] = true
			source, err := os.ReadFile(path)
			if err != nil {
				return fmt.Errorf("read the source: %w", err)
			}
			d, shown := w.moduleOf(path)
			text := rewriteFile(p, file, shown, source, w.runtimePath, d == nil, w.own, w.recorded, w.effects, &w.tables, w.detail)
			if d != nil && d.copied != "" {
				err = os.WriteFile(filepath.Join(d.copied, strings.TrimPrefix(path, d.dir)), text, 0o600) // the copy is built
			} else {
				err = w.put(path, text)
			}
			if err != nil {
				return fmt.Errorf("write a rewritten file: %w", err)
			}
		}
	}
	return nil
}

// moduleOf returns the module that a file is in, nil for the main one, and how the file is named in a
// recording.
func (w *overlayWriter) moduleOf(path string) (*dependency, string) {
	for _, d := range w.others {
		if rel, err := filepath.Rel(d.dir, path); err == nil && !strings.HasPrefix(rel, "..") {
			return d, d.shown(rel)
		}
	}
	if rel, err := filepath.Rel(w.moduleDir, path); err == nil && !strings.HasPrefix(rel, "..") {
		return nil, rel
	}
	return nil, path
}

func importsC(file *ast.File) bool {
	return slices.ContainsFunc(file.Imports, func(i *ast.ImportSpec) bool { return i.Path.Value == `"C"` })
}

func (w *overlayWriter) put(path string, text []byte) error {
	stored := filepath.Join(w.dir, strconv.Itoa(len(w.replace))+"-"+filepath.Base(path))
	w.replace[path] = stored
	if err := os.WriteFile(stored, text, 0o600); err != nil {
		return fmt.Errorf("write the overlay: %w", err)
	}
	return nil
}

func (w *overlayWriter) finish(header event.Header, defaultLog string, own []string, runtimeDir string) (string, error) {
	var static bytes.Buffer
	log, err := execlog.NewWriter(&static, header, execlog.Zstd)
	if err != nil {
		return "", err
	}
	for _, f := range w.tables.files {
		_ = log.File(f) // the writer's errors stick and Flush returns them
	}
	for _, f := range w.tables.functions {
		_ = log.Function(f)
	}
	for _, s := range w.tables.sites {
		_ = log.Site(s)
	}
	if err := log.Flush(); err != nil {
		return "", err
	}
	text := fmt.Sprintf("//go:build go1.23\n\npackage inject\n\nconst staticTables = %q\n\nconst defaultLog = %q\n\nconst ownPackages = %q\n\nconst recordedPackages = %q\n\nconst (\n\tsecretNames = %q\n\tsecretTexts = %q\n\tsecretTypes = %q\n)\n\nconst (\n\ttextLimit = %d\n\telementLimit = %d\n\tfollowLimit = %d\n\tringBytes = %d\n\tverifies = %t\n\tsampleEvery = %d\n\tbudgetShare = %g\n\tseesStores = %t\n)\n",
		static.String(), defaultLog, onLines(own), onLines(w.recordedPackages(own)), w.detail.Redact.names(), w.detail.Redact.texts(), w.detail.Redact.types(), w.detail.Length, max(w.detail.Length/4/16*16, 16), w.detail.Depth, w.ring, w.detail.Verify, w.detail.Sample.Every, w.detail.Sample.Budget, w.detail.Level == Values && len(w.detail.Packages)+len(w.detail.Functions) == 0 && w.detail.Sample == (Sample{}))
	if err := w.put(filepath.Join(runtimeDir, "static.go"), []byte(text)); err != nil {
		return "", err
	}
	names, err := runtimeFiles.ReadDir("inject")
	if err != nil {
		return "", fmt.Errorf("read the runtime: %w", err)
	}
	for _, n := range names {
		text, err := runtimeFiles.ReadFile("inject/" + n.Name())
		if err != nil {
			return "", fmt.Errorf("read the runtime: %w", err)
		}
		if err := w.put(filepath.Join(runtimeDir, n.Name()), text); err != nil {
			return "", err
		}
	}
	description, err := json.Marshal(map[string]any{"Replace": w.replace})
	if err != nil {
		return "", fmt.Errorf("describe the overlay: %w", err)
	}
	path := filepath.Join(w.dir, "overlay.json")
	if err := os.WriteFile(path, description, 0o600); err != nil {
		return "", fmt.Errorf("write the overlay: %w", err)
	}
	return path, nil
}

// header describes the recording; the rest comes from the processes.
func newHeader(ctx context.Context, command []string, redact Redaction) event.Header {
	host, err := os.Hostname()
	if err != nil {
		host = "unknown"
	}
	h := event.Header{Program: filepath.Base(command[0]), Language: "Go", Host: host, Started: time.Now().UTC(), Recorder: "wraith record 1", Detail: "lines and values", Command: redact.arguments(command), TraceID: traceID(os.Getenv("TRACEPARENT"))}
	if out, err := exec.CommandContext(ctx, "git", "rev-parse", "HEAD").Output(); err == nil {
		h.Revision = strings.TrimSpace(string(out))
	}
	if out, err := exec.CommandContext(ctx, "go", "env", "GOMOD").Output(); err == nil {
		if file := strings.TrimSpace(string(out)); filepath.Base(file) == "go.mod" {
			h.Dir = filepath.Dir(file)
		}
	}
	return h
}

// traceParent matches a traceparent (W3C Trace Context, section 3.2), which programs get in their
// environment.
var traceParent = regexp.MustCompile(`^[0-9a-f]{2}-([0-9a-f]{32})-[0-9a-f]{16}-[0-9a-f]{2}`)

// traceID returns the trace ID in a traceparent, or "".
func traceID(parent string) string {
	if m := traceParent.FindStringSubmatch(parent); m != nil && strings.Trim(m[1], "0") != "" {
		return m[1]
	}
	return ""
}
