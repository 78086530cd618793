// Package recorder records Go programs without changing their files. It rewrites the main module's
// packages through the go command's overlay, adds the runtime of package inject to the build, runs
// the command, and packs the logs of the processes into one .wraith log.
package recorder

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
)

// Options say what to record and where to write the log. The command's standard streams are passed
// through.
type Options struct {
	Output  string
	Command []string
	Stdin   io.Reader
	Stdout  io.Writer
	Stderr  io.Writer
	Detail  Detail
	// Ring keeps only the last bytes of events, and writes them only if the program fails or on
	// request; 0 keeps and writes everything.
	Ring int64
}

// Detail limits what is recorded. The zero Detail is everything.
type Detail struct {
	Level Level
	// Packages are paths, or path/..., also of other modules, or "all" for everything outside the
	// standard library; if empty, all of the main module.
	Packages  []string
	Functions []string // names, or their ends; none for all
	Depth     int      // depth along references; 0 for 3, or 1 with calls alone
	Length    int      // bytes of a text, and four times the elements of a list; 0 for 256
	Verify    bool     // record snapshots of the variables in scope, to verify the recording
	AskOn     []string // functions whose returned errors trigger writing the ring
	// Redact are the rules for what must not be recorded.
	Redact Redaction
	Sample Sample
}

// Sample says which calls of a long-running program are recorded whole; the others are left out. The
// zero Sample is all.
type Sample struct {
	Every  uint64  // one call of this number
	Budget float64 // as many as cost this share of the processor's time, at most 1
}

// Level is how fine a recording is.
type Level string

// The levels: calls with arguments and results; lines as well; values too.
const (
	Calls  Level = "calls"
	Lines  Level = "lines"
	Values Level = "values"
)

// Bounds of what a Detail may ask for.
const (
	maxDepth  = 8
	maxLength = 4096
)

func (d *Detail) check() error {
	if d.Level == "" {
		d.Level = Values
	}
	if d.Depth == 0 {
		d.Depth = 3
		if d.Level == Calls {
			d.Depth = 1 // recording calls alone must be cheap
		}
	}
	if d.Length == 0 {
		d.Length = 256
	}
	switch {
	case d.Level != Calls && d.Level != Lines && d.Level != Values:
		return fmt.Errorf("%w: invalid detail %q: use calls, lines or values", fault.NotRecordable, d.Level)
	case d.Depth < 1 || d.Depth > maxDepth:
		return fmt.Errorf("%w: depth %d: use 1 to %d", fault.NotRecordable, d.Depth, maxDepth)
	case d.Length < 16 || d.Length > maxLength:
		return fmt.Errorf("%w: length %d: use 16 to %d", fault.NotRecordable, d.Length, maxLength)
	case d.Sample.Budget < 0 || d.Sample.Budget > 1:
		return fmt.Errorf("%w: budget %g: use more than 0%% and at most 100%%", fault.NotRecordable, d.Sample.Budget)
	case d.Sample.Every > 0 && d.Sample.Budget > 0:
		return fmt.Errorf("%w: both a sample and a budget: use one of them", fault.NotRecordable)
	}
	return d.Redact.check()
}

func (d *Detail) String() string {
	switch d.Level {
	case Calls:
		return "calls"
	case Lines:
		return "lines"
	}
	return "lines and values"
}

// named reports whether a name is in a list, or ends in a name of it.
func named(list []string, name string) bool {
	if len(list) == 0 {
		return true
	}
	plain := strings.NewReplacer("(*", "", ")", "").Replace(name)
	for _, want := range list {
		if name == want || strings.HasSuffix(plain, "."+strings.NewReplacer("(*", "", ")", "").Replace(want)) {
			return true
		}
		if base, all := strings.CutSuffix(want, "/..."); all && (name == base || strings.HasPrefix(name, base+"/")) {
			return true
		}
	}
	return false
}

// chosen reports whether a package is to be recorded.
func chosen(patterns []string, path string) bool {
	return named(patterns, path) || slices.Contains(patterns, allPackages)
}

// checkFunctions returns an error if a name of a function matches none of those that are declared in
// the packages that are recorded.
func (d Detail) checkFunctions(names []string) error {
	if err := matching("--functions", d.Functions, names); err != nil {
		return err
	}
	return matching("--ring-on-error", d.AskOn, names)
}

// matching returns an error with similar names if one of the patterns of a flag matches no name.
func matching(flag string, patterns, names []string) error {
	for _, pattern := range patterns {
		if pattern == allPackages && flag == packagesFlag {
			continue
		}
		if slices.ContainsFunc(names, func(name string) bool { return named([]string{pattern}, name) }) {
			continue
		}
		remedy := "leave it out to record all"
		if list := similar(pattern, names); len(list) > 0 {
			remedy = "there are " + strings.Join(list, ", ")
		}
		return fault.InvalidRequest.New(remedy, "%s %q matches nothing that is built", flag, pattern)
	}
	return nil
}

