// Command bench measures Wraithology. It generates recordings, builds their timelines, asks
// questions, records the demo program, and opens core dumps of programs that crash. It prints each
// figure beside a floor of the same run and beside its target, and writes the figures as JSON.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
)

// figure is one line of the table. Ratio is the figure divided by its floor. Met says whether the
// target was reached; it is empty without a target.
type figure struct {
	Name   string  `json:"name"`
	Figure string  `json:"figure"`
	Floor  string  `json:"floor"`
	Ratio  float64 `json:"ratio"`
	Target string  `json:"target"`
	Met    string  `json:"met"`
}

type report struct{ figures []figure }

func (r *report) add(name, value, floor string, ratio float64, target string, met bool) {
	f := figure{name, value, floor, ratio, target, "no"}
	if met {
		f.Met = "yes"
	}
	r.figures = append(r.figures, f)
	fmt.Fprintf(os.Stderr, "%s: %s (floor %s)\n", name, value, floor)
}

func main() {
	quick := flag.Bool("quick", false, "smaller recordings, in under a minute")
	out := flag.String("json", "bench.json", "file for the figures as JSON")
	dir := flag.String("dir", "", "folder for the recordings; a temporary one where left off")
	child := flag.String("build", "", "build the timeline of this log and print the time; used by the benchmark itself")
	dump := flag.Bool("dump", false, "ask a core dump and print the time; used by the benchmark itself")
	intake := flag.Bool("intake", false, "import evidence and print the time; used by the benchmark itself")
	only := flag.String("only", "", "measure only these, with commas between: recordings, recorder, dumps, intake, receiving, team, questions, notices, editor")
	flag.Parse()
	var err error
	switch {
	case *child != "":
		err = buildChild(*child)
	case *dump && flag.NArg() == 4:
		err = dumpChild(flag.Arg(0), flag.Arg(1), flag.Arg(2), flag.Arg(3))
	case *intake && flag.NArg() == 2:
		err = intakeChild(flag.Arg(0), flag.Arg(1))
	default:
		err = run(*quick, *out, *dir, *only)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(quick bool, out, dir, only string) error {
	if dir == "" {
		temporary, err := os.MkdirTemp("", "wraith-bench-*")
		if err != nil {
			return err
		}
		defer os.RemoveAll(temporary)
		dir = temporary
	}
	sizes := []int64{1_000_000, 10_000_000, 50_000_000}
	if quick {
		sizes = []int64{1_000_000, 5_000_000}
	}
	var r report
	known := only == ""
	for _, part := range []struct {
		name    string
		measure func() error
	}{
		{"recordings", func() error { return measureRecordings(ctx(), &r, dir, sizes) }},
		{"recorder", func() error { return measureRecorder(&r, dir, quick) }},
		{"dumps", func() error { return measureDumps(&r, dir, quick) }},
		{"intake", func() error { return measureIntake(&r, dir, quick) }},
		{"receiving", func() error { return measureReceiving(&r, dir, quick) }},
		{"team", func() error {
			return measureTeam(&r, dir, quick, (*team).measureSeen, (*team).measureLarge, (*team).measureReport)
		}},
		{"questions", func() error { return measureTeam(&r, dir, quick, (*team).measureQuestions, (*team).measureCases) }},
		{"mischief", func() error { return measureTeam(&r, dir, quick, (*team).measureMischief) }},
		{"notices", func() error { return measureTeam(&r, dir, quick, (*team).measureNotices) }},
		{"editor", func() error { return measureEditor(&r, dir, sizes[len(sizes)-1]) }},
	} {
		if only == "" || slices.Contains(strings.Split(only, ","), part.name) {
			known = true
			if err := part.measure(); err != nil {
				return err
			}
		}
	}
	if !known {
		return fmt.Errorf("-only %s: there are recordings, recorder, dumps, intake, receiving, team, questions, notices and editor", only)
	}
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.AppendHeader(table.Row{"figure", "measured", "floor", "ratio", "target", "met"})
	for _, f := range r.figures {
		t.AppendRow(table.Row{f.Name, f.Figure, f.Floor, strconv.FormatFloat(f.Ratio, 'f', 2, 64), f.Target, f.Met})
	}
	t.Render()
	b, err := json.MarshalIndent(r.figures, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(out, append(b, '\n'), 0o644)
}

// residentPeak returns the peak of a process's resident memory, in MB.
func residentPeak() (int, error) {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(string(text), "\n") {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kB, err := strconv.Atoi(strings.Fields(rest)[0])
			return kB / 1024, err
		}
	}
	return 0, fmt.Errorf("the system does not say how much memory is resident")
}

// self runs this program as a child, so that its memory is measured separately.
func self(args ...string) (string, error) {
	path, err := os.Executable()
	if err != nil {
		return "", err
	}
	cmd := exec.Command(path, args...)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	return strings.TrimSpace(string(out)), err
}

func logPath(dir string, n int64) string { return filepath.Join(dir, fmt.Sprintf("%d.wraith", n)) }
