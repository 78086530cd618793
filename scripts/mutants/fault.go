package main

import (
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"golang.org/x/tools/go/packages"
)

// A site is one place of the code where a small fault can be inserted.
type site struct {
	pkg   string // import path
	file  string
	line  int
	what  string // the fault, for people
	start int    // offsets in the file of the text that is replaced
	end   int
	with  func(text, selected string) string
}

// sitesOf returns the places in a package's code, in the order of its files.
func sitesOf(p *packages.Package) ([]site, error) {
	var out []site
	for _, file := range p.Syntax {
		name := p.Fset.Position(file.Pos()).Filename
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		v := &visitor{info: p.TypesInfo, fset: p.Fset, text: text, pkg: p.PkgPath, file: name}
		ast.Inspect(file, v.visit)
		out = append(out, v.out...)
	}
	return out, nil
}

type visitor struct {
	info      *types.Info
	fset      *token.FileSet
	text      []byte
	pkg, file string
	out       []site
}

func (v *visitor) add(n ast.Node, what string, with func(text, selected string) string) {
	start, end := v.fset.Position(n.Pos()), v.fset.Position(n.End())
	v.out = append(v.out, site{pkg: v.pkg, file: v.file, line: start.Line, what: what, start: start.Offset, end: end.Offset, with: with})
}

func (v *visitor) of(n ast.Node) string {
	return string(v.text[v.fset.Position(n.Pos()).Offset:v.fset.Position(n.End()).Offset])
}

func (v *visitor) visit(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.GenDecl:
		return n.Tok == token.VAR // constants cannot call
	case *ast.IfStmt:
		if text := v.of(n.Cond); !strings.HasSuffix(text, "err != nil") && !strings.HasSuffix(text, "err == nil") {
			v.add(n.Cond, "condition negated", func(text, selected string) string { return "((" + text + ") != " + selected + ")" })
		}
	case *ast.BinaryExpr:
		v.binary(n)
	case *ast.ReturnStmt:
		for _, result := range n.Results {
			if text := v.of(result); text == "true" || text == "false" {
				v.add(result, text+" returned as its opposite", func(text, selected string) string { return "(" + selected + " != " + text + ")" })
			}
		}
	case *ast.BlockStmt:
		v.statements(n.List)
	case *ast.CaseClause:
		v.statements(n.Body)
	}
	return true
}

func (v *visitor) binary(n *ast.BinaryExpr) {
	if v.info.Types[n].Value != nil {
		return
	}
	left, right := v.of(n.X), v.of(n.Y)
	switch n.Op {
	case token.LSS, token.GTR, token.LEQ, token.GEQ:
		if b, ok := v.info.TypeOf(n.X).Underlying().(*types.Basic); !ok || b.Info()&types.IsInteger == 0 {
			return
		}
		op := n.Op.String()
		v.add(n, op+" moved by one", func(text, selected string) string {
			equal := selected + " && " + left + " == " + right
			if len(op) == 1 {
				return "(" + text + " || " + equal + ")"
			}
			return "(" + text + " && !(" + equal + "))"
		})
	case token.LAND, token.LOR:
		other := map[token.Token]string{token.LAND: "||", token.LOR: "&&"}[n.Op]
		v.add(n, n.Op.String()+" became "+other, func(text, selected string) string {
			return "(" + selected + " && ((" + left + ") " + other + " (" + right + ")) || !" + selected + " && (" + text + "))"
		})
	case token.ADD, token.SUB:
		if b, ok := v.info.TypeOf(n).Underlying().(*types.Basic); !ok || b.Info()&types.IsInteger == 0 || b.Info()&types.IsUntyped != 0 {
			return
		}
		v.add(n, "one added to "+n.Op.String(), func(text, selected string) string {
			return strings.TrimSuffix(strings.Replace(selected, "mutantOn", "mutantPlus", 1), ")") + ", " + text + ")"
		})
	}
}

func (v *visitor) statements(list []ast.Stmt) {
	for _, s := range list {
		switch s := s.(type) {
		case *ast.IncDecStmt:
			v.remove(s)
		case *ast.AssignStmt:
			if s.Tok != token.DEFINE {
				v.remove(s)
			}
		case *ast.ExprStmt:
			if call, ok := s.X.(*ast.CallExpr); ok && !v.isSilent(call) {
				v.remove(s)
			}
		}
	}
}