// similar lists the names whose last part is most like that of a pattern, or contains it; at most 8.
func similar(pattern string, names []string) []string {
	last := func(s string) string {
		s = strings.TrimSuffix(strings.ToLower(s), "/...")
		return s[strings.LastIndexAny(s, "/.")+1:]
	}
	a := last(pattern)
	likeness := func(name string) int {
		b := last(name)
		n := 0
		for n < len(a) && n < len(b) && a[n] == b[n] {
			n++
		}
		if a != "" && strings.Contains(b, a) {
			n = len(a)
		}
		return n
	}
	list := slices.Clone(names)
	slices.SortStableFunc(list, func(a, b string) int {
		return cmp.Or(likeness(b)-likeness(a), strings.Compare(a, b))
	})
	list = slices.Compact(list)
	return list[:min(len(list), 8)]
}

// Result is the end of the command and the recording. Signal is 0 if the command ended by itself.
type Result struct {
	ExitCode int
	Signal   syscall.Signal
	Summary  PackSummary
	// Later is set if the command only built a program: the program writes its log when it runs.
	Later bool
	// Unwritten is set if there was a ring and no failure.
	Unwritten bool
}

// Record runs the command and writes its log. The result is valid also with an error: then the
// command has run and its log could not be written completely.
func Record(ctx context.Context, o Options) (result Result, err error) {
	if len(o.Command) == 0 {
		return Result{}, fmt.Errorf("%w: no command after --", fault.NotRecordable)
	}
	if err := o.Detail.check(); err != nil {
		return Result{}, err
	}
	output, err := filepath.Abs(o.Output)
	if err != nil {
		return Result{}, fmt.Errorf("find the output: %w", err)
	}
	if err := writable(output); err != nil {
		return Result{}, err
	}
	begun := false
	defer func() {
		if !begun { // nothing was recorded, so no log is left
			err = errors.Join(err, removeEmpty(output))
		}
	}()
	work, err := os.MkdirTemp(filepath.Dir(output), ".wraith-recording-")
	if err != nil {
		return Result{}, fmt.Errorf("create a folder for the recording beside the output: %w", err)
	}
	defer os.RemoveAll(work)
	spool := filepath.Join(work, "spool")
	if err := os.Mkdir(spool, 0o700); err != nil {
		return Result{}, fmt.Errorf("create a folder for the recording: %w", err)
	}
	header := newHeader(ctx, o.Command, o.Detail.Redact)
	header.Detail, header.Sampled = o.Detail.String(), o.Detail.Sample != Sample{}
	if o.Ring > 0 {
		header.Detail += fmt.Sprintf(", the last %d MB", o.Ring>>20)
	}
	command := o.Command
	later := false
	if filepath.Base(command[0]) == "go" {
		c, err := parseGoCommand(command)
		if err != nil {
			return Result{}, err
		}
		defaultLog := ""
		if c.verb == "build" {
			defaultLog, later = output, true
		}
		c.detail, c.ring = o.Detail, o.Ring
		overlay, err := c.overlay(ctx, work, header, defaultLog, o.Stderr)
		if err != nil {
			return Result{}, err
		}
		command, err = c.instrumented(ctx, o, work, overlay)
		var failed *buildFailed
		if errors.As(err, &failed) {
			return Result{ExitCode: failed.code}, nil
		}
		if err != nil {
			return Result{}, err
		}
	}
	header.Program = programName(o.Command, command)
	begun = true
	result, err = run(ctx, o, command, spool, func(n int) {
		// The program continues: what it has recorded so far is written beside it.
		path := numbered(output, n)
		if _, err := Pack(context.WithoutCancel(ctx), spool, path, header, event.End{ExitCode: -1}, o.Detail.Redact); err != nil {
			fmt.Fprintf(o.Stderr, "wraith: the ring could not be written: %v\n", err)
			return
		}
		fmt.Fprintf(o.Stderr, "wraith: wrote the ring to %s\n", path)
	})
	if err != nil || later {
		result.Later = later
		return result, err
	}
	if o.Ring > 0 && result.ExitCode == 0 {
		result.Unwritten = true
		return result, removeEmpty(output)
	}
	result.Summary, err = Pack(context.WithoutCancel(ctx), spool, output, header, event.End{ExitCode: result.ExitCode, Signal: signalName(result.Signal)}, o.Detail.Redact)
	return result, err
}

// numbered returns the name of the nth log that is written while the program runs.
func numbered(output string, n int) string {
	ending := filepath.Ext(output)
	return fmt.Sprintf("%s-%d%s", strings.TrimSuffix(output, ending), n, ending)
}

// removeEmpty removes the output file that was created for a test.
func removeEmpty(output string) error {
	info, err := os.Stat(output)
	if err != nil || info.Size() > 0 {
		return nil
	}
	if err := os.Remove(output); err != nil {
		return fmt.Errorf("remove the empty output: %w", err)
	}
	return nil
}

