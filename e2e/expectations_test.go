package e2e

import (
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/ask"
)

// once is the expectation that the second notice of the demo breaks.
const once = "result 1.Corrections <= 1"

// A file of expectations, in a pipeline: the exit codes, the counts, and JUnit XML.
func TestExpectationsOfAFile(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	failing := failingRun(t)
	passing := passingRun(t)
	file := filepath.Join(t.TempDir(), "expectations.yaml")
	require.NoError(t, os.WriteFile(file, []byte("# Gannet Sound\n"), 0o600))
	ines.fine(t, "expect", "add", file, "--return", "Book.At", "--when", "result 2 == null", "--that", once, "--note", "a notice is taken once")
	ines.fine(t, "expect", "add", file, "--enter", "underKeel", "--that", "draught > 0")
	ines.fine(t, "expect", "add", file, "--enter", "Nowhere", "--that", "true")
	list := parsed[[]api.KeptExpectation](t, ines.fine(t, "--json", "expect", "list", file))
	require.Len(t, list, 3)
	assert.Equal(t, api.KeptExpectation{ID: 1, Expectation: ask.Expectation{Checkpoint: "return Book.At", When: "result 2 == null", That: once, Note: "a notice is taken once"}}, list[0])

	r := ines.wraith(t, "", "check", passing, "--expectations", file, "--strict")
	assert.Equal(t, 1, r.code, "one is never reached")
	assert.Contains(t, r.out, "not reached")
	ines.fine(t, "expect", "delete", file, "3")
	r = ines.wraith(t, "", "check", passing, "--expectations", file, "--strict")
	assert.Zero(t, r.code, r.err)
	assert.Empty(t, r.out, "it is quiet if all hold")

	junit := filepath.Join(t.TempDir(), "junit.xml")
	r = ines.wraith(t, "", "--json", "check", failing, passing, "--expectations", file, "--junit", junit)
	assert.Equal(t, 1, r.code)
	c := parsed[struct {
		ask.Check
		Evidence []struct{ ask.Check }
	}](t, r.out)
	assert.Equal(t, 1, c.Broken)
	require.Len(t, c.Evidence, 2)
	broken := c.Evidence[0].Expectations[0]
	assert.Equal(t, 3, broken.Breaks)
	require.NotNil(t, broken.First)
	assert.Equal(t, "berthing/tides.(*Book).At", broken.First.Function)
	assert.Equal(t, []ask.Shown{{Expression: "result 1.Corrections", Value: "2", Type: "int"}}, broken.Shown)
	assert.Equal(t, broken.Holds+broken.Breaks+c.Evidence[1].Expectations[0].Holds, c.Expectations[0].Holds+c.Expectations[0].Breaks)
	var suites struct {
		Suites []struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
			Cases    []struct {
				Failure *struct{} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	text, err := os.ReadFile(junit)
	require.NoError(t, err)
	require.NoError(t, xml.Unmarshal(text, &suites))
	require.Len(t, suites.Suites, 2)
	assert.Equal(t, []int{2, 1, 2, 0}, []int{suites.Suites[0].Tests, suites.Suites[0].Failures, suites.Suites[1].Tests, suites.Suites[1].Failures})
	assert.NotNil(t, suites.Suites[0].Cases[0].Failure)

	ines.fine(t, "expect", "edit", file, "1", "--that", "result 1.Corrections <= 2")
	ines.fine(t, "check", failing, "--expectations", file)
	text, err = os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "# Gannet Sound", "comments stay")
	for _, args := range [][]string{{"check", failing}, {"check", failing, "--expectations", file, "--case", "x"}, {"check", failing, "--expectations", "none.yaml"}, {"check", "none.wraith", "--expectations", file},
		{"expect", "add", file, "--enter", "x"}, {"expect", "add", file, "--that", "x"}, {"expect", "add", file, "--enter", "x", "--that", "("}, {"expect", "add", file, "--write", "x", "--that", "x"},
		{"expect", "edit", file, "9", "--that", "x"}, {"expect", "edit", file, "1"}, {"expect", "delete", file, "x"}, {"expect", "list", file + "l/none.yaml"}, {"expect"}} {
		r := ines.wraith(t, "", args...)
		assert.NotZero(t, r.code, strings.Join(args, " "))
		assert.NotContains(t, r.err, "internal error", strings.Join(args, " "))
	}
}

// A line is found by its text in another version of the program.
func TestExpectationOnAMovedLine(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	dir := t.TempDir()
	write := func(text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(text), 0o600))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module sound\n\ngo 1.24\n"), 0o600))
	write("package main\n\nfunc main() {\n\tdepth := 4\n\tdepth--\n\tprintln(depth)\n}\n")
	file := filepath.Join(dir, "expectations.yaml")
	ines.fine(t, "expect", "add", file, "--line", "main.go:6", "--that", "depth == 3")
	write("package main\n\nfunc main() {\n\tdepth := 4\n\tdepth--\n\tdepth *= 2\n\tdepth /= 2\n\tprintln(depth)\n}\n")
	log := filepath.Join(dir, "log.wraith")
	cmd := exec.Command(filepath.Join(work, "wraith"), "record", "-o", log, "--", "go", "run", ".")
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	c := parsed[ask.Check](t, ines.fine(t, "--json", "check", log, "--expectations", file))
	assert.Equal(t, 1, c.Expectations[0].Holds, "on line 6 it would break")
}

