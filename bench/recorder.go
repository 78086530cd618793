package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wraithology/recorder"
)

// variant is a way to run a program: plain, or recorded.
type variant struct {
	name  string
	level recorder.Level // empty for plain
	ring  int64
	which recorder.Sample
}

var plain = variant{name: "plain"}

// subject is a program that is run plain and recorded.
type subject struct {
	name, dir, pkg string
	args           []string
	variants       []variant
	targets        []float64
}

// costs holds small programs of the benchmark's own.
const costs = "bench/testdata/cost"

var subjects = []subject{
	{"berthing", "demo/berthing", ".", []string{"-notices", "0412"}, []variant{{name: "lines and values", level: recorder.Values}, {name: "calls", level: recorder.Calls}, {name: "ring armed, calls", level: recorder.Calls, ring: 16 << 20}}, []float64{8, 1.5, 1.3}},
	{"tight loop", costs, "./loop", nil, []variant{{name: "lines and values", level: recorder.Values}}, []float64{40}},
	{"small objects", costs, "./alloc", nil, []variant{{name: "lines and values", level: recorder.Values}, {name: "calls", level: recorder.Calls}}, []float64{0, 0}},
}

// measureRecorder runs programs plain and recorded in turn and compares the medians.
func measureRecorder(r *report, dir string, quick bool) error {
	if _, err := os.Stat(filepath.Join(costs, "go.mod")); err != nil {
		return fmt.Errorf("run the benchmark in the project's folder: %w", err)
	}
	runs := 9
	if quick {
		runs = 5
	}
	for _, s := range subjects {
		if err := s.measure(r, dir, runs); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
	}
	if err := measureService(r, dir, runs); err != nil {
		return fmt.Errorf("service: %w", err)
	}
	return measureRaces(r, dir, quick)
}

func (s subject) measure(r *report, dir string, runs int) error {
	all := append([]variant{plain}, s.variants...)
	took := make([][]time.Duration, len(all))
	programs := make([]string, len(all))
	for i, v := range all {
		var err error
		if programs[i], err = buildVariant(s.dir, s.pkg, dir, v); err != nil {
			return err
		}
	}
	for range runs {
		for i, v := range all {
			d, _, err := runOnce(programs[i], s.dir, dir, v, s.args...)
			if err != nil {
				return err
			}
			took[i] = append(took[i], d)
		}
	}
	floor := median(took[0])
	for i, v := range s.variants {
		r.compare(fmt.Sprintf("%s recorded: %s", s.name, v.name), median(took[i+1]), floor, s.targets[i])
	}
	return nil
}

// compare adds a duration beside that of a plain run. A target of 0 is none.
func (r *report) compare(name string, took, floor time.Duration, target float64) {
	ratio := took.Seconds() / floor.Seconds()
	wanted := ""
	if target > 0 {
		wanted = fmt.Sprintf("%g x", target)
	}
	r.add(name, short(took), short(floor)+", plain", ratio, wanted, target == 0 || ratio <= target)
}

func short(d time.Duration) string {
	if d < time.Millisecond {
		return d.Round(100 * time.Nanosecond).String()
	}
	return d.Round(100 * time.Microsecond).String()
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}

// buildVariant builds a program in a folder, to be recorded if the variant says so, and returns its path.
func buildVariant(source, pkg, dir string, v variant) (string, error) {
	program, err := filepath.Abs(filepath.Join(dir, strings.Trim(filepath.Base(source)+"-"+filepath.Base(pkg), ".-")+"-"+string(v.level)+fmt.Sprintf("-%d-%g", v.which.Every, v.which.Budget)))
	if err != nil {
		return "", err
	}
	if v.level == "" {
		c := exec.Command("go", "build", "-o", program, pkg)
		c.Dir, c.Stderr = source, os.Stderr
		return program, c.Run()
	}
	// The recorder works in the current folder, like the go command.
	back, err := os.Getwd()
	if err != nil {
		return "", err
	}
	if err := os.Chdir(source); err != nil {
		return "", err
	}
	defer func() { _ = os.Chdir(back) }() // it was found above
	_, err = recorder.Record(ctx(), recorder.Options{Output: program + ".wraith", Command: []string{"go", "build", "-o", program, pkg}, Stderr: os.Stderr, Stdout: os.Stdout, Detail: recorder.Detail{Level: v.level, Sample: v.which}})
	return program, err
}

