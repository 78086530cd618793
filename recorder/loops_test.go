package recorder_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/replay"
)

// The writes of a loop's variable are those that the program made, on the line where it made them,
// however the loop was left.
func TestALoopWritesWhatItsLastPartAssigns(t *testing.T) {
	t.Parallel()
	const dir = "testdata/loops"
	ran := record(t, dir, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	at := atMark(t, r, dir, "end")
	thread, err := r.ThreadOf(at)
	require.NoError(t, err)
	writes, err := r.Writes(context.Background(), "i", at, thread, 0, replay.Page{Count: 1000})
	require.NoError(t, err)
	source, err := os.ReadFile(filepath.Join(dir, "main.go"))
	require.NoError(t, err)
	lines := strings.Split(string(source), "\n")
	values := []string{}
	for _, w := range writes.Page {
		values = append(values, fmt.Sprint(w.New.Int))
		assert.Contains(t, lines[w.Line-1], "said(", "the write of %d", w.New.Int)
	}
	got := "[" + strings.Join(values, " ") + "]"
	assert.Truef(t, strings.HasPrefix(ran.out, got), "%s, and the program said %s", got, ran.out)
}
