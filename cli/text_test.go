package cli

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/replay"
)

// Text from evidence cannot move a terminal's cursor or change its colours.
func TestControlCharactersAreShown(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{"Kelp Quay 3": "Kelp Quay 3", "a\x1b[31mb": "a·[31mb", "two\nlines\r": "two·lines·", "größe": "größe", "\u009b1m": "·1m"} {
		assert.Equal(t, want, safe(text))
		assert.Equal(t, want, plain(text))
	}
	assert.Equal(t, "a b", plain("a\tb"))
	assert.Equal(t, "a·b", safe("a\tb"))
}

// A list says what follows the page that is shown.
func TestWhatFollowsAPage(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		total, from, shown int
		want               string
	}{{10, 0, 4, "  6 more: --from 4\n"}, {10, 4, 5, "  1 more: --from 9\n"}, {10, 4, 6, ""}, {0, 0, 0, ""}, {3, 7, 0, ""}} {
		var out strings.Builder
		printMore(&out, x.total, x.from, x.shown)
		assert.Equal(t, x.want, out.String())
	}
}

// A quoted argument is one word for a shell again.
func TestQuotedForAShell(t *testing.T) {
	t.Parallel()
	for _, s := range []string{"quay", "two words", `berths["Inner Ness"]`, "*p", "a'b c", "$HOME", "f(x)", "<fog", "it's [1]"} {
		out, err := exec.Command("sh", "-c", "printf '%s|' "+quoteArgument(s)).Output()
		require.NoError(t, err, s)
		assert.Equal(t, s+"|", string(out))
	}
	assert.Equal(t, "quay.Depth", quoteArgument("quay.Depth"), "without need")
}

func TestCounted(t *testing.T) {
	t.Parallel()
	for want, c := range map[string]struct {
		n    int
		what string
	}{"1 moment": {1, "moment"}, "2 moments": {2, "moment"}, "0 moments": {0, "moment"}, "3 processes": {3, "process"}, "1 process": {1, "process"}, "-1 spans": {-1, "span"}} {
		assert.Equal(t, want, counted(c.n, c.what))
	}
}

// Durations are the same as Go writes them, with the unit apart where there is one only.
func TestDurations(t *testing.T) {
	t.Parallel()
	for ns, want := range map[int64]string{0: "0 s", 737_000: "737 µs", 1_500_000: "1.5 ms", -3: "-3 ns", 63_000_000_000: "1m3s", 2_000_000_000: "2 s"} {
		assert.Equal(t, want, duration(ns))
	}
	r := rand.New(rand.NewPCG(1, 21))
	for range 1000 {
		ns := r.Int64() >> r.IntN(64)
		got, err := time.ParseDuration(strings.ReplaceAll(duration(ns), " ", ""))
		require.NoError(t, err)
		require.EqualValues(t, ns, got)
	}
}

// A bar is as wide as any, begins where its span does, and is never empty.
func TestBars(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, 22))
	for range 2000 {
		whole := r.Int64N(1 << 40)
		start, length := r.Int64N(1<<41)-1<<39, r.Int64N(1<<40)
		got := bar(start, length, whole)
		require.Len(t, got, barWidth)
		from := strings.IndexByte(got, '=')
		require.GreaterOrEqual(t, from, 0)
		require.Regexp(t, `^\.*=+\.*$`, got)
		if whole > 0 && start >= 0 && start < whole {
			require.InDelta(t, float64(start)/float64(whole)*barWidth, float64(from), 1.001)
			if start+length <= whole {
				require.InDelta(t, float64(start+length)/float64(whole)*barWidth, float64(strings.LastIndexByte(got, '=')+1), 1.001)
			}
		}
	}
	assert.Equal(t, strings.Repeat("=", barWidth), bar(0, 5, 0))
	assert.Equal(t, strings.Repeat("=", barWidth), bar(0, 10, 10))
	assert.Equal(t, strings.Repeat("=", barWidth/2)+strings.Repeat(".", barWidth/2), bar(0, 5, 10))
	assert.Equal(t, strings.Repeat(".", barWidth-1)+"=", bar(10, 5, 10))
}