// The expectations of a case: evidence is checked when it arrives, and again when they change. What arrives after the case
// was closed and breaks one is flagged.
func TestExpectationsOfACase(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	withEvidence(t, ines)
	ines.fine(t, "checkpoint", "set", "shallow-berth", "--enter", "Harbour.Assign")
	added := parsed[api.KeptExpectation](t, ines.fine(t, "--json", "expect", "add", "shallow-berth", "--return", "Book.At", "--when", "result 2 == null", "--that", once))
	assert.Equal(t, "return berthing/tides.(*Book).At", added.Checkpoint, "with its full name")
	r := ines.wraith(t, "", "expect", "add", "shallow-berth", "--enter", "Nowhere", "--that", "true")
	assert.Equal(t, 1, r.code)
	line := parsed[api.KeptExpectation](t, ines.fine(t, "--json", "expect", "add", "shallow-berth", "--line", "notice.go:52", "--that", "p.Corrections == 0"))
	assert.Equal(t, "p.Corrections++", line.Text)

	settled := func(evidence int) (out api.Checks) {
		require.Eventually(t, func() bool {
			out = parsed[api.Checks](t, ines.fine(t, "--json", "case", "checks", "shallow-berth"))
			for _, e := range out.Evidence {
				for _, x := range e.Checks {
					if x == nil {
						return false
					}
				}
				for _, x := range e.Counts {
					if x == nil {
						return false
					}
				}
			}
			return len(out.Evidence) == evidence
		}, time.Minute, 200*time.Millisecond)
		return out
	}
	got := settled(1)
	assert.Equal(t, []int{3, 1}, []int{got.Evidence[0].Checks[0].Breaks, got.Evidence[0].Checks[1].Breaks})
	assert.EqualValues(t, 2400, got.Evidence[0].Counts[0].Hits)
	assert.False(t, got.Evidence[0].Again)

	passing := passingRun(t)
	ines.fine(t, "evidence", "add", "shallow-berth", passing, "--name", "passing-run")
	got = settled(2)
	assert.Equal(t, "passing-run", got.Evidence[0].Name)
	assert.Zero(t, got.Evidence[0].Broken)
	assert.Positive(t, got.Evidence[0].Checks[0].Holds)

	ines.fine(t, "case", "close", "shallow-berth", "--cause", "a notice was taken twice")
	ines.fine(t, "evidence", "add", "shallow-berth", failingRun(t), "--name", "failed-again")
	got = settled(3)
	assert.Equal(t, []bool{true, false, false}, []bool{got.Evidence[0].Again, got.Evidence[1].Again, got.Evidence[2].Again})
	list := parsed[[]api.EvidenceInfo](t, ines.fine(t, "--json", "evidence", "shallow-berth"))
	assert.True(t, list[0].Again)
	assert.Equal(t, 2, list[0].Broken)
	assert.False(t, list[2].Again)
	all := parsed[[]api.Case](t, ines.fine(t, "--json", "case"))
	assert.Equal(t, "a notice was taken twice", all[0].Cause)
	assert.NotNil(t, all[0].Closed)
	ines.fine(t, "case", "reopen", "shallow-berth")

	ines.fine(t, "expect", "edit", "shallow-berth", "1", "--that", "result 1.Corrections <= 2")
	got = settled(3)
	assert.Equal(t, []int{1, 0, 1}, []int{got.Evidence[0].Broken, got.Evidence[1].Broken, got.Evidence[2].Broken})
	ines.fine(t, "expect", "delete", "shallow-berth", "2")
	r = ines.wraith(t, "", "check", passing, "shallow-berth/failing-run", "--case", "shallow-berth")
	assert.Zero(t, r.code, r.err)
	assert.Zero(t, ines.wraith(t, "", "case", "checks", "shallow-berth").code)
}

