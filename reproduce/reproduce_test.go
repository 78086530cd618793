package reproduce

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/sandbox"
)

func TestMain(m *testing.M) {
	sandbox.Enter()
	os.Exit(m.Run())
}

// recording is a recorded program.
type recording struct {
	replay.Recording
	dir string
}

// recorded records a command in a module.
func recorded(t *testing.T, dir string, command ...string) recording {
	t.Helper()
	log := filepath.Join(t.TempDir(), "log.wraith")
	cmd := exec.Command(wraith(t), append([]string{"record", "-o", log, "--"}, command...)...)
	cmd.Dir = dir
	out, _ := cmd.CombinedOutput() // programs and tests may fail
	_, err := os.Stat(log)
	require.NoError(t, err, "%s", out)
	r, err := kinds.All.Open(context.Background(), log, evidence.Options{Timelines: evidence.Timelines{Folder: t.TempDir()}}, nil)
	require.NoError(t, err)
	return recording{r, dir}
}

// wraith builds the command once.
var wraithPath = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "wraith-command-*")
	if err != nil {
		return "", err
	}
	out, err := exec.Command("go", "build", "-o", dir, "wraithology/cmd/wraith").CombinedOutput()
	if err != nil {
		return string(out), err
	}
	return filepath.Join(dir, "wraith"), nil
})

func wraith(t *testing.T) string {
	path, err := wraithPath()
	require.NoError(t, err, path)
	return path
}

// callTo returns a call of a function, from 0; negative counts from the last.
func (r recording) callTo(t *testing.T, function string, n int) replay.MadeCall {
	t.Helper()
	calls := r.Recording.(replay.Calls)
	_, total, err := calls.MadeCalls(context.Background(), function, replay.Page{})
	require.NoError(t, err)
	if n < 0 {
		n += total
	}
	list, _, err := calls.MadeCalls(context.Background(), function, replay.Page{From: n, Count: 1})
	require.NoError(t, err)
	require.Len(t, list, 1, function)
	return list[0]
}

// outcomes counts what became of calls that were made again.
type outcomes struct{ refused, complete, completeSame, incomplete, incompleteSame int }

// again makes random calls of a recording again. Those that are complete have to behave as recorded.
func (r recording) again(t *testing.T, seed uint64, n int) (got outcomes) {
	t.Helper()
	ctx := context.Background()
	calls := r.Recording.(replay.Calls)
	g := rand.New(rand.NewPCG(seed, 41))
	info := r.Info()
	for got.complete+got.incomplete < n && got.refused < 50*n {
		at := event.Moment(g.Int64N(info.Moments))
		thread, err := r.ThreadOf(at)
		require.NoError(t, err)
		frames, err := r.Frames(ctx, at, thread)
		if err != nil || len(frames) == 0 {
			got.refused++
			continue
		}
		call, err := calls.MadeCall(ctx, at, thread, g.IntN(len(frames)))
		require.NoError(t, err)
		test, err := Write(ctx, r.Recording, call, Options{Source: r.dir, Link: "log@" + strconv.Itoa(int(at))})
		if err != nil {
			require.ErrorIs(t, err, fault.NotRemade, "%s at %d", call.Function.Name, call.Enter)
			got.refused++
			continue
		}
		run, err := test.Run(ctx)
		if err != nil {
			assert.NoError(t, err, "%s at %d\n%.3000s", call.Function.Name, call.Enter, test.Text)
			got.refused++
			continue
		}
		switch {
		case test.Complete():
			got.complete++
			if run.Same {
				got.completeSame++
				break
			}
			var differ []Compared
			for _, x := range run.Results {
				if x.Recorded != x.Now {
					differ = append(differ, x)
				}
			}
			t.Logf("%s at %d is complete and differs: %s %v\n%.6000s", call.Function.Name, call.Enter, run.Error, differ[:min(len(differ), 5)], test.Text)
		default:
			got.incomplete++
			got.incompleteSame += map[bool]int{true: 1}[run.Same]
			if os.Getenv("WRAITH_GAPS") != "" {
				t.Logf("%s: %.300s", call.Function.Name, strings.Join(test.Gaps, "; "))
			}
		}
	}
	return got
}

// modules are public modules whose recorded tests are made again, call by call.
var modules = []struct {
	path     string
	packages []string
}{
	{"github.com/hashicorp/golang-lru/v2@v2.0.7", []string{"./simplelru", "./expirable"}},
	{"github.com/spf13/pflag@v1.0.7", []string{"."}},
	{"github.com/spf13/cobra@v1.10.1", []string{"./..."}},
	{"github.com/pelletier/go-toml/v2@v2.2.4", []string{"./internal/...", "./unstable"}},
	{"github.com/Masterminds/squirrel@v1.5.4", []string{"."}},
}

// Random calls of the demo, and of what nobody wrote for us (make truth).
func TestCallsOfPublicModules(t *testing.T) {
	n, err := strconv.Atoi(os.Getenv("WRAITH_REPRODUCE"))
	if err != nil {
		t.Skip("make truth runs this")
	}
	again := func(name string, seed uint64, record func(t *testing.T) recording) {
		t.Run(name, func(t *testing.T) {
			got := record(t).again(t, seed, n)
			t.Logf("%+v", got)
			assert.GreaterOrEqual(t, got.completeSame*100, got.complete*95)
		})
	}
	again("demo", 7, func(t *testing.T) recording {
		dir := filepath.Join(t.TempDir(), "berthing")
		require.NoError(t, os.CopyFS(dir, os.DirFS("../demo/berthing")))
		return recorded(t, dir, "go", "run", ".", "--notices", "0412,0419")
	})
	for i, m := range modules {
		again(strings.ReplaceAll(m.path, "/", "_"), uint64(i), func(t *testing.T) recording {
			return recorded(t, fetched(t, m.path), append([]string{"go", "test", "-vet=off"}, m.packages...)...)
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
	var x struct{ Dir string }
	require.NoError(t, json.Unmarshal(out, &x))
	into := filepath.Join(at, "module")
	require.NoError(t, os.CopyFS(into, os.DirFS(x.Dir)))
	out, err = exec.Command("chmod", "-R", "u+w", into).CombinedOutput()
	require.NoError(t, err, "%s", out)
	download := exec.Command("go", "mod", "download")
	download.Dir = into
	out, err = download.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return into
}

// A package is used where its name qualifies another one in code, and not in a comment or text.
func TestQualifiers(t *testing.T) {
	t.Parallel()
	const text = "// w stands in for an io.Writer\ntype w struct{ on func(list ...tide.Level) (n int, err error) }\nvar x = quay.Depth.sill + \"fmt.Errorf\" + (*berth.Berth)(nil).os.Name + strings.TrimSpace(`path.Base`) /* net.Conn */\n"
	assert.Equal(t, map[string]bool{"tide": true, "quay": true, "berth": true, "strings": true}, qualifiers(text))
}
