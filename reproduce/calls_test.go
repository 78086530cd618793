package reproduce

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// quays is the recording of testdata/quays.
var quaysOnce sync.Once
var quaysRecording recording

func quays(t *testing.T) recording {
	quaysOnce.Do(func() {
		dir, err := os.MkdirTemp("", "wraith-quays-*")
		require.NoError(t, err)
		require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/quays")))
		quaysRecording = recorded(t, dir, "go", "run", ".")
	})
	require.NotNil(t, quaysRecording.Recording)
	return quaysRecording
}

// Calls of all kinds behave as recorded when they are made again, and the tests say what a person would write.
func TestCallsBehaveAsRecorded(t *testing.T) {
	t.Parallel()
	r := quays(t)
	ctx := context.Background()
	reader := r.Recording.(replay.Calls)
	files, texts := map[string][]byte{}, map[string]string{} // the tests are built together
	run := []string{"main.forecast", "main.(*depot).release", "main.rename", "main.(*quay).dock", "main.overwrite", "main.anything", "main.(*stack).push", "main.plumb", "main.scribble", "main.serve", "main.highest"}
	var whole []*Test // those that are run by themselves too
	var m *module
	for _, x := range []struct {
		function string
		number   int
		contains []string
		gap      string // empty if the test is complete
	}{
		{"main.rotate", 0, []string{`rotate(`, `"Kelp"`}, ""},
		{"main.stamped", 0, []string{`&desk{clerk: "Ines", stamps: 7}`}, ""},
		{"main.stamped", 1, []string{"d := archive"}, ""},
		{"main.rename", 0, []string{`"Ness"`, `"Ness?"`}, ""},
		{"main.(*quay).dock", 0, []string{`arrives: time.Date(2031, time.March, 1, 6, 30, 0, 5, time.UTC)`, `stay:    36 * time.Hour`, `level: tide.High`}, ""},
		{"main.(*quay).dock", 3, []string{`"dock Halcyon Drift: the quay is full"`, "&timber{"}, ""},
		{"main.weigh", 0, []string{`grain{tonnes: 2.0}`}, ""},
		{"main.overwrite", 0, []string{"[1:3"}, ""},
		{"main.first", 0, []string{`{1, 2}: "a"`, `{3, 4}`}, ""},
		{"main.nights", 0, []string{`50*time.Hour`}, ""},
		{"main.sink", 0, []string{"new(int)"}, ""},
		{"main.half", 0, []string{`setField(`, `"abs"`}, "it was not recorded"},
		{"main.scribble", 0, []string{`setField(`, `"fog"...)`}, ""},
		{"main.clear", 0, []string{"margin = 0.25", "t.Cleanup("}, ""},
		{"main.apply", 0, []string{"f := double"}, ""},
		{"main.apply", 1, []string{"case 2:"}, "replaced by one that returns what it returned then"},
		{"main.mapped", 0, []string{"mapped[string, int]("}, ""},
		{"main.mapped", 1, []string{"mapped[int, *ring]("}, ""},
		{"main.(*stack).push", 1, []string{"&stack[float64]{", "math.Inf(1)"}, ""},
		{"main.serve", 1, []string{"served = 1"}, ""},
		{"main.plumb", 0, []string{"recover()"}, ""},
		{"main.refuse", 0, []string{`fmt.Errorf("dock Halcyon Drift: %w", errFull)`}, ""},
		{"main.refuse", 1, []string{"tide.ErrEbb"}, ""},
		{"main.refuse", 2, []string{`errors.New("no crew")`}, ""},
		{"main.refuse", 3, []string{"refuse("}, ""},
		{"main.odd", 0, []string{"math.NaN()", "complex(1.0, -2.0)"}, ""},
		{"main.highest", 0, []string{`"levels", []tide.Level{`, "tide.Low"}, ""},
		{"main.hoist", 0, []string{"context.Background()"}, "context"},
		{"main.clock", 0, nil, "the clock (time.Now at main.go"},
		{"main.slurp", 0, nil, "files or the process (os.ReadFile at main.go"},
		{"main.anything", 0, []string{`[]string{"y"}`, `ring{name: "Ness"}`, `tide.Low`, "struct{}{}"}, ""},
		{"main.measure", 0, []string{"var c cargo = weigher(heavy)"}, ""},
		{"main.measure", 1, []string{"var c cargo = &timber{"}, ""},
		{"main.chain", 0, []string{"var v any = "}, ""},
		{"main.wait", 0, nil, "other goroutines"},
		{"main.beside", 0, nil, "memory around its arguments (unsafe."},
		{"main.forecast", 0, []string{"tide.Gauge\n", "onRead: func(_ int) (tide.Level, error) {", "case 4:", "gauge := &gaugeInForecast{"}, "the *tide.gauge is replaced by one that returns what it returned then"},
		{"main.(*depot).release", 0, []string{"d.mu.Lock()", "d.gates[1].RLock()", "ledger.Mutex.Lock()"}, ""},
		{"main.(*depot).take", 0, []string{"d.take(4)"}, ""},
	} {
		call := r.callTo(t, x.function, x.number)
		if m == nil {
			var err error
			m, err = load(ctx, r.dir, recordedSource(r.Recording, r.dir, reader.SourceFiles()), call, nil)
			require.NoError(t, err)
		}
		test, err := m.test(r.Recording, reader, call, "quays.wraith@1")
		require.NoError(t, err)
		for _, text := range x.contains {
			assert.Contains(t, test.Text, text, x.function)
		}
		assert.Equal(t, x.gap == "", test.Complete(), "%s: %v", x.function, test.Gaps)
		assert.Contains(t, strings.Join(test.Gaps, "\n"), x.gap, x.function)
		if x.gap == "" || strings.Contains(x.gap, "stand") || strings.Contains(x.gap, "returned then") {
			name := fmt.Sprintf("Test%d", len(files))
			files[fmt.Sprintf("t%d_test.go", len(files))] = []byte(strings.Replace(test.Text, "func "+test.Name+"(", "func "+name+"(", 1))
			texts[name] = test.Text
		}
		if slices.Contains(run, x.function) && (x.gap == "" || strings.Contains(x.gap, "returned then")) {
			whole = append(whole, test)
		}
	}
	program, err := m.build(ctx, t.TempDir(), files)
	require.NoError(t, err)
	out, err := exec.Command(program, "-test.v").CombinedOutput()
	assert.NoError(t, err, "%s", out)
	for name, text := range texts {
		assert.Contains(t, string(out), "--- PASS: "+name+" ", "%s\n%s", text, out)
	}
	for _, test := range whole {
		t.Run(test.Name, func(t *testing.T) {
			t.Parallel()
			run, err := test.Run(ctx)
			require.NoError(t, err, test.Text)
			assert.True(t, run.Same, "%s %v\n%s", run.Error, run.Results, test.Text)
		})
	}
}