func signalName(s syscall.Signal) string {
	if s == 0 {
		return ""
	}
	return s.String()
}

func programName(asked, ran []string) string {
	if filepath.Base(asked[0]) == "go" && filepath.Base(ran[0]) == "go" {
		return "go test"
	}
	return filepath.Base(ran[0])
}

// writable tests whether the log can be written, before anything runs.
func writable(path string) error {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return fmt.Errorf("%s is not a file: name another output", path)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("open the output: %w", err)
	}
	return f.Close()
}

// buildFailed means that the user's program does not build; the go command has printed the reason.
type buildFailed struct{ code int }

func (e *buildFailed) Error() string { return "the build failed with code " + strconv.Itoa(e.code) }

// instrumented returns the command to run instead of the user's. For go run it builds the program
// first, so that the exit code and the signals are those of the program.
func (c *goCommand) instrumented(ctx context.Context, o Options, work, overlay string) ([]string, error) {
	command := append([]string{"go", c.verb, "-overlay", overlay}, c.flags...)
	switch c.verb {
	case "test":
		command = append(command, "-vet=off")
		if len(c.values("-count")) == 0 {
			command = append(command, "-count=1") // the go command would show results of an earlier run
		}
		return append(append(command, c.names...), c.args...), nil
	case "build":
		return append(command, c.names...), nil
	}
	dir := filepath.Join(work, "bin")
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, fmt.Errorf("create a folder for the program: %w", err)
	}
	build := append([]string{"go", "build", "-overlay", overlay, "-o", dir + string(filepath.Separator)}, c.flags...)
	cmd := exec.CommandContext(ctx, build[0], append(build[1:], c.names...)...)
	cmd.Stdout, cmd.Stderr = o.Stderr, o.Stderr
	if err := cmd.Run(); err != nil {
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			return nil, &buildFailed{exit.ExitCode()}
		}
		return nil, fmt.Errorf("build the program: %w", err)
	}
	built, err := os.ReadDir(dir)
	if err != nil || len(built) != 1 {
		return nil, fmt.Errorf("%w: go run needs exactly one main package, %d were built", fault.NotRecordable, len(built))
	}
	return append([]string{filepath.Join(dir, built[0].Name())}, c.args...), nil
}

// run runs the command, passes signals on, and waits for its end. With a ring it calls snapshot on
// request: by SIGUSR1, or by the file that WRAITH_ASK names.
func run(ctx context.Context, o Options, command []string, spool string, snapshot func(n int)) (Result, error) {
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 10 * time.Second
	cmd.Stdin, cmd.Stdout, cmd.Stderr = o.Stdin, o.Stdout, o.Stderr
	ask := filepath.Join(spool, "ask")
	cmd.Env = append(os.Environ(), "WRAITH_SPOOL="+spool)
	if o.Ring > 0 {
		cmd.Env = append(cmd.Env, "WRAITH_RING="+strconv.FormatInt(o.Ring, 10), "WRAITH_ASK="+ask)
	}
	if sample := o.Detail.Sample; sample != (Sample{}) {
		cmd.Env = append(cmd.Env, "WRAITH_SAMPLE="+strconv.FormatUint(sample.Every, 10), "WRAITH_BUDGET="+strconv.FormatFloat(sample.Budget, 'g', -1, 64))
	}
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGUSR1, syscall.SIGUSR2)
	defer signal.Stop(signals)
	if err := cmd.Start(); err != nil {
		return Result{}, fmt.Errorf("start %s: %w", command[0], err)
	}
	done := make(chan struct{})
	go func() {
		asked := 0
		look := time.NewTicker(lookForAsk)
		defer look.Stop()
		for {
			select {
			case <-look.C:
				if o.Ring > 0 && os.Remove(ask) == nil {
					asked++
					snapshot(asked)
				}
			case s := <-signals:
				if s == syscall.SIGUSR1 && o.Ring > 0 {
					asked++
					snapshot(asked)
					continue
				}
				// From a terminal the whole group gets the interrupt.
				if s != syscall.SIGINT || !sameGroup(cmd.Process.Pid) {
					_ = cmd.Process.Signal(s)
				}
			case <-done:
				return
			}
		}
	}()
	err := cmd.Wait()
	close(done)
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && ctx.Err() == nil {
		return Result{}, fmt.Errorf("run %s: %w", command[0], err)
	}
	r := Result{ExitCode: cmd.ProcessState.ExitCode()}
	if status, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		r.Signal = status.Signal()
		r.ExitCode = 128 + int(r.Signal)
	}
	return r, nil
}

// lookForAsk is the interval at which the request file is checked.
const lookForAsk = 100 * time.Millisecond

func sameGroup(pid int) bool {
	group, err := syscall.Getpgid(pid)
	if err != nil || group != syscall.Getpgrp() {
		return false
	}
	info, err := os.Stdin.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}
