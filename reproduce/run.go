package reproduce

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/calls"
	"wraithology/sandbox"
)

// Run is how a call behaved when it was made again.
type Run struct {
	Same    bool       // everything that is known of the recorded call is as it was
	Results []Compared // what differs, and the results
	Error   string     // why it could not be compared

	stood map[string]bool
}

// Compared is a value that the recorded call and the repeated one gave back or left behind. Name is its path, as
// "result 1.HeightMetres" or "b.stations[…]". Now is empty if it is not there.
type Compared struct{ Name, Recorded, Now string }

// Limits of a run.
const (
	runTime       = time.Minute
	mostDiffering = 100
)

// Run makes the call in a sandbox, with the recorded source, and compares what it gives back with the recording. It runs the test
// too.
func (t *Test) Run(ctx context.Context) (Run, error) {
	h := newHarness(t.m, t.f)
	h.add(t.call)
	out, err := h.run(ctx, map[string]string{filepath.Base(t.File): t.Text}, "|"+t.Name)
	if err != nil {
		return Run{}, err
	}
	if out.reports[0] == nil {
		return Run{Error: out.why(0), Results: []Compared{}}, nil
	}
	run := compareRun(t.call, out.reports[0], false, h.stood)
	if failed := "--- FAIL: " + t.Name + " "; run.Same && strings.Contains(out.printed, failed) {
		run.Same, run.Error = false, "the test fails: "+strings.TrimSpace(out.printed[strings.Index(out.printed, failed):])
	}
	return run, nil
}

// ran is what a harness left: the report of each call, nil for calls that did not end, and what it printed.
type ran struct {
	reports []map[string]string
	printed string
	slow    map[int]bool // calls that took longer than runTime
	tried   int          // calls that began; there was no time for the others
}

// why says why a call did not end.
func (r ran) why(i int) string {
	if r.slow[i] {
		return fmt.Sprintf("the call did not end: it took longer than %s", runTime)
	}
	return "the call did not end: " + r.last()
}

// last returns what a program printed last, or why it panicked.
func (r ran) last() string {
	for _, line := range strings.Split(r.printed, "\n") {
		if strings.HasPrefix(line, "panic: ") || strings.HasPrefix(line, "fatal error: ") {
			return line
		}
	}
	lines := strings.Split(strings.TrimSpace(r.printed), "\n")
	return lines[len(lines)-1]
}

// runner is a program that makes the calls of a harness.
type runner struct {
	text         string // of the harness
	work, folder string
	program      string
}

func (r *runner) close() { _ = os.RemoveAll(r.work) } // what stays is a temporary file

// program builds a harness. beside are further files of the package.
func (h *harness) program(ctx context.Context, text string, beside map[string]string) (_ *runner, err error) {
	r := &runner{text: text}
	if r.work, err = os.MkdirTemp("", "wraith-reproduce-*"); err != nil {
		return nil, fmt.Errorf("make a folder: %w", err)
	}
	defer func() {
		if err != nil {
			r.close()
		}
	}()
	files := map[string][]byte{"wraith_calls_test.go": []byte(text)}
	for name, text := range beside {
		files[name] = []byte(text)
	}
	program, err := h.m.build(ctx, r.work, files)
	if err != nil {
		return nil, err
	}
	r.folder = filepath.Join(r.work, "run")
	r.program = filepath.Join(r.folder, "reproduce.test")
	if err := os.Mkdir(r.folder, 0o700); err != nil {
		return nil, fmt.Errorf("make a folder: %w", err)
	}
	if err := os.Rename(program, r.program); err != nil {
		return nil, fmt.Errorf("move the program: %w", err)
	}
	return r, nil
}

// run builds the harness and makes its calls. beside are further files of the package, of which the tests further run too.
func (h *harness) run(ctx context.Context, beside map[string]string, further string) (ran, error) {
	text, err := h.text()
	if err != nil {
		return ran{}, err
	}
	r, err := h.program(ctx, text, beside)
	if err != nil {
		return ran{}, err
	}
	defer r.close()
	return r.run(ctx, h.calls, further, time.Now().Add(2*runTime))
}