// What cannot be called by itself is refused, with the reason.
func TestWhatIsNotACall(t *testing.T) {
	t.Parallel()
	r := quays(t)
	for function, why := range map[string]string{"main.main": "whole program", "main.leave": "the recording ends", "main.main.func1": "function literal"} {
		_, err := Write(context.Background(), r.Recording, r.callTo(t, function, 0), Options{Source: r.dir})
		require.ErrorIs(t, err, fault.NotRemade, function)
		assert.ErrorContains(t, err, why, function)
	}
	_, err := Write(context.Background(), r.Recording, r.callTo(t, "main.sink", 0), Options{Source: t.TempDir()})
	require.ErrorIs(t, err, fault.NotRemade)
	call := r.callTo(t, "main.sink", 0)
	call.File = "../main.go"
	_, err = Write(context.Background(), r.Recording, call, Options{Source: r.dir})
	require.ErrorIs(t, err, fault.NotRemade)
}

// A change of the source shows in the calls whose results it changes, and in no others.
func TestTrialOfAChange(t *testing.T) {
	t.Parallel()
	r := quays(t)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(r.dir)))
	same, err := Try(context.Background(), r.Recording, "main.refuse", TrialOptions{Source: dir})
	require.NoError(t, err)
	none, err := Try(context.Background(), r.Recording, "main.refuse", TrialOptions{Source: dir, Time: time.Nanosecond})
	require.NoError(t, err)
	assert.Equal(t, Trial{Total: same.Total, NotTried: same.Total, Differing: []TrialCall{}, Notes: same.Notes}, none, "nothing is said about calls for which there was no time")
	assert.Equal(t, []int{4, 4, 4, 0, 0}, []int{same.Total, same.Calls, same.Same, same.Differ, same.NotRebuilt})
	text, err := os.ReadFile(filepath.Join(dir, "main.go"))
	require.NoError(t, err)
	change := func(old, new string) {
		require.Contains(t, string(text), old)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(strings.Replace(string(text), old, new, 1)), 0o600))
	}
	change(" || errors.Is(e, tide.ErrEbb)", "")
	got, err := Try(context.Background(), r.Recording, "main.refuse", TrialOptions{Source: dir})
	require.NoError(t, err)
	assert.Equal(t, []int{3, 1}, []int{got.Same, got.Differ})
	require.Len(t, got.Differing, 1)
	assert.Equal(t, "true", got.Differing[0].Results[0].Recorded)
	assert.Equal(t, "false", got.Differing[0].Results[0].Now)

	change("*p -= n", "*p += n")
	sank, err := Try(context.Background(), r.Recording, "main.sink", TrialOptions{Source: dir})
	require.NoError(t, err)
	require.Len(t, sank.Differing, 1, "what it changes counts as a result")
	assert.Equal(t, []Compared{{"p.*", "5", "13"}}, sank.Differing[0].Results)

	change("return list[i] }", "panic(i) }")
	fell, err := Try(context.Background(), r.Recording, "main.plumb", TrialOptions{Source: dir})
	require.NoError(t, err)
	assert.Equal(t, 1, fell.Differ, "another panic")
	change("return true, nil\n", "os.Exit(3)\n")
	ended, err := Try(context.Background(), r.Recording, "main.refuse", TrialOptions{Source: dir})
	require.NoError(t, err)
	assert.Equal(t, []int{2, 2}, []int{ended.Same, ended.Differ}, "a call that ends the program does not end the trial")
	change("func refuse(e error)", "func refuse(e string)")
	_, err = Try(context.Background(), r.Recording, "main.refuse", TrialOptions{Source: dir})
	require.ErrorIs(t, err, fault.BuildFailed)
}