// A recording in another case is checked against the expectations of a case that has the same program: whoever may read
// both sees the known cause beside it, and the recording beside the expectations.
func TestExpectationsOfOtherCases(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	withEvidence(t, ines, tomas)
	ines.fine(t, "expect", "add", "shallow-berth", "--return", "Book.At", "--when", "result 2 == null", "--that", once)
	ines.fine(t, "case", "close", "shallow-berth", "--cause", "a notice was taken twice")
	tomas.fine(t, "case", "open", "grounding")
	tomas.fine(t, "case", "add", "grounding", "Ines", "--role", "viewer")
	tomas.fine(t, "evidence", "add", "grounding", failingRun(t), "--name", "second-night")
	tomas.fine(t, "evidence", "add", "grounding", passingRun(t), "--name", "quiet-night")
	crash := tomas.wraith(t, "panic: fog\n\ngoroutine 1 [running]:\nmain.assign(0x1)\n\t/src/berth.go:12 +0x1d\n", "evidence", "add", "grounding", "-", "--name", "crash")
	require.Zero(t, crash.code, crash.err)

	evidence := func(p person, name string) (out api.EvidenceInfo) {
		for _, e := range parsed[[]api.EvidenceInfo](t, p.fine(t, "--json", "evidence", "grounding")) {
			if e.Name == name {
				out = e
			}
		}
		return out
	}
	elsewhere := func(rows int, ready func(api.CheckedIn) bool) []api.CheckedIn {
		var out []api.CheckedIn
		require.Eventually(t, func() bool {
			out = parsed[api.Checks](t, ines.fine(t, "--json", "case", "checks", "shallow-berth")).Elsewhere
			return len(out) == rows && !slices.ContainsFunc(out, func(x api.CheckedIn) bool { return !ready(x) })
		}, time.Minute, 200*time.Millisecond)
		return out
	}
	rows := elsewhere(2, func(x api.CheckedIn) bool { return x.Checks[0] != nil })
	assert.Equal(t, []string{"grounding/quiet-night", "grounding/second-night"}, []string{rows[0].Case + "/" + rows[0].Name, rows[1].Case + "/" + rows[1].Name})
	assert.Equal(t, []bool{false, true}, []bool{rows[0].Again, rows[1].Again}, "it breaks after the case was closed")
	assert.Equal(t, []int{0, 3}, []int{rows[0].Checks[0].Breaks, rows[1].Checks[0].Breaks})

	known := evidence(ines, "second-night").Known
	require.Len(t, known, 1)
	assert.NotNil(t, known[0].Closed)
	assert.Equal(t, []any{"shallow-berth", "a notice was taken twice", once, 3}, []any{known[0].Case, known[0].Cause, known[0].That, known[0].Breaks})
	assert.Greater(t, known[0].Hits, 3)
	assert.Empty(t, evidence(ines, "quiet-night").Known)
	assert.Contains(t, ines.fine(t, "evidence", "grounding"), "a notice was taken twice")
	assert.Empty(t, evidence(tomas, "second-night").Known, "he may not read the other case")
	assert.NotContains(t, tomas.fine(t, "evidence", "grounding"), "shallow")

	ines.fine(t, "expect", "edit", "shallow-berth", "1", "--that", "result 1.Corrections <= 2")
	elsewhere(2, func(x api.CheckedIn) bool { return x.Checks[0] != nil && x.Checks[0].Breaks == 0 })
	assert.Empty(t, evidence(ines, "second-night").Known)
}
