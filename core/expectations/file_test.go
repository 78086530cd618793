package expectations

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/fault"
)

var (
	once  = ask.Expectation{Checkpoint: "enter ledger.Post", That: "p.Corrections <= 1", Note: "a notice is taken once"}
	depth = ask.Expectation{Checkpoint: "line berth.go:65", Text: "return quay.Depth - draught: low", When: `vessel == "Kelp"`, That: "quay.Depth > draught"}
)

func TestAFileKeepsItsCommentsAndExpectations(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "expectations.yaml")
	f, err := Create(path)
	require.NoError(t, err)
	require.Empty(t, f.List())
	require.NoError(t, f.Add(once))
	require.NoError(t, f.Add(depth))
	require.NoError(t, f.Save())
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte("# of the harbour\n"+strings.Replace(string(text), "  - checkpoint: line", "  # the tide table\n  - checkpoint: line", 1)), 0o640))
	require.NoError(t, os.Chmod(path, 0o640))

	f, err = Open(path)
	require.NoError(t, err)
	assert.Equal(t, []ask.Expectation{once, depth}, f.List())
	changed := depth
	changed.That = "quay.Depth >= draught"
	require.NoError(t, f.Replace(2, changed))
	require.NoError(t, f.Delete(1))
	require.NoError(t, f.Save())
	f, err = Open(path)
	require.NoError(t, err)
	assert.Equal(t, []ask.Expectation{changed}, f.List())
	text, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(text), "# of the harbour\n")
	assert.Contains(t, string(text), "# the tide table\n")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())

	require.ErrorIs(t, f.Delete(2), fault.NotFound)
	require.ErrorIs(t, f.Replace(0, once), fault.NotFound)
	require.ErrorIs(t, f.Add(ask.Expectation{Checkpoint: "enter Post", That: "p.("}), fault.InvalidExpression)
	assert.Len(t, f.List(), 1)
}

func TestWrongFilesAreErrors(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		text string
		kind *fault.Kind
	}{
		"not YAML":         {"expectations: [", fault.InvalidRequest},
		"unknown member":   {"expectations:\n  - checkpoint: enter Post\n    that: 'true'\n    then: 1\n", fault.InvalidRequest},
		"unknown list":     {"expectation: []\n", fault.InvalidRequest},
		"two documents":    {"expectations: []\n---\nexpectations: []\n", fault.InvalidRequest},
		"no expression":    {"expectations:\n  - checkpoint: enter Post\n", fault.InvalidRequest},
		"no checkpoint":    {"expectations:\n  - that: x > 1\n", fault.InvalidRequest},
		"wrong expression": {"expectations:\n  - checkpoint: enter Post\n    that: x >\n", fault.InvalidExpression},
		"of one recording": {"expectations:\n  - checkpoint: write x\n    that: x > 1\n", fault.InvalidRequest},
		"an alias":         {"expectations: &a [*a]\n", fault.InvalidRequest},
		"not a mapping":    {"- 1\n", fault.InvalidRequest},
		"too long":         {strings.Repeat("# fog\n", MaxBytes/6+1), fault.InvalidRequest},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			path := filepath.Join(t.TempDir(), "x.yaml")
			require.NoError(t, os.WriteFile(path, []byte(x.text), 0o600))
			_, err := Open(path)
			require.ErrorIs(t, err, x.kind)
			assert.ErrorContains(t, err, path)
		})
	}
	_, err := Open(filepath.Join(t.TempDir(), "none.yaml"))
	require.ErrorIs(t, err, fault.Unreadable)
}

func TestNamesOfFiles(t *testing.T) {
	t.Parallel()
	for name, isFile := range map[string]bool{"shallow-berth": false, "./expectations": true, "a/b": true, "x.yaml": true, "x.yml": true, "yaml": false} {
		assert.Equal(t, isFile, IsFile(name), name)
	}
}

// A file is untrusted: whatever it contains, reading it ends, and what was read can be written and read again.
func FuzzFile(f *testing.F) {
	f.Add("expectations:\n  - checkpoint: enter Post\n    that: x > 1\n")
	f.Add("a: &a [*a]\nexpectations: *a\n")
	f.Add("# only a comment\n")
	f.Add("null\n")
	f.Fuzz(func(t *testing.T, text string) {
		path := filepath.Join(t.TempDir(), "x.yaml")
		read, err := parse(path, []byte(text), 0o600)
		if err != nil {
			return
		}
		before := append([]ask.Expectation{}, read.List()...)
		require.NoError(t, read.Add(once))
		require.NoError(t, read.Save())
		again, err := Open(path)
		require.NoError(t, err)
		require.Equal(t, append(before, once), again.List())
	})
}
