package recorder_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/history"
	"wraithology/e2e/generated"
)

// valueAtLine returns a variable where a line is reached, for the nth time.
func valueAtLine(t *testing.T, r history.Replay, line, nth int, name string) replay.Value {
	ctx := context.Background()
	hits, err := r.Hits(ctx, replay.Checkpoint{Kind: "line", About: find.LineText("main.go", line)}, replay.Page{From: nth, Count: 1})
	require.NoError(t, err)
	require.Len(t, hits.Page, 1)
	thread, err := r.ThreadOf(hits.Page[0])
	require.NoError(t, err)
	variables, err := r.Variables(ctx, hits.Page[0], thread, 0)
	require.NoError(t, err)
	i := slices.IndexFunc(variables, func(v replay.Variable) bool { return v.Name == name })
	require.GreaterOrEqual(t, i, 0, "%s at line %d", name, line)
	return variables[i].Value
}

// What a recording says of variables of random types is what the program printed.
func TestGeneratedProgramsTellTheTruth(t *testing.T) {
	t.Parallel()
	seeds := uint64(4)
	if testing.Short() {
		seeds = 1
	}
	for seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			text, truths := generated.Go(seed, false)
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(text), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module generated\n\ngo 1.24\n"), 0o600))
			ran := record(t, dir, "go", "run", ".")
			require.Zero(t, ran.ExitCode, "%s\n%s", ran.err, text)
			r := open(t, ran.log)
			checked := 0
			lines := strings.Split(text, "\n")
			for _, l := range strings.Split(ran.out, "\n") {
				parts := strings.Split(l, "\t")
				if parts[0] != "TRUTH" {
					continue
				}
				checked++
				line, err := strconv.Atoi(parts[1])
				require.NoError(t, err)
				got := generated.Render(valueAtLine(t, r, line, 0, parts[2]))
				assert.Equal(t, parts[3], got, "%s before line %d, after %q", parts[2], line, strings.TrimSpace(lines[line-2]))
			}
			assert.Equal(t, truths, checked)
		})
	}
}
