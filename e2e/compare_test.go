package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
)

// The failing and the passing run of the demo part at the second notice. The service says the same of them as the command line
// of the files.
func TestComparedDemo(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	withEvidence(t, ines)
	log := failingRun(t)
	passing := passingRun(t)
	ines.fine(t, "evidence", "add", "shallow-berth", passing, "--name", "passing-run")
	local := ines.fine(t, "--json", "compare", log, passing)
	assert.JSONEq(t, local, ines.fine(t, "--json", "compare", "shallow-berth/failing-run", "shallow-berth/passing-run"))
	c := parsed[ask.Comparison](t, local)
	require.NotEmpty(t, c.Causes)
	assert.Equal(t, "for _, number := range numbers {", c.Causes[0].Name)
	assert.Equal(t, "numbers", c.Causes[len(c.Causes)-1].Name, "what was handed on is last")
	assert.Less(t, c.OnlyLeft, 100)
	assert.Greater(t, c.Aligned, 30_000)

	r := ines.wraith(t, "", "compare", log, log)
	assert.Equal(t, 1, r.code, "equal runs")
	assert.Contains(t, r.out, "do not part")
	ignoring := parsed[ask.Comparison](t, ines.fine(t, "--json", "compare", log, passing, "--ignore", "^(numbers|clearance|err)$"))
	for _, x := range ignoring.Causes {
		assert.NotEqual(t, "numbers", x.Name)
	}
	for _, args := range [][]string{{log, "shallow-berth/passing-run"}, {"shallow-berth/failing-run", passing}, {"shallow-berth/failing-run", "shallow-berth/none"}, {log, passing, "--ignore", "("}, {log}, {log, "e2e_test.go"}} {
		r := ines.wraith(t, "", append([]string{"compare"}, args...)...)
		assert.NotZero(t, r.code, strings.Join(args, " "))
		assert.NotContains(t, r.err, "internal error", strings.Join(args, " "))
	}
}
