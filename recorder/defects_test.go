package recorder_test

import (
	"context"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/replay"
)

// defect is a change of a program: the bytes from one offset to another are replaced.
type defect struct {
	what     string
	from, to int
	text     string
}

func (d defect) apply(text string) string { return text[:d.from] + d.text + text[d.to:] }

// line returns the changed line, or the first removed one.
func (d defect) line(text string) string {
	if strings.TrimSpace(d.text) != "" {
		text = d.apply(text)
	}
	at := d.from + len(d.text[:len(d.text)-len(strings.TrimLeft(d.text, "\n\t"))])
	begin := strings.LastIndexByte(text[:at], '\n') + 1
	line, _, _ := strings.Cut(text[begin:], "\n")
	return strings.TrimSpace(line)
}

// wrongOperators are operators and what somebody could have written instead.
var wrongOperators = map[token.Token]string{
	token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">", token.EQL: "!=", token.NEQ: "==", token.ADD: "-", token.SUB: "+", token.MUL: "+", token.QUO: "*", token.REM: "/", token.LAND: "||", token.LOR: "&&",
}

// defectsOf lists the defects that could be put into a program: wrong constants, operators and indexes, inverted conditions, missing
// checks, updates and jumps, extra calls, and swapped arguments.
func defectsOf(t *testing.T, text string) (list []defect) {
	files := token.NewFileSet()
	file, err := parser.ParseFile(files, "main.go", text, 0)
	require.NoError(t, err)
	at := func(p token.Pos) int { return files.Position(p).Offset }
	source := func(n ast.Node) string { return text[at(n.Pos()):at(n.End())] }
	add := func(what string, from, to token.Pos, text string) {
		list = append(list, defect{what, at(from), at(to), text})
	}
	for _, d := range file.Decls {
		f, ok := d.(*ast.FuncDecl)
		if !ok || f.Name.Name == "main" { // it holds the check
			continue
		}
		ast.Inspect(f.Body, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.BasicLit:
				if x, err := strconv.Atoi(n.Value); err == nil {
					add("wrong constant", n.Pos(), n.End(), strconv.Itoa(x+1))
				}
			case *ast.BinaryExpr:
				if o, ok := wrongOperators[n.Op]; ok {
					add("wrong operator", n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), o)
				}
			case *ast.IndexExpr:
				add("wrong index", n.Index.Pos(), n.Index.End(), source(n.Index)+"[:0]") // of texts only
				add("wrong index", n.Index.Pos(), n.Index.End(), source(n.Index)+"/2")   // of numbers only
			case *ast.IfStmt:
				if n.Init == nil {
					add("inverted condition", n.Cond.Pos(), n.Cond.End(), "!("+source(n.Cond)+")")
				}
				if n.Init == nil && n.Else == nil {
					add("missing check", n.Pos(), n.End(), "")
				}
			case *ast.AssignStmt:
				if n.Tok != token.DEFINE {
					add("missing update", n.Pos(), n.End(), "")
				}
			case *ast.BranchStmt:
				add("missing jump", n.Pos(), n.End(), "")
			case *ast.ExprStmt:
				add("extra call", n.Pos(), n.Pos(), source(n)+"\n\t\t")
				add("missing call", n.Pos(), n.End(), "")
			case *ast.CallExpr:
				if len(n.Args) == 2 {
					add("swapped arguments", n.Args[0].Pos(), n.Args[1].End(), source(n.Args[1])+", "+source(n.Args[0]))
				}
			}
			return true
		})
	}
	return list
}

// defectArguments select the input of each program.
var defectArguments = map[string]string{"ferries": "busy", "beacons": "storm", "cranes": "full", "stores": "long"}