// What a call changed outside itself is named from what it was given, also where objects have moved.
func TestChangesOfCalls(t *testing.T) {
	t.Parallel()
	r := quays(t)
	for _, x := range []struct {
		function string
		number   int
		want     []string // path, before, after
	}{
		{"main.(*quay).dock", 0, []string{"q.ships", "nil", "len 1", "q.ships[0]", "", "= s", "q.lookup", "len 0", "len 1", `q.lookup["Curlew Bank"]`, "", "= s", "s.quay", "nil", "= q"}},
		{"main.rename", 0, []string{"r.next.name", `"Salt"`, `"Ness"`, "r.next.next.name", `"Kelp"`, `"Ness?"`}},
		{"main.serve", 0, []string{"main.served", "0", "1"}},
		{"main.sink", 0, []string{"p.*", "9", "5"}},
		{"main.weigh", 0, nil},
	} {
		at := r.callTo(t, x.function, x.number)
		got, err := ask.Run(context.Background(), ask.Subject{Recording: r.Recording}, ask.CallRequest{Place: ask.Place{Moment: at.Enter, Thread: at.Thread}, Count: 100})
		require.NoError(t, err)
		var list []string
		text := func(s *string) string {
			if s == nil {
				return ""
			}
			return *s
		}
		for _, c := range got.Changed {
			list = append(list, c.Name, text(c.Old), text(c.New))
		}
		assert.Equal(t, x.want, list, x.function)
		assert.Equal(t, at.Enter, got.Moment)
		assert.Equal(t, "returned", got.Outcome)
	}
}

