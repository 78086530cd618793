package reproduce

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/replay"
)

// outside says what the results of a function depend on beside its arguments.
type outside struct{ what, where string }

// reaching are the functions of the standard library with which programs reach what is outside of them. A package without
// names counts as a whole.
var reaching = map[string]struct {
	what  string
	names []string
}{
	"time":         {"the clock", []string{"Now", "Since", "Until", "Sleep", "After", "Tick", "NewTimer", "NewTicker", "AfterFunc"}},
	"os":           {"files or the process", []string{"Open", "OpenFile", "Create", "CreateTemp", "ReadFile", "ReadDir", "Stat", "Lstat", "Getenv", "LookupEnv", "Environ", "Getwd", "Hostname", "Getpid", "Executable", "Args", "Stdin", "WriteFile", "Remove", "RemoveAll", "Rename", "Mkdir", "MkdirAll", "MkdirTemp", "Chdir", "Setenv", "Exit", "DirFS"}},
	"os/exec":      {"other programs", nil},
	"os/signal":    {"signals", nil},
	"net":          {"the network", []string{"Dial", "DialTimeout", "Listen", "ListenPacket", "LookupHost", "LookupIP", "LookupAddr", "LookupCNAME", "LookupMX", "LookupTXT", "Interfaces", "InterfaceAddrs"}},
	"net/http":     {"the network", []string{"Get", "Post", "PostForm", "Head", "DefaultClient", "ListenAndServe", "Serve"}},
	"io/ioutil":    {"files or the process", []string{"ReadFile", "WriteFile", "ReadDir", "TempDir", "TempFile"}},
	"database/sql": {"a database", nil},
	"math/rand":    {"random numbers", nil},
	"math/rand/v2": {"random numbers", nil},
	"crypto/rand":  {"random numbers", nil},
	"syscall":      {"the operating system", nil},
	"unsafe":       {"memory around its arguments", []string{"Pointer", "Add"}},
	"runtime":      {"the runtime", []string{"NumGoroutine", "ReadMemStats", "Caller", "Callers", "Stack", "NumCPU", "GOMAXPROCS"}},
}

// literal matches the numbers of function literals at the end of a function's name.
var literal = regexp.MustCompile(`(?:\.func\d+|\.\d+|-range\d+|-fm|\.gowrap\d+)+$`)

// dependsOn lists what a recorded call depends on beside its arguments: what the functions that ran in it reach, as far as
// their own source says.
func dependsOn(m *module, r replay.Recording, files []string, call replay.MadeCall) []outside {
	names := map[string]bool{literal.ReplaceAllString(call.Function.Name, ""): true}
	for _, c := range call.Inner {
		names[literal.ReplaceAllString(c.Function, "")] = true
	}
	var out []outside
	seen := map[string]bool{}
	for _, file := range files {
		fset := token.NewFileSet()
		text, err := r.Source(file)
		if err != nil {
			continue
		}
		f, err := parser.ParseFile(fset, file, text, parser.SkipObjectResolution)
		if err != nil {
			continue
		}
		pkg := f.Name.Name
		if pkg != "main" && m.pkg.Module != nil {
			pkg = strings.TrimSuffix(m.pkg.Module.Path+"/"+strings.TrimPrefix(path.Dir(file), "."), "/")
		}
		imports := importsOf(f)
		for _, d := range f.Decls {
			d, ok := d.(*ast.FuncDecl)
			if !ok || d.Body == nil || !names[pkg+"."+declaredName(d)] {
				continue
			}
			line := 0 // where the current statement begins
			ast.Inspect(d.Body, func(n ast.Node) bool {
				if x, ok := n.(ast.Stmt); ok {
					if _, isBlock := x.(*ast.BlockStmt); !isBlock {
						line = fset.Position(x.Pos()).Line
					}
				}
				if n != nil && call.Reached[file][line].Hits == 0 && call.Reached[file][fset.Position(n.Pos()).Line].Hits == 0 {
					return true
				}
				if what, how := reaches(n, imports); what != "" && !seen[what] {
					seen[what] = true
					out = append(out, outside{what, fmt.Sprintf("%s at %s:%d", how, file, fset.Position(n.Pos()).Line)})
				}
				return true
			})
		}
	}
	return out
}

// importsOf returns the path of each imported package by its name in the file.
func importsOf(f *ast.File) map[string]string {
	out := map[string]string{}
	for _, i := range f.Imports {
		p, err := strconv.Unquote(i.Path.Value)
		if err != nil {
			continue
		}
		name := path.Base(p)
		if name == "v2" {
			name = path.Base(path.Dir(p))
		}
		if i.Name != nil {
			name = i.Name.Name
		}
		out[name] = p
	}
	return out
}

// declaredName returns the name of a function as the runtime writes it, without the package.
func declaredName(d *ast.FuncDecl) string {
	if d.Recv == nil || len(d.Recv.List) == 0 {
		return d.Name.Name
	}
	t, star := d.Recv.List[0].Type, false
	for {
		switch x := t.(type) {
		case *ast.StarExpr:
			t, star = x.X, true
			continue
		case *ast.IndexExpr:
			t = x.X
			continue
		case *ast.IndexListExpr:
			t = x.X
			continue
		case *ast.Ident:
			if star {
				return "(*" + x.Name + ")." + d.Name.Name
			}
			return x.Name + "." + d.Name.Name
		}
		return ""
	}
}

// reaches says what a piece of source reaches, and how.
func reaches(n ast.Node, imports map[string]string) (what, how string) {
	switch n := n.(type) {
	case *ast.SelectorExpr:
		x, ok := n.X.(*ast.Ident)
		if !ok {
			return "", ""
		}
		r, ok := reaching[imports[x.Name]]
		if ok && (r.names == nil && ast.IsExported(n.Sel.Name) || slices.Contains(r.names, n.Sel.Name)) {
			return r.what, x.Name + "." + n.Sel.Name
		}
	case *ast.GoStmt:
		return "other goroutines", "go"
	case *ast.SendStmt, *ast.SelectStmt:
		return "other goroutines", "a channel"
	case *ast.UnaryExpr:
		if n.Op == token.ARROW {
			return "other goroutines", "a channel"
		}
	}
	return "", ""
}

// outsideGaps lists what a call depends on, as gaps.
func (m *module) outsideGaps(r replay.Recording, reader replay.Calls, call replay.MadeCall) (gaps []string) {
	for _, x := range dependsOn(m, r, reader.SourceFiles(), call) {
		gaps = append(gaps, fmt.Sprintf("depends on %s (%s), which is not as it was", x.what, x.where))
	}
	return gaps
}