// Each kind of origin has its own words.
func TestSentences(t *testing.T) {
	t.Parallel()
	for kind, words := range map[replay.OriginKind]string{replay.FromWrite: "written here", replay.FromArgument: "passed as an argument", replay.FromResult: "returned here", replay.FromConstant: "a constant", replay.FromInput: "an input"} {
		x := ask.Origin{Name: "water", Value: "4.2", Kind: string(kind)}
		assert.Equal(t, "water was 4.2, "+words, sentence(x))
		x.Note = "folded"
		assert.Equal(t, "water was 4.2, "+words+" (folded)", sentence(x))
		x.Value, x.Note = "water", ""
		assert.Equal(t, "water, "+words, sentence(x))
	}
	assert.Equal(t, "water was 4.2 (again)", sentence(ask.Origin{Name: "water", Value: "4.2", Kind: string(replay.FromRepeat), Note: "again"}))
	assert.Equal(t, "water, of unknown origin", sentence(ask.Origin{Name: "water", Kind: "tide"}))
}

// Runs of three and more foreign frames become one line; own ones come with their source.
func TestFoldedFrames(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 23))
		var frames []ask.Frame
		for i := range r.IntN(20) {
			frames = append(frames, ask.Frame{Index: i, Function: fmt.Sprint("f", i), Own: r.IntN(3) == 0, File: "berth.go", Line: i + 1, Inlined: i%5 == 0})
		}
		var out bytes.Buffer
		printFolded(&out, frames, func(_ string, line int) string { return fmt.Sprint("text of ", line) })
		shown, folded := map[string]bool{}, 0
		for _, l := range strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n") {
			var index, n int
			var name, first, last string
			if k, _ := fmt.Sscanf(l, "  %d  … %d foreign frames, from %s to %s", &index, &n, &first, &last); k == 4 {
				require.Greater(t, n, 2)
				require.Equal(t, fmt.Sprint("f", index), first)
				require.Equal(t, fmt.Sprint("f", index+n-1), last)
				folded += n
			} else if k, _ := fmt.Sscanf(l, "%d %s", &index, &name); k == 2 {
				shown[name] = true
				require.Equal(t, index%5 == 0, strings.HasSuffix(l, "(inlined)"))
			}
		}
		require.Equal(t, len(frames), len(shown)+folded, out.String())
		for _, f := range frames {
			if f.Own {
				require.True(t, shown[f.Function])
				require.Contains(t, out.String(), fmt.Sprintf("| text of %d\n", f.Line))
			}
		}
	}
}

// A ledger in CSV is read back by a CSV reader, whatever its values hold.
func TestLedgerAsCSV(t *testing.T) {
	t.Parallel()
	l := ask.Ledger{Columns: []string{"a", `b["x,y"]`}, Rows: []ask.LedgerRow{
		{Moment: 7, Thread: 2, Function: "assign", File: "berth.go", Line: 3, Cells: []ask.LedgerCell{{Value: `"two, words"`}, {Value: "two\nlines", Changed: true}}},
		{Moment: 9, Thread: 2, Function: "assign", File: "berth.go", Line: 4, Cells: []ask.LedgerCell{{Error: "no value"}, {Value: "|"}}},
	}}
	var out bytes.Buffer
	require.NoError(t, writeCSV(&out, l))
	got, err := csv.NewReader(&out).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"moment", "thread", "function", "file", "line", "a", `b["x,y"]`}, got[0])
	assert.Equal(t, []string{"7", "2", "assign", "berth.go", "3", "two, words", "two\nlines"}, got[1])
	assert.Equal(t, "9", got[2][0])
	out.Reset()
	require.NoError(t, writeMarkdown(&out, l))
	rows := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, rows, 4)
	for _, row := range rows {
		assert.Equal(t, 5, strings.Count(strings.ReplaceAll(row, `\|`, ""), "|"), row)
	}
	assert.Contains(t, rows[2], "**")
}

// What a name can stand for: a file that is there, evidence CASE/NAME, or a case.
func TestWhatNamesCanStandFor(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.MkdirAll("case", 0o755))
	require.NoError(t, os.WriteFile("case/file", nil, 0o666))
	for name, want := range map[string][2]bool{ // evidence in the service, a case
		"case/other": {true, false}, "case/file": {false, false}, "a/b/c": {false, false}, "/b": {false, false}, "./b": {false, false}, "../b": {false, false}, ".hidden/b": {false, false},
		"-": {false, false}, "case": {false, false}, "shallow-berth": {false, true}, "run@4711": {false, false}, "": {false, true},
	} {
		assert.Equal(t, want, [2]bool{mayBeShared(name), mayBeCase(name)}, "%q", name)
	}
}
