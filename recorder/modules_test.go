package recorder_test

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/replay"
	"wraithology/recorder"
)

// module is a public module whose tests are run recorded. Skip names tests that run too long when
// each line is recorded, or that fail when root runs them; docs/recording-go.md has the reasons.
type module struct {
	path     string
	packages []string
	skip     string
	// unsafe is set if strings share memory with bytes that change, so that their texts differ.
	unsafe bool
}

var modules = []module{
	{path: "github.com/go-chi/chi/v5@v5.2.3", packages: []string{"./..."}, skip: "TestMuxContextIsThreadSafe"},
	{path: "github.com/spf13/cobra@v1.10.1", packages: []string{"./..."}, skip: "TestFailGenFishCompletionFile|TestFailGenBashCompletionFile"},
	{path: "github.com/spf13/pflag@v1.0.7", packages: []string{"."}},
	{path: "github.com/stretchr/testify@v1.11.1", packages: []string{"./assert", "./require", "./mock", "./suite"}},
	{path: "github.com/yuin/goldmark@v1.7.13", packages: []string{"./ast", "./extension/...", "./text", "./util", "./parser", "./renderer/..."}},
	{path: "github.com/pelletier/go-toml/v2@v2.2.4", packages: []string{".", "./internal/...", "./unstable", "./cmd/..."}},
	{path: "github.com/emirpasic/gods/v2@v2.0.0-alpha", packages: []string{"./lists/...", "./maps/...", "./queues/...", "./stacks/...", "./sets/..."}},
	{path: "github.com/hashicorp/golang-lru/v2@v2.0.7", packages: []string{"./simplelru", "./expirable"}},
	{path: "github.com/robfig/cron/v3@v3.0.1", packages: []string{"."}},
	{path: "github.com/Masterminds/squirrel@v1.5.4", packages: []string{"."}},
	{path: "github.com/urfave/cli/v2@v2.27.7", packages: []string{"."}},
	{path: "github.com/labstack/echo/v4@v4.13.4", packages: []string{"."}},
	{path: "github.com/vmihailenco/msgpack/v5@v5.4.1", packages: []string{"."}, unsafe: true},
}

var (
	verdict = regexp.MustCompile(`(?m)^\s*--- (PASS|SKIP): (.*) \([0-9.]+s\)`)
	varying = regexp.MustCompile(`0x[0-9a-f]+|[0-9]+`)
)

// passed lists the tests that a run of go test -v says have passed or were
// skipped. Names may hold addresses and times, which differ from run to run.
func passed(out string) []string {
	var list []string
	for _, m := range verdict.FindAllStringSubmatch(out, -1) {
		list = append(list, m[1]+" "+varying.ReplaceAllString(m[2], "#"))
	}
	slices.Sort(list)
	return list
}

// Code that nobody wrote for us: the tests that pass without the recorder pass
// with it, the log is whole, and no value in it differs from the program's. It needs the module proxy and some minutes, so
// it runs only when it is asked for (make test-recorder).
func TestPublicModulesPassTheirTestsRecorded(t *testing.T) {
	if os.Getenv("WRAITH_TEST_MODULES") == "" {
		t.Skip("make test-recorder runs this")
	}
	for _, m := range modules {
		t.Run(strings.ReplaceAll(m.path, "/", "_"), func(t *testing.T) {
			t.Parallel()
			dir := fetched(t, m.path)
			args := append([]string{"test", "-vet=off", "-count=1", "-v"}, m.packages...)
			if m.skip != "" {
				args = append(args, "-skip", m.skip)
			}
			plain := exec.Command("go", args...)
			plain.Dir = dir
			out, _ := plain.CombinedOutput() // some tests fail by themselves: those that pass count
			want := passed(string(out))
			require.NotEmpty(t, want, "%s", out)
			run := recordWith(t, recorder.Options{Detail: recorder.Detail{Verify: true}}, dir, append([]string{"go"}, args...)...)
			got := passed(run.out)
			for _, name := range want {
				assert.Contains(t, got, name)
			}
			r := open(t, run.log)
			info := r.Info()
			assert.Positive(t, info.Moments)
			assert.Empty(t, info.Gaps)
			v, err := r.(replay.Verifier).Verify(context.Background(), replay.Page{Count: 5})
			require.NoError(t, err)
			if !m.unsafe {
				assert.Empty(t, v.Page)
			}
			t.Logf("%d tests, %d moments, %d threads, %d values compared, %d unknown, %d differences", len(want), info.Moments, info.Threads, v.Compared, v.Unknown, v.Total)
		})
	}
}

// fetched copies a module from the module proxy into a folder.
func fetched(t *testing.T, path string) string {
	t.Helper()
	at := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(at, "go.mod"), []byte("module fetch\n\ngo 1.23\n"), 0o644))
	cmd := exec.Command("go", "mod", "download", "-json", path)
	cmd.Dir = at
	out, err := cmd.Output()
	require.NoError(t, err, "%s", out)
	var m struct{ Dir string }
	require.NoError(t, json.Unmarshal(out, &m))
	to := filepath.Join(t.TempDir(), "module")
	require.NoError(t, os.CopyFS(to, os.DirFS(m.Dir)))
	require.NoError(t, filepath.WalkDir(to, func(p string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			err = os.Chmod(p, 0o755)
		} else if err == nil {
			err = os.Chmod(p, 0o644)
		}
		return err
	}))
	return to
}