// run makes calls until a time. A call that ends the program, or leaves package variables changed, ends its run; the rest is made by
// further ones, and so is a call that was interrupted because those before it took the time.
func (r *runner) run(ctx context.Context, list []*callData, further string, until time.Time) (out ran, err error) {
	out.reports, out.slow = make([]map[string]string, len(list)), map[int]bool{}
	for out.tried < len(list) {
		left := min(runTime, time.Until(until))
		if left <= 0 {
			break
		}
		if err := writeCalls(filepath.Join(r.folder, "calls.json"), list, out.tried); err != nil {
			return out, err
		}
		got, err := sandbox.Run(ctx, sandbox.Program{Path: r.program, Args: []string{"-test.run=^(TestWraithCalls" + further + ")$", "-test.timeout=0"}, Folder: r.folder,
			Env:    []string{"HOME=" + r.folder, "TMPDIR=" + r.folder, "PATH=/usr/bin:/bin", "TZ=" + os.Getenv("TZ"), "GOTRACEBACK=none", "GOGC=400"},
			Limits: sandbox.Limits{Time: left}})
		if err != nil {
			return out, err
		}
		began, err := readReport(got.Report, out.reports[out.tried:])
		if err != nil {
			return out, err
		}
		out.printed += got.Printed
		withTests := further != ""
		further = ""
		switch {
		case began == 0 && withTests: // a test ended the program
			continue
		case got.TimedOut && began <= 1 && left < runTime:
			return out, nil
		case got.TimedOut && began <= 1:
			out.slow[out.tried] = true
			out.tried++
		case got.TimedOut && out.reports[out.tried+began-1] == nil:
			out.tried += began - 1
		case began == 0:
			return out, fmt.Errorf("%w: the program ended before the first call: %s", fault.NotRemade, out.last())
		default:
			out.tried += began
		}
	}
	return out, nil
}

// writeCalls writes the calls of a list from one on.
func writeCalls(path string, list []*callData, from int) error {
	f, err := os.Create(path)
	if err != nil {
		return fmt.Errorf("write the calls: %w", err)
	}
	buffered := bufio.NewWriter(f)
	e := json.NewEncoder(buffered)
	err = e.Encode(wholeAt(list, from))
	for _, c := range list[from+1:] {
		err = errors.Join(err, e.Encode(c))
	}
	if err = errors.Join(err, buffered.Flush(), f.Close()); err != nil {
		return fmt.Errorf("write the calls: %w", err)
	}
	return nil
}

// readReport reads the reports of calls, and returns how many calls began.
func readReport(text []byte, reports []map[string]string) (began int, err error) {
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 64<<20)
	current := make([]map[string]string, len(reports))
	for lines.Scan() {
		number, rest, _ := strings.Cut(lines.Text(), " ")
		i, err := strconv.Atoi(number)
		if err != nil || i < 0 || i >= len(reports) {
			continue
		}
		switch rest {
		case "begin":
			current[i] = map[string]string{}
			began = max(began, i+1)
			continue
		case "end":
			reports[i] = current[i]
			continue
		}
		if path, text, ok := twoQuoted(rest); ok && current[i] != nil {
			current[i][path] = text
		}
	}
	return began, lines.Err()
}

// twoQuoted reads two texts in quotation marks.
func twoQuoted(s string) (a, b string, ok bool) {
	first, err := strconv.QuotedPrefix(s)
	if err != nil || len(s) <= len(first) {
		return "", "", false
	}
	a, errA := strconv.Unquote(first)
	b, errB := strconv.Unquote(s[len(first)+1:])
	return a, b, errA == nil && errB == nil
}

