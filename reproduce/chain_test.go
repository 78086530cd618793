package reproduce

import (
	"cmp"
	"context"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mutated changes an operator or a number of a program at random places.
func mutated(t *testing.T, text []byte, g *rand.Rand) string {
	t.Helper()
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, "main.go", text, parser.ParseComments)
	require.NoError(t, err)
	other := map[token.Token]token.Token{token.ADD: token.SUB, token.LSS: token.LEQ, token.GTR: token.GEQ, token.EQL: token.NEQ, token.MUL: token.ADD, token.NEQ: token.EQL}
	for _, d := range f.Decls {
		d, ok := d.(*ast.FuncDecl)
		if !ok || d.Recv == nil {
			continue
		}
		ast.Inspect(d.Body, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.BinaryExpr:
				if to, ok := other[n.Op]; ok && g.IntN(7) == 0 && (n.Op != token.ADD || !strings.Contains(fmt.Sprint(n.X), "mark")) {
					n.Op = to
				}
			case *ast.BasicLit:
				if n.Kind == token.INT && g.IntN(7) == 0 {
					if x, err := strconv.Atoi(n.Value); err == nil {
						n.Value = strconv.Itoa(x + 1)
					}
				}
			case *ast.IncDecStmt:
				if g.IntN(7) == 0 {
					n.Tok = token.INC
				}
			}
			return true
		})
	}
	var out strings.Builder
	require.NoError(t, format.Node(&out, set, f))
	return out.String()
}

// Calls that are described by what changed since the one before are judged as those that are described as a whole, with the recorded source and with
// random changes of it. WRAITH_TRIALS is the number of changed sources.
func TestTrialsOfCallsThatFollow(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/stowage")))
	r := recorded(t, dir, "go", "run", ".")
	text, err := os.ReadFile(filepath.Join(dir, "main.go"))
	require.NoError(t, err)
	sources, err := strconv.Atoi(cmp.Or(os.Getenv("WRAITH_TRIALS"), "2"))
	require.NoError(t, err)
	followed, differ := 0, 0
	for seed := range sources {
		source := t.TempDir()
		require.NoError(t, os.CopyFS(source, os.DirFS(dir)))
		if seed > 0 {
			require.NoError(t, os.WriteFile(filepath.Join(source, "main.go"), []byte(mutated(t, text, rand.New(rand.NewPCG(uint64(seed), 13)))), 0o600))
		}
		for _, name := range []string{"load", "take", "weigh", "note", "swap"} {
			function := "main.(*hold)." + name
			got, err := Try(context.Background(), r.Recording, function, TrialOptions{Source: source})
			require.NoError(t, err, function)
			whole, err := Try(context.Background(), r.Recording, function, TrialOptions{Source: source, comparesWhole: true})
			require.NoError(t, err, function)
			assert.Equal(t, []int{whole.Same, whole.Differ, whole.NotRebuilt}, []int{got.Same, got.Differ, got.NotRebuilt}, "%s, seed %d", function, seed)
			require.Len(t, got.Differing, len(whole.Differing), "%s, seed %d", function, seed)
			for i, x := range got.Differing {
				assert.Equal(t, whole.Differing[i].Call.Enter, x.Call.Enter, "%s, seed %d", function, seed)
				if i < mostDetailed {
					assert.Equal(t, whole.Differing[i].Results, x.Results, "%s, seed %d", function, seed)
				} else {
					require.NotEmpty(t, x.Results)
					assert.NotEqual(t, x.Results[0].Recorded, x.Results[0].Now)
				}
			}
			followed, differ = followed+got.Same+got.Differ, differ+got.Differ
			if seed == 0 {
				assert.Zero(t, got.Differ, function)
			}
		}
	}
	assert.Positive(t, followed)
	t.Logf("%d calls, %d differ", followed, differ)
}
