package recorder

import (
	"bytes"
	"cmp"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"go/version"
	"math"
	"slices"
	"strings"

	"golang.org/x/tools/go/packages"

	"wraithology/core/event"
	"wraithology/recorder/effects"
)

// Names that the rewriting adds to a user's files. They are unlikely in any program.
const (
	runtimeName = "wraith__"
	frameName   = "wraith__f"
	resultName  = "wraith__r"
	labelName   = "wraith__l_"
)

// tables collects the functions, sites and files of all rewritten code.
type tables struct {
	functions []event.Function
	sites     []event.Site
	files     []event.File
	declared  []string // names of all functions with a body, also of those that are not recorded
}

// edit inserts text at an offset, replacing the bytes up to end. No edit adds or removes a line
// break, so that all positions stay on their lines.
type edit struct {
	at, end int
	text    string
	// until is the end of the expression that the text wraps; 0 if it wraps none.
	until int
}

// fileRewriter rewrites one file.
type fileRewriter struct {
	lines  bool     // say which lines are reached
	values bool     // say what is written
	askOn  []string // functions whose returned errors trigger writing the ring
	pkg    *packages.Package
	own    func(*types.Package) bool
	// recorded reports whether a function of own code is recorded.
	recorded func(*types.Func) bool
	effects  *effects.Table
	tables   *tables
	file     event.FileID
	source   []byte
	base     *token.File
	edits    []edit
	// lenders are the calls of the file that pass references to code that is not recorded, by text.
	lenders map[string]int
	verify  bool   // take snapshots
	isMain  bool   // the file is of a main module
	secrets string // names of variables and fields that are not recorded (inject.DefaultSecrets)
	// perIteration is set if each iteration of a loop has variables of its own (Go 1.22).
	perIteration bool
}

// rewriteFile returns the file's text with the calls to the runtime in it.
func rewriteFile(pkg *packages.Package, file *ast.File, path string, source []byte, runtimePath string, isMain bool, own func(*types.Package) bool, recorded func(*types.Func) bool, known *effects.Table, t *tables, detail Detail) []byte {
	r := &fileRewriter{isMain: isMain, secrets: detail.Redact.names(), recorded: recorded, effects: known, lines: detail.Level != Calls, values: detail.Level == Values, askOn: detail.AskOn, lenders: map[string]int{}, verify: detail.Verify, pkg: pkg, own: own, tables: t, file: event.FileID(len(t.files)), source: source, base: pkg.Fset.File(file.Pos())}
	r.perIteration = version.Compare(pkg.TypesInfo.FileVersions[file], "go1.22") >= 0
	t.files = append(t.files, event.File{ID: r.file, Path: path, Text: string(source)})
	before := len(t.functions)
	for _, d := range file.Decls {
		switch d := d.(type) {
		case *ast.FuncDecl:
			if name := r.declaredName(d); d.Body != nil && !hasDirective(d.Doc) {
				t.declared = append(t.declared, name)
				if named(detail.Functions, name) {
					r.function(nil, d.Type, d.Body, d.Recv, name, d.Pos())
				}
			}
		case *ast.GenDecl:
			ast.Inspect(d, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.FuncLit:
					r.function(nil, n.Type, n.Body, nil, r.packageName()+".init.func", n.Pos())
					return false
				case *ast.CallExpr:
					r.output(n)
				}
				return true
			})
		}
	}
	init := ""
	if r.values {
		init = r.globals(file)
	}
	if len(t.functions) == before {
		return source
	}
	r.insert(file.Name.End(), "; import "+runtimeName+" "+fmt.Sprintf("%q", runtimePath))
	r.insert(afterImports(file), init+r.declareLenders())
	return r.apply()
}

// hasDirective reports whether a function must stay as it is, because a compiler directive forbids
// calls in it.
func hasDirective(doc *ast.CommentGroup) bool {
	if doc == nil {
		return false
	}
	for _, c := range doc.List {
		for _, d := range [...]string{"//go:nosplit", "//go:linkname", "//go:systemstack", "//go:nowritebarrier", "//go:cgo_"} {
			if strings.HasPrefix(c.Text, d) {
				return true
			}
		}
	}
	return false
}

func (r *fileRewriter) apply() []byte {
	// At an offset, what wraps nothing is first, then what wraps the longest expression. What is
	// inserted is before what replaces the text there.
	wrapped := func(e edit) int {
		if e.until == 0 {
			return math.MaxInt
		}
		return e.until
	}
	slices.SortStableFunc(r.edits, func(a, b edit) int {
		return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(min(a.end-a.at, 1), min(b.end-b.at, 1)), cmp.Compare(wrapped(b), wrapped(a)))
	})
	var out bytes.Buffer
	at := 0
	for _, e := range r.edits {
		out.Write(r.source[at:e.at])
		out.WriteString(e.text)
		at = e.end
	}
	out.Write(r.source[at:])
	return out.Bytes()
}