// Suppositions change what they should, and only that.
func TestSuppositions(t *testing.T) {
	t.Parallel()
	r := quays(t)
	ctx := context.Background()
	suppose := func(function string, number int, list ...string) (Supposed, error) {
		call := r.callTo(t, function, number)
		var all []Supposition
		for _, text := range list {
			s, err := ParseSupposition(text)
			require.NoError(t, err)
			all = append(all, s)
		}
		return Suppose(ctx, r.Recording, call.Enter, call.Thread, 0, all, Options{Source: r.dir})
	}
	changed := func(x Supposed) (out []Compared) {
		for _, c := range x.Results {
			if c.Recorded != c.Now {
				out = append(out, c)
			}
		}
		return out
	}
	got, err := suppose("main.clear", 0, "limit=1", "main.margin = margin + 1.1")
	require.NoError(t, err)
	assert.Equal(t, []Compared{{"result 1[1]", "true", "false"}}, changed(got), "2.1, 2.3 and 9 over 1, by more than 1.35")
	got, err = suppose("main.(*quay).dock", 3, "s.name=\"Ness\"")
	require.NoError(t, err)
	assert.Contains(t, changed(got), Compared{"result 1.msg", `"dock Halcyon Drift: the quay is full"`, `"dock Ness: the quay is full"`})
	assert.Empty(t, got.Conditions)
	got, err = suppose("main.refuse", 2, "e=null")
	require.NoError(t, err)
	assert.NotEmpty(t, changed(got))
	got, err = suppose("main.plumb", 0, "i=1")
	require.NoError(t, err)
	assert.Equal(t, []Compared{{"panic", `"runtime error: index out of range [5] with length 2"`, ""}}, changed(got), "it does not panic")
	got, err = suppose("main.refuse", 0, "e=null")
	require.NoError(t, err)
	require.Len(t, got.Conditions, 1)
	assert.Equal(t, []string{"true", "false"}, []string{got.Conditions[0].Recorded, got.Conditions[0].Supposed})
	got, err = suppose("main.passable", 0, "limit=150", "levels[3]=140")
	require.NoError(t, err)
	var conditions []string
	for _, c := range got.Conditions {
		conditions = append(conditions, fmt.Sprintf("%s:%d %s: %s, %s", c.File, c.Line, c.Expression, c.Recorded, c.Supposed))
	}
	assert.Equal(t, []string{"main.go:248 l < limit: true 1 of 4 times, true 3 of 4 times", "main.go:251 name != \"\": true 2 of 3 times, false",
		"tide/tide.go:78 case l > 400: true once, false", "tide/tide.go:84 default: true once, false"}, conditions, "also those of calls")
	got, err = suppose("main.passable", 0, "limit=limit")
	require.NoError(t, err)
	assert.Empty(t, got.Conditions)
	for text, kind := range map[string]*fault.Kind{"nothing=1": fault.NoName, "s.nothing=1": fault.InvalidPath, "s.name=1": fault.InvalidRequest, "s=1": fault.InvalidRequest, "s.name=x(": fault.InvalidExpression} {
		_, err := suppose("main.(*quay).dock", 0, text)
		require.ErrorIs(t, err, kind, text)
	}
	_, err = ParseSupposition("depth")
	require.ErrorIs(t, err, fault.InvalidRequest)
}

// Paths and names in a recording are not believed.
func TestNamesOfARecordingAreNotBelieved(t *testing.T) {
	t.Parallel()
	r := quays(t)
	call := r.callTo(t, "main.sink", 0)
	for _, name := range []string{"main.sink\nfunc init() {}", "main.sink()", "main.(*x", "main.", "main.sink;x", "main.(*ring).name", "main.init", "main.errFull"} {
		bad := call
		bad.Function.Name = name
		_, err := Write(context.Background(), r.Recording, bad, Options{Source: r.dir})
		require.ErrorIs(t, err, fault.NotRemade, name)
	}
	test, err := Write(context.Background(), r.Recording, call, Options{Source: r.dir, Link: "x\nfunc init() { panic(1) }\u2028y"})
	require.NoError(t, err)
	assert.NotContains(t, test.Text, "\nfunc init")
}
