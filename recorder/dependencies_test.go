package recorder_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/recorder"
)

const usesAModule = `package main

import (
	"fmt"
	"os"

	"github.com/spf13/pflag"
)

func main() {
	flags := pflag.NewFlagSet("berth", pflag.ContinueOnError)
	flags.SetOutput(os.Stdout)
	depth := flags.Int("depth", 3, "depth at the quay")
	fmt.Println(flags.Parse([]string{"--depth", "seven"}), *depth)
}
`

// withModule makes a module that requires one of this project's own dependencies.
func withModule(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	own, err := os.ReadFile("../go.mod")
	require.NoError(t, err)
	version := ""
	for line := range strings.Lines(string(own)) {
		if _, after, ok := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), "require "), "github.com/spf13/pflag "); ok {
			version, _, _ = strings.Cut(after, " ")
		}
	}
	require.NotEmpty(t, version)
	sums, err := os.ReadFile("../go.sum")
	require.NoError(t, err)
	for name, text := range map[string]string{"main.go": usesAModule, "go.mod": "module berth\n\ngo 1.24\n\nrequire github.com/spf13/pflag " + strings.TrimSpace(version) + "\n", "go.sum": string(sums)} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return dir
}

// goIn runs the go command in a folder.
func goIn(t *testing.T, dir string, args ...string) {
	t.Helper()
	c := exec.Command("go", args...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// texts returns the names and contents of the files of a folder.
func texts(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		if b, err := os.ReadFile(filepath.Join(dir, e.Name())); err == nil && !strings.HasSuffix(e.Name(), ".wraith") {
			out[e.Name()] = string(b)
		}
	}
	return out
}

// Other modules can be recorded, from the module cache, vendored and in workspaces. The user's files
// stay as they are.
func TestOtherModulesAreRecorded(t *testing.T) {
	t.Parallel()
	for name, prepare := range map[string]func(dir string) (ran string){
		"module cache": func(dir string) string { return dir },
		"vendored":     func(dir string) string { goIn(t, dir, "mod", "vendor"); return dir },
		"workspace": func(dir string) string {
			inner := filepath.Join(dir, "inner")
			require.NoError(t, os.Mkdir(inner, 0o700))
			for _, name := range []string{"main.go", "go.mod", "go.sum"} {
				require.NoError(t, os.Rename(filepath.Join(dir, name), filepath.Join(inner, name)))
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, "go.work"), []byte("go 1.24\n\nuse ./inner\n"), 0o600))
			return inner
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			root := withModule(t)
			dir := prepare(root)
			before, beforeRoot := texts(t, dir), texts(t, root)
			plain := exec.Command("go", "run", ".")
			plain.Dir = dir
			want, err := plain.Output()
			require.NoError(t, err)
			for _, packages := range []string{"github.com/spf13/pflag/...", "all"} {
				ran := recordWith(t, recorder.Options{Detail: recorder.Detail{Packages: []string{packages}}}, dir, "go", "run", ".")
				require.Zero(t, ran.ExitCode, ran.err)
				assert.Equal(t, string(want), ran.out)
				r := open(t, ran.log)
				hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "error", About: "seven"}, replay.Page{Count: 10})
				require.NoError(t, err)
				require.NotEmpty(t, hits.Page)
				place, err := r.Place(hits.Page[0])
				require.NoError(t, err)
				assert.Equal(t, "github.com/spf13/pflag.(*intValue).Set", place.Function)
				assert.Regexp(t, `^github.com/spf13/pflag@v[0-9.]+/int.go$`, place.File)
				text, err := evaluate(t, r, hits.Page[0], "s")
				require.NoError(t, err)
				assert.Equal(t, `"seven"`, text)
				source, err := r.Source(place.File)
				require.NoError(t, err)
				assert.Contains(t, source, "func (i *intValue) Set(s string) error {\n")
				_, err = r.Hits(context.Background(), replay.Checkpoint{Kind: "enter", About: "main.main"}, replay.Page{Count: 10})
				assert.Equal(t, packages == "all", err == nil, "the main package is recorded with all")
			}
			assert.Equal(t, before, texts(t, dir))
			assert.Equal(t, beforeRoot, texts(t, root))
		})
	}
}

// What code of the module that is not recorded may have changed is not told as a fact.
func TestFunctionsThatAreLeftOutCountAsForeign(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "quay"), 0o700))
	for name, text := range map[string]string{"go.mod": "module left\n\ngo 1.24\n",
		"quay/quay.go": "package quay\n\n// Deepen changes the depth.\nfunc Deepen(depth *int) { *depth = 7 }\n",
		"main.go":      "package main\n\nimport \"left/quay\"\n\nfunc deepen(depth *int) { *depth = 9 }\n\nfunc main() {\n\tdepth := 3\n\tquay.Deepen(&depth)\n\tprintln(depth) // first\n\tdeepen(&depth)\n\tprintln(depth) // second\n}\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	for _, c := range []struct {
		detail        recorder.Detail
		first, second string
	}{{recorder.Detail{Packages: []string{"left"}}, "7", "9"}, {recorder.Detail{Functions: []string{"main.main"}}, "7", "9"}, {recorder.Detail{}, "7", "9"}} {
		ran := recordWith(t, recorder.Options{Detail: c.detail}, dir, "go", "run", ".")
		require.Zero(t, ran.ExitCode, ran.err)
		r := open(t, ran.log)
		for mark, want := range map[string]string{"first": c.first, "second": c.second} {
			got, err := evaluate(t, r, atMark(t, r, dir, mark), "depth")
			require.NoError(t, err)
			assert.Equal(t, want, got, "%v, %s", c.detail, mark)
		}
	}
	_, err := recorder.Record(context.Background(), recorder.Options{Output: filepath.Join(dir, "x.wraith"), Command: []string{"go", "version"}})
	kind, _ := fault.Of(err)
	assert.Equal(t, fault.NotRecordable, kind)
}
