package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
)

// moments are written as @N in the guide.
var moments = regexp.MustCompile(`@\d+`)

// Each command of the guide prints what the guide says. Lines that it leaves out are marked there.
func TestGuideFromFailureToFix(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, path := range map[string]string{"failing-run.wraith": failingRun(t), "passing-run.wraith": passingRun(t)} {
		require.NoError(t, os.Symlink(path, filepath.Join(dir, name)))
	}
	fixed := filepath.Join(dir, "fixed")
	require.NoError(t, os.CopyFS(fixed, os.DirFS("../demo/berthing")))
	notice := filepath.Join(fixed, "tides", "notice.go")
	text, err := os.ReadFile(notice)
	require.NoError(t, err)
	const before = "\t\tp.HeightMetres += correction\n"
	require.Contains(t, string(text), before)
	require.NoError(t, os.WriteFile(notice, []byte(strings.Replace(string(text), before, "\t\tif p.Corrections > 0 {\n\t\t\tcontinue\n\t\t}\n"+before, 1)), 0o600))
	record := exec.Command(filepath.Join(work, "wraith"), "record", "-o", filepath.Join(dir, "fixed-run.wraith"), "--", "go", "run", ".", "-notices", "0412,0419")
	record.Dir = fixed
	out, err := record.CombinedOutput()
	require.NoError(t, err, "%s", out)

	run := func(args ...string) ran {
		cmd := exec.Command(filepath.Join(work, "wraith"), args...)
		cmd.Dir = dir
		var out, errOut strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &errOut
		_ = cmd.Run() // its exit code says the rest
		return ran{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
	}
	hit := func(args ...string) string {
		h := parsed[ask.Hits](t, run(append([]string{"--json", "hits", "failing-run.wraith"}, args...)...).out)
		require.NotEmpty(t, h.Hits)
		return strconv.Itoa(int(h.Hits[len(h.Hits)-1].Moment))
	}
	places := map[string]string{
		"@BREAK":  "@" + hit("--return", "Book.At", "--when", "result 1.Corrections > 1", "--first", "1"),
		"@APPLY":  "@" + hit("--enter", "Book.Apply"),
		"@ASSIGN": "@" + hit("--enter", "Harbour.Assign", "--when", `vessel.Name == "Halcyon Drift"`, "--first", "3"),
	}
	guide, err := os.ReadFile("../docs/guide/from-failure-to-fix.md")
	require.NoError(t, err)
	steps := strings.Split(string(guide), "\n    $ wraith ")[1:]
	require.Len(t, steps, 8)
	for _, step := range steps {
		command, rest, _ := strings.Cut(step, "\n")
		for name, at := range places {
			command = strings.ReplaceAll(command, name, at)
		}
		r := run(words(strings.ReplaceAll(command, "'", `"`))...)
		assert.Empty(t, r.err, command)
		printed := strings.Split(strings.TrimRight(moments.ReplaceAllString(r.out, "@N"), "\n"), "\n")
		next, open := 0, false
		for _, line := range strings.Split(rest, "\n") {
			want, ok := strings.CutPrefix(line, "    ")
			if !ok {
				break
			}
			if want == "[…]" {
				open = true
				continue
			}
			for open && next < len(printed) && printed[next] != want {
				next++
			}
			require.Less(t, next, len(printed), "%s: %q is not printed:\n%s", command, want, r.out)
			assert.Equal(t, want, printed[next], command)
			next, open = next+1, false
		}
		if !open && strings.TrimSpace(r.out) != "" {
			assert.Len(t, printed, next, "%s prints more:\n%s", command, r.out)
		}
	}
	test, err := os.ReadFile(filepath.Join(dir, "reproduce_apply_test.go"))
	require.NoError(t, err)
	assert.Contains(t, string(test), "func TestReproduceBookApply(t *testing.T) {")
}
