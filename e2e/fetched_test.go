package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/ask"
)

// Commands that make recorded calls again say the same of the evidence of a case as of the file; it is fetched once.
func TestRemadeFromACase(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	withEvidence(t, ines)
	log := failingRun(t)
	cache := t.TempDir()
	built, err := exec.Command("go", "env", "GOCACHE").Output()
	require.NoError(t, err)
	run := func(args ...string) ran {
		cmd := exec.Command(filepath.Join(work, "wraith"), append([]string{"--config", ines.config}, args...)...)
		cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+cache, "GOCACHE="+strings.TrimSpace(string(built)))
		var out, errOut strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &errOut
		_ = cmd.Run() // its exit code says the rest
		return ran{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
	}
	for _, args := range [][]string{{"trial", "EVIDENCE", "--function", "Book.Apply"}, {"suppose", "EVIDENCE@177107", "n.PressureHectopascal=1013.25"}, {"trial", "EVIDENCE", "--function", "nowhere"}, {"reproduce", "EVIDENCE@1"}} {
		with := func(name string) ran {
			line := append([]string{args[0], strings.ReplaceAll(args[1], "EVIDENCE", name)}, args[2:]...)
			r := run(append(line, "--source", "../demo/berthing")...)
			return ran{strings.ReplaceAll(r.out, name, "EVIDENCE"), strings.ReplaceAll(r.err, name, "EVIDENCE"), r.code}
		}
		here, shared := with(log), with("shallow-berth/failing-run")
		assert.Equal(t, here, shared, strings.Join(args, " "))
		kept, err := filepath.Glob(filepath.Join(cache, "wraithology", "evidence", "*"))
		require.NoError(t, err)
		assert.Len(t, kept, 1, "it is fetched once")
	}
	// What was computed is told to the team, with the place, and as such.
	at := parsed[ask.Hits](t, ines.fine(t, "--json", "hits", log, "--enter", "Book.Apply")).Hits[0].Moment
	for _, args := range [][]string{{"suppose", fmt.Sprintf("shallow-berth/failing-run@%d", at), "n.PressureHectopascal=1013.25", "--share"}, {"trial", "shallow-berth/failing-run", "--function", "Book.Apply", "--share"}} {
		r := run(append(args, "--source", "../demo/berthing")...)
		assert.Contains(t, r.err, "shared as comment", strings.Join(args, " "))
	}
	comments := parsed[[]api.Comment](t, ines.fine(t, "--json", "comment", "shallow-berth"))
	require.Len(t, comments, 2)
	assert.Contains(t, comments[0].Text, "Computed, not recorded:")
	assert.Contains(t, comments[0].HTML, "<pre><code>supposed, not recorded: ")
	assert.Equal(t, at, *comments[0].Anchor.Moment)
	assert.Contains(t, comments[1].Text, "the calls of Book.Apply with the source as it is now")
	r := run("suppose", fmt.Sprintf("%s@%d", log, at), "n.PressureHectopascal=1013.25", "--share", "--source", "../demo/berthing")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.err, "name it as CASE/NAME")

	r = run("trial", "shallow-berth/nothing", "--function", "Book.Apply")
	assert.NotZero(t, r.code)
	assert.Contains(t, r.err, "not found")
	kept, err := filepath.Glob(filepath.Join(cache, "wraithology", "evidence", "*"))
	require.NoError(t, err)
	assert.Len(t, kept, 1, "nothing incomplete stays")
}