func (r *fileRewriter) offset(p token.Pos) int { return r.base.Offset(p) }
func (r *fileRewriter) line(p token.Pos) int   { return r.base.PositionFor(p, false).Line }

func (r *fileRewriter) insert(p token.Pos, text string) {
	at := r.offset(p)
	r.edits = append(r.edits, edit{at: at, end: at, text: text})
}

// wrap puts a call around an expression: its beginning, up to the expression, is given.
func (r *fileRewriter) wrap(e ast.Expr, beginning string) {
	at := r.offset(e.Pos())
	r.edits = append(r.edits, edit{at: at, end: at, text: beginning, until: r.offset(e.End())})
	r.insert(e.End(), ")")
}

// replace replaces the text between two positions. Its line breaks are kept.
func (r *fileRewriter) replace(from, to token.Pos, text string) {
	text += strings.Repeat("\n", bytes.Count(r.source[r.offset(from):r.offset(to)], []byte("\n")))
	r.edits = append(r.edits, edit{at: r.offset(from), end: r.offset(to), text: text})
}

func (r *fileRewriter) text(n ast.Node) string {
	return string(r.source[r.offset(n.Pos()):r.offset(n.End())])
}

func (r *fileRewriter) packageName() string {
	if r.pkg.Types.Name() == "main" {
		return "main"
	}
	return r.pkg.PkgPath
}

// declaredName returns a function's name in the notation of Go's runtime.
func (r *fileRewriter) declaredName(d *ast.FuncDecl) string {
	name := d.Name.Name
	if d.Recv != nil && len(d.Recv.List) > 0 {
		of, pointer := d.Recv.List[0].Type, false
		if star, ok := of.(*ast.StarExpr); ok {
			of, pointer = star.X, true
		}
		switch x := of.(type) {
		case *ast.IndexExpr:
			of = x.X
		case *ast.IndexListExpr:
			of = x.X
		}
		if pointer {
			name = "(*" + r.text(of) + ")." + name
		} else {
			name = r.text(of) + "." + name
		}
	}
	return r.packageName() + "." + name
}

// afterImports returns the position of the first declaration that is not an import.
func afterImports(file *ast.File) token.Pos {
	at := file.Name.End()
	for _, d := range file.Decls {
		if g, ok := d.(*ast.GenDecl); ok && g.Tok == token.IMPORT {
			at = g.End()
		}
	}
	return at
}

// globals returns a function that records the package's variables at the beginning of the program.
// It is before the program's own init functions, which run in order. It is empty if there are none.
func (r *fileRewriter) globals(file *ast.File) string {
	f := &function{r: r, vars: map[types.Object]event.VariableID{}, shared: map[types.Object]bool{}}
	f.table = event.Function{ID: event.FunctionID(len(r.tables.functions)), Name: r.packageName() + ".init", File: r.file,
		Line: r.line(file.Package), EndLine: r.line(file.Package), Own: r.isMain}
	var body strings.Builder
	for _, d := range file.Decls {
		g, ok := d.(*ast.GenDecl)
		if !ok || g.Tok != token.VAR {
			continue
		}
		for _, s := range g.Specs {
			wrote := false
			for i, name := range s.(*ast.ValueSpec).Names {
				if o := r.pkg.TypesInfo.Defs[name]; o != nil && name.Name != "_" {
					if !wrote {
						wrote = true
						fmt.Fprintf(&body, " %s;", f.site(s.Pos(), &ast.GenDecl{Tok: token.VAR, Specs: []ast.Spec{s}}).reaches())
					}
					fmt.Fprintf(&body, " %s.Y(%s, %d, %s);", runtimeName, frameName, f.variable(o), f.address(o, name.Name))
					if values := s.(*ast.ValueSpec).Values; len(values) == len(s.(*ast.ValueSpec).Names) {
						body.WriteString(f.keeps(name, values[i]))
					}
				}
			}
		}
	}
	if body.Len() == 0 {
		return ""
	}
	r.tables.functions = append(r.tables.functions, f.table)
	return fmt.Sprintf("; func init() { %s := %s.Enter(%d); %s.On(); %s %s.Ret(); %s.Back(); %s.Off() }",
		frameName, runtimeName, f.table.ID, frameName, body.String(), frameName, frameName, frameName)
}
