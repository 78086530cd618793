package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"wraithology/recorder"
)

// measureRecorder runs the demo program plain and recorded and compares the times.
func measureRecorder(r *report, dir string, quick bool) error {
	source, err := filepath.Abs("demo/berthing")
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(source, "go.mod")); err != nil {
		return fmt.Errorf("run the benchmark in the project's folder: %w", err)
	}
	runs := 15
	if quick {
		runs = 5
	}
	plain := filepath.Join(dir, "plain")
	build := exec.Command("go", "build", "-o", plain, ".")
	build.Dir, build.Stderr = source, os.Stderr
	if err := build.Run(); err != nil {
		return err
	}
	floor, err := timeProgram(plain, source, dir, runs, 0)
	if err != nil {
		return err
	}
	for _, x := range []struct {
		name   string
		level  recorder.Level
		ring   int64
		target float64
	}{{"lines and values", recorder.Values, 0, 10}, {"calls only", recorder.Calls, 0, 2}, {"ring armed, calls only", recorder.Calls, 16 << 20, 1.3}} {
		program := filepath.Join(dir, "recorded")
		if err := buildRecorded(source, program, x.level); err != nil {
			return err
		}
		took, err := timeProgram(program, source, dir, runs, x.ring)
		if err != nil {
			return err
		}
		ratio := took.Seconds() / floor.Seconds()
		r.add("berthing recorded: "+x.name, took.Round(100*time.Microsecond).String(), floor.Round(100*time.Microsecond).String()+", plain", ratio, fmt.Sprintf("%g x", x.target), ratio <= x.target)
	}
	return nil
}

// buildRecorded builds the demo for recording. The recorder works in the current folder, like the
// go command.
func buildRecorded(source, program string, level recorder.Level) error {
	back, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Chdir(source); err != nil {
		return err
	}
	defer func() { _ = os.Chdir(back) }() // it was found above
	_, err = recorder.Record(ctx(), recorder.Options{Output: program + ".wraith", Command: []string{"go", "build", "-o", program, "."}, Stderr: os.Stderr, Stdout: os.Stdout, Detail: recorder.Detail{Level: level}})
	return err
}

// timeProgram runs the demo several times and returns the median.
func timeProgram(program, source, dir string, runs int, ring int64) (time.Duration, error) {
	var times []time.Duration
	for range runs {
		spool, err := os.MkdirTemp(dir, "spool")
		if err != nil {
			return 0, err
		}
		cmd := exec.Command(program, "-notices", "0412")
		cmd.Dir = source
		cmd.Env = append(os.Environ(), "WRAITH_SPOOL="+spool, fmt.Sprintf("WRAITH_RING=%d", ring))
		started := time.Now()
		out, err := cmd.CombinedOutput()
		if err != nil {
			return 0, fmt.Errorf("%w: %s", err, out)
		}
		times = append(times, time.Since(started))
		if err := os.RemoveAll(spool); err != nil {
			return 0, err
		}
	}
	slices.Sort(times)
	return times[len(times)/2], nil
}