func (v *visitor) remove(s ast.Stmt) {
	v.add(s, "statement removed", func(text, selected string) string { return "if !" + selected + " { " + text + " }" })
}

// isSilent reports calls that tests need not notice, and panics, which end a function.
func (v *visitor) isSilent(call *ast.CallExpr) bool {
	text := v.of(call.Fun)
	for _, prefix := range []string{"panic", "slog.", "log.", "s.log.", "os.Exit", "runtime.KeepAlive"} {
		if strings.HasPrefix(text, prefix) {
			return true
		}
	}
	return false
}

// sample selects n of the sites at random, without overlapping ones. The same seed selects the same
// sites of the same code.
func sample(sites []site, n int, seed uint64) []site {
	r := rand.New(rand.NewPCG(seed, 0))
	r.Shuffle(len(sites), func(i, j int) { sites[i], sites[j] = sites[j], sites[i] })
	var out []site
	for _, s := range sites {
		if len(out) == n {
			break
		}
		overlaps := false
		for _, other := range out {
			overlaps = overlaps || other.file == s.file && other.start < s.end && s.start < other.end
		}
		if !overlaps {
			out = append(out, s)
		}
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].file != out[j].file {
			return out[i].file < out[j].file
		}
		return out[i].start < out[j].start
	})
	return out
}

// selector is the code that selects the fault of a package. It imports only the standard library,
// because it is also built into recorded programs.
const selector = `

var (
	mutantSelected = mutantOS.Getenv("WRAITH_MUTANT")
	mutantReached  = mutantOS.Getenv("WRAITH_MUTANTS_REACHED")
	mutantSeen     [1 << 12]mutantAtomic.Bool
	mutantNumber   = func() int { n, err := mutantConv.Atoi(mutantSelected); if err != nil { return -1 }; return n }()
)

func mutantOn(n int) bool {
	if mutantReached != "" && mutantSeen[n].CompareAndSwap(false, true) {
		mutantOS.WriteFile(mutantReached+"/"+mutantConv.Itoa(n), nil, 0o666)
	}
	return n == mutantNumber
}

func mutantPlus[T ~int | ~int8 | ~int16 | ~int32 | ~int64 | ~uint | ~uint8 | ~uint16 | ~uint32 | ~uint64 | ~uintptr](n int, v T) T {
	if mutantOn(n) {
		return v + 1
	}
	return v
}
`

const selectorImports = `; import mutantOS "os"; import mutantConv "strconv"; import mutantAtomic "sync/atomic"`

// insert writes copies of the files with all faults into dir and returns the replacements for the
// go command's -overlay.
func insert(faults []site, dir string) (map[string]string, error) {
	replaced := map[string]string{}
	hasSelector := map[string]bool{}
	for first := 0; first < len(faults); {
		last := first
		for last < len(faults) && faults[last].file == faults[first].file {
			last++
		}
		file := faults[first].file
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		for i := last - 1; i >= first; i-- { // from the end, so that offsets stay true
			f := faults[i]
			changed := f.with(string(text[f.start:f.end]), fmt.Sprintf("mutantOn(%d)", i))
			text = []byte(string(text[:f.start]) + changed + string(text[f.end:]))
		}
		if folder := filepath.Dir(file); !hasSelector[folder] {
			hasSelector[folder] = true
			text = append(withImports(text), selector...)
		}
		copied := filepath.Join(dir, fmt.Sprintf("%d_%s", first, filepath.Base(file)))
		if err := os.WriteFile(copied, text, 0o666); err != nil {
			return nil, err
		}
		replaced[file] = copied
		first = last
	}
	return replaced, nil
}

// withImports adds the selector's imports after the package clause.
func withImports(text []byte) []byte {
	at := strings.Index("\n"+string(text), "\npackage ")
	end := at + strings.IndexByte(string(text[at:]), '\n')
	if comment := strings.Index(string(text[at:end]), " //"); comment >= 0 {
		end = at + comment
	}
	return []byte(string(text[:end]) + selectorImports + string(text[end:]))
}