// The cause of a random defect is among the first five. WRAITH_DEFECTS is the number of defects, of which nine of ten have to be found so.
func TestCausesOfDefects(t *testing.T) {
	t.Parallel()
	n := 2
	if text := os.Getenv("WRAITH_DEFECTS"); text != "" {
		var err error
		n, err = strconv.Atoi(text)
		require.NoError(t, err)
	}
	type candidate struct {
		defect
		program, text string
	}
	var candidates []candidate
	right := map[string]func() replay.Recording{}
	for program, argument := range defectArguments {
		b, err := os.ReadFile(filepath.Join("testdata", "defects", program+".go.txt"))
		require.NoError(t, err)
		for _, d := range defectsOf(t, string(b)) {
			candidates = append(candidates, candidate{d, program, string(b)})
		}
		right[program] = sync.OnceValue(func() replay.Recording { return recordProgram(t, string(b), argument, 0) })
	}
	slices.SortFunc(candidates, func(a, b candidate) int { return strings.Compare(a.program+a.what, b.program+b.what) })
	random := rand.New(rand.NewPCG(14, uint64(n)))
	random.Shuffle(len(candidates), func(i, j int) { candidates[i], candidates[j] = candidates[j], candidates[i] })
	var found, all, next int
	var mu sync.Mutex
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for {
				mu.Lock()
				if all >= n || next >= len(candidates) || t.Failed() {
					mu.Unlock()
					return
				}
				c := candidates[next]
				next++
				mu.Unlock()
				text := c.apply(c.text)
				if !shows(t, text, defectArguments[c.program]) {
					continue
				}
				assert.Greater(t, len(c.line(c.text)), 4, "a line that says what it is")
				failing := recordProgram(t, text, defectArguments[c.program], -1)
				list := causesBeside(t, failing, right[c.program]())
				mu.Lock()
				if all++; slices.ContainsFunc(list[:min(len(list), 5)], func(p replay.Parting) bool { return strings.Contains(p.Name, c.line(c.text)) }) {
					found++
				} else {
					t.Logf("%s: %s, %q:\n%s", c.program, c.what, c.line(c.text), describeCauses(list))
				}
				mu.Unlock()
			}
		})
	}
	group.Wait()
	t.Logf("the cause is among the first five for %d of %d", found, all)
	assert.GreaterOrEqual(t, 10*found, 9*all)
	assert.GreaterOrEqual(t, all, n)
}

// shows reports whether a program with a defect can be built, ends soon and fails.
func shows(t *testing.T, text, argument string) bool {
	dir := t.TempDir()
	writeProgram(t, dir, text)
	binary := filepath.Join(dir, "program")
	build := exec.Command("go", "build", "-o", binary, ".")
	build.Dir = dir
	if build.Run() != nil {
		return false
	}
	const longest = "5"
	var exit *exec.ExitError
	err := exec.Command("timeout", longest, binary, argument).Run()
	const timedOut = 124
	return errors.As(err, &exit) && exit.ExitCode() > 0 && exit.ExitCode() < timedOut
}

func writeProgram(t *testing.T, dir, text string) {
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module defects\n\ngo 1.24\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(text), 0o600))
}

func causesBeside(t *testing.T, failing, passing replay.Recording) []replay.Parting {
	c, err := failing.(replay.Aligner).Align(context.Background(), passing, replay.AlignOptions{Causes: 10})
	require.NoError(t, err)
	return c.Causes
}

func describeCauses(list []replay.Parting) string {
	var b strings.Builder
	for _, p := range list {
		fmt.Fprintf(&b, "  %s · %s · %s · %s\n", p.Name, p.LeftValue, p.RightValue, p.Why)
	}
	return b.String()
}

// recordProgram records a program that ends with an exit code, -1 for any but 0.
func recordProgram(t *testing.T, text, argument string, code int) replay.Recording {
	dir := t.TempDir()
	writeProgram(t, dir, text)
	r := record(t, dir, "go", "run", ".", argument)
	if code < 0 {
		require.NotZero(t, r.ExitCode, "%s%s", r.out, r.err)
	} else {
		require.Equal(t, code, r.ExitCode, "%s%s", r.out, r.err)
	}
	return open(t, r.log)
}

// failsOnlyWith is a defect that shows with one input and not with another one; causes are the lines that explain it.
type failsOnlyWith struct {
	program, old, new string
	causes            []string
}

// The cause of a defect is among the first five too if the passing run has the same defect and an input with which it does not show.
func TestCausesBesideAnotherInput(t *testing.T) {
	t.Parallel()
	passing := map[string]string{"ferries": "quiet", "beacons": "calm", "cranes": "small", "stores": "short"}
	for name, d := range map[string]failsOnlyWith{
		"wrong share":    {"cranes", "m += m / 4", "m += m / 3", []string{"if h.wet {"}},
		"ignored result": {"stores", "if s.take(f[1], n) {", "if s.take(f[1], n); true {", []string{"s.take(f[1], n)", "if have < n"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b, err := os.ReadFile(filepath.Join("testdata", "defects", d.program+".go.txt"))
			require.NoError(t, err)
			text := strings.Replace(string(b), d.old, d.new, 1)
			require.NotEqual(t, string(b), text)
			list := causesBeside(t, recordProgram(t, text, defectArguments[d.program], -1), recordProgram(t, text, passing[d.program], 0))
			assert.True(t, slices.ContainsFunc(list[:min(len(list), 5)], func(p replay.Parting) bool {
				return slices.ContainsFunc(d.causes, func(c string) bool { return strings.Contains(p.Name, c) })
			}), describeCauses(list))
		})
	}
}