// command is a program that writes its log, if it has one, into a folder that end removes.
func command(program, source, dir string, v variant, args ...string) (c *exec.Cmd, end func(), err error) {
	spool, err := os.MkdirTemp(dir, "spool")
	if err != nil {
		return nil, nil, err
	}
	c = exec.Command(program, args...)
	c.Dir = source
	c.Env = append(os.Environ(), "WRAITH_SPOOL="+spool, fmt.Sprintf("WRAITH_RING=%d", v.ring))
	return c, func() { _ = os.RemoveAll(spool) }, nil
}

// runOnce runs a program and returns how long it took, and whether it ended with a code other than 0.
func runOnce(program, source, dir string, v variant, args ...string) (took time.Duration, failed bool, err error) {
	c, end, err := command(program, source, dir, v, args...)
	if err != nil {
		return 0, false, err
	}
	defer end()
	started := time.Now()
	out, err := c.CombinedOutput()
	took = time.Since(started)
	if c.ProcessState == nil || c.ProcessState.ExitCode() < 0 || c.ProcessState.ExitCode() > 1 {
		return took, true, fmt.Errorf("%w: %s", err, out)
	}
	return took, err != nil, nil
}

// measureService compares the median time of requests to a small HTTP service.
func measureService(r *report, dir string, runs int) error {
	variants := []variant{plain, {name: "lines and values", level: recorder.Values}, {name: "ring armed, calls", level: recorder.Calls, ring: 16 << 20},
		{name: "lines and values of one in 100", level: recorder.Values, which: recorder.Sample{Every: 100}}, {name: "lines and values, budget 5%", level: recorder.Values, which: recorder.Sample{Budget: 0.05}}}
	took := make([][]time.Duration, len(variants))
	urls := make([]string, len(variants))
	for i, v := range variants {
		program, err := buildVariant(costs, "./serve", dir, v)
		if err != nil {
			return err
		}
		c, end, err := command(program, costs, dir, v)
		if err != nil {
			return err
		}
		defer end()
		out, err := c.StdoutPipe()
		if err != nil {
			return err
		}
		if err := c.Start(); err != nil {
			return err
		}
		defer func() {
			_ = c.Process.Kill() // it serves until then
			_ = c.Wait()
		}()
		address, err := bufio.NewReader(out).ReadString('\n')
		if err != nil {
			return fmt.Errorf("the service does not say its address: %w", err)
		}
		urls[i] = "http://" + strings.TrimSpace(address)
	}
	const requests = 400
	for range runs {
		for i, url := range urls {
			list, err := request(url, requests)
			if err != nil {
				return err
			}
			took[i] = append(took[i], list...)
		}
	}
	floor := median(took[0])
	for i, target := range []float64{1.15, 1.05, 1.05, 1.05} {
		r.compare("HTTP service, median of requests: "+variants[i+1].name, median(took[i+1]), floor, target)
	}
	return nil
}

// request sends requests one after the other and returns how long each took.
func request(url string, n int) (list []time.Duration, err error) {
	body := []byte(`{"name":"Halcyon Drift","draft":3.2}`)
	for range n {
		started := time.Now()
		resp, err := http.Post(url, "application/json", bytes.NewReader(body))
		if err != nil {
			return nil, err
		}
		_, err = io.Copy(io.Discard, resp.Body)
		if closed := resp.Body.Close(); err == nil {
			err = closed
		}
		if err != nil || resp.StatusCode != http.StatusOK {
			return nil, fmt.Errorf("the service answered %s: %w", resp.Status, err)
		}
		list = append(list, time.Since(started))
	}
	return list, nil
}

// measureRaces counts how often defects of timing show, plain and recorded. There is no target: the
// recorder may order what raced.
func measureRaces(r *report, dir string, quick bool) error {
	runs := 200
	if quick {
		runs = 50
	}
	variants := []variant{plain, {name: "lines and values", level: recorder.Values}, {name: "calls", level: recorder.Calls}}
	programs := make([]string, len(variants))
	for i, v := range variants {
		var err error
		if programs[i], err = buildVariant(costs, "./racy", dir, v); err != nil {
			return err
		}
	}
	for _, defect := range []string{"lost", "checked", "late"} {
		shown := make([]int, len(variants))
		for range runs {
			for i, v := range variants {
				_, failed, err := runOnce(programs[i], costs, dir, v, defect)
				if err != nil {
					return err
				}
				if failed {
					shown[i]++
				}
			}
		}
		for i, v := range variants[1:] {
			share := func(n int) string { return fmt.Sprintf("%d of %d runs", n, runs) }
			r.add(fmt.Sprintf("defect of timing %q shows: %s", defect, v.name), share(shown[i+1]), share(shown[0])+", plain", float64(shown[i+1])/float64(max(shown[0], 1)), "", true)
		}
	}
	return nil
}