// compareRun compares a report with the recorded call. changesNothing is set if the recorded call is known to leave everything as it was;
// stood are the types of which a stand-in takes the place.
func compareRun(call replay.MadeCall, report map[string]string, changesNothing bool, stood map[string]bool) Run {
	out := Run{Same: true, Results: []Compared{}, stood: stood}
	recordedPanic := call.Outcome == replay.DidPanic
	if text, ok := report["panic"]; ok != recordedPanic || recordedPanic {
		want := ""
		if recordedPanic {
			want = "panics"
			if call.Panic != "" {
				want = strconv.Quote(call.Panic)
			}
		}
		now := text
		if want == "panics" && ok {
			now = want
		}
		if now != want {
			out.Same = false
		}
		out.Results = append(out.Results, Compared{"panic", want, now})
		if !out.Same {
			return out
		}
	}
	var resultRoots []string
	var results []replay.Value
	for i, v := range call.Results {
		resultRoots, results = append(resultRoots, resultRoot(i)), append(results, v.Value)
	}
	out.add(calls.LeavesOf(resultRoots, results), report, true)
	if changesNothing && !reportsChanges(report) {
		return out
	}
	roots, before, after := leftBehind(call)
	now := map[string]string{}
	for _, l := range calls.LeavesOf(roots, before) {
		now[l.Path] = l.Text
	}
	maps.Copy(now, report) // which has what the call changed
	out.add(calls.LeavesOf(roots, after), now, false)
	return out
}

// reportsChanges reports whether a report has more than results.
func reportsChanges(report map[string]string) bool {
	for path := range report {
		if !strings.HasPrefix(path, resultPrefix) && !strings.HasPrefix(path, "condition ") {
			return true
		}
	}
	return false
}

// leftBehind lists what a call can have changed.
func leftBehind(call replay.MadeCall) (roots []string, before, after []replay.Value) {
	for _, g := range call.Globals {
		if g.Used && !g.IsFresh() {
			roots, before, after = append(roots, g.Name), append(before, g.Before), append(after, g.After)
		}
	}
	for i, v := range call.After {
		roots, before, after = append(roots, v.Name), append(before, call.Parameters[i].Value), append(after, v.Value)
	}
	return roots, before, after
}

// add compares leaves with a report. Results are listed also where they are the same.
func (r *Run) add(leaves []calls.Leaf, report map[string]string, all bool) {
	replaced := "" // path of a value of which a stand-in takes the place
	for _, l := range leaves {
		if path, isType := strings.CutSuffix(l.Path, ".(type)"); isType && r.stood[l.Text] {
			replaced = path
		}
		if rest, ok := strings.CutPrefix(l.Path, replaced); ok && replaced != "" && (rest == "" || rest[0] == '.' || rest[0] == '[') {
			continue
		}
		now := lookUp(report, l.Path)
		want := l.Text
		same := now == want
		if strings.HasPrefix(want, "= ") { // both lead to the same object, wherever it was met first
			same = canonical(report, l.Path) == canonical(report, want[2:])
		} else if strings.HasPrefix(now, "= ") {
			same = want == "&" || strings.HasPrefix(want, "len ")
		}
		if !same {
			r.Same = false
		}
		if (!same || all) && len(r.Results) < mostDiffering {
			r.Results = append(r.Results, Compared{l.Path, want, now})
		}
	}
}

// canonical replaces the beginnings of a path that a report gives as the same object as another path.
func canonical(report map[string]string, path string) string {
	for range 100 {
		end := -1
		for i := len(path); i > 0; i = strings.LastIndexAny(path[:i], ".[") {
			if strings.HasPrefix(report[path[:i]], "= ") {
				end = i
			}
		}
		if end < 0 {
			return path
		}
		path = report[path[:end]][2:] + path[end:]
	}
	return path
}

// lookUp returns the text at a path, also through objects that a report has at another path.
func lookUp(report map[string]string, path string) string {
	if text, ok := report[path]; ok {
		return text
	}
	return report[canonical(report, path)]
}
