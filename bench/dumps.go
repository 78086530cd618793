package main

import (
	"bytes"
	"debug/elf"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"wraithology/core/ask"
	"wraithology/core/evidence/kinds/coredump"
	"wraithology/core/evidence/kinds/coredump/module"
)

// dumpChild opens a dump, asks one question, and prints the time and the resident memory. It runs
// in its own process.
func dumpChild(question, core, binary, cache string) error {
	if question == "walk" {
		return walkChild(binary)
	}
	begun := time.Now()
	f, err := os.Open(core)
	if err != nil {
		return err
	}
	d, err := coredump.Open(ctx(), f, coredump.Options{Modules: module.Sources{Binaries: []string{binary}, Cache: cache}})
	if err != nil {
		return err
	}
	r := d
	failure := d.Info().Failure
	if failure == nil {
		return fmt.Errorf("%s: no failure was found", core)
	}
	count := 0
	switch question {
	case "failure":
		s, err := ask.Run(ctx(), ask.Subject{Recording: r}, ask.StackRequest{Place: ask.Place{Thread: failure.Thread}})
		if err != nil {
			return err
		}
		count = len(s.Threads[0].Frames)
	case "stacks":
		threads, err := d.Threads(ctx(), 0)
		if err != nil {
			return err
		}
		for _, t := range threads {
			frames, err := d.Frames(ctx(), 0, t.ID)
			if err != nil {
				return err
			}
			count += len(frames)
		}
	case "groups":
		g, err := ask.Run(ctx(), ask.Subject{Recording: r, Limit: time.Minute}, ask.ThreadsRequest{})
		if err != nil {
			return err
		}
		count = g.Total
	}
	took := time.Since(begun)
	peak, err := residentPeak()
	fmt.Println(took.Nanoseconds(), peak, count)
	return err
}

// walkChild reads all entries of a binary's debug information with debug/dwarf alone.
func walkChild(binary string) error {
	b, err := os.ReadFile(binary)
	if err != nil {
		return err
	}
	begun := time.Now()
	f, err := elf.NewFile(bytes.NewReader(b))
	if err != nil {
		return err
	}
	d, err := f.DWARF()
	if err != nil {
		return err
	}
	r, n := d.Reader(), 0
	for {
		e, err := r.Next()
		if err != nil {
			return err
		}
		if e == nil {
			break
		}
		n++
	}
	took := time.Since(begun)
	peak, err := residentPeak()
	fmt.Println(took.Nanoseconds(), peak, n)
	return err
}

// childAnswer is the result of a child, the fastest of several runs.
type childAnswer struct {
	took  time.Duration
	peak  int
	count int
}

// run runs this program as a child and keeps its result if it was faster.
func (best *childAnswer) run(args ...string) error {
	out, err := self(args...)
	if err != nil {
		return err
	}
	var ns int64
	var x childAnswer
	if _, err := fmt.Sscan(out, &ns, &x.peak, &x.count); err != nil {
		return fmt.Errorf("read %q: %w", out, err)
	}
	if x.took = time.Duration(ns); best.took == 0 || x.took < best.took {
		*best = x
	}
	return nil
}

func askDump(runs int, question, core, binary, cache string) (best childAnswer, err error) {
	for range runs {
		if err := best.run("-dump", question, core, binary, cache); err != nil {
			return best, err
		}
	}
	return best, nil
}

// crashed runs a program until it crashes and returns its core dump.
func crashed(dir, program string, args ...string) (string, error) {
	at, err := os.MkdirTemp(dir, "core-*")
	if err != nil {
		return "", err
	}
	cmd := exec.Command("/bin/sh", append([]string{"-c", `ulimit -c unlimited; exec "$0" "$@" 2>/dev/null`, program}, args...)...)
	cmd.Dir = at
	_ = cmd.Run() // the program crashes
	list, _ := filepath.Glob(filepath.Join(at, "core*"))
	if len(list) != 1 {
		return "", fmt.Errorf("%s left no core dump: the kernel's pattern must be \"core\"", program)
	}
	return list[0], nil
}

func build(name string, args ...string) error {
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, out)
	}
	return nil
}

// entriesOf writes a program with about n debug entries in many files and builds it.
func entriesOf(dir string, n int) (string, error) {
	const files, members = 40, 18
	var objects []string
	for i := range files {
		var b strings.Builder
		for j := range n / files / (members + 2) {
			fmt.Fprintf(&b, "struct quay_%d_%d {", i, j)
			for k := range members {
				fmt.Fprintf(&b, " int m%d;", k)
			}
			b.WriteString("};\n")
		}
		fmt.Fprintf(&b, "int use_%d(int x) { return x + %d; }\n", i, i)
		source := filepath.Join(dir, fmt.Sprintf("part%d.c", i))
		if err := os.WriteFile(source, []byte(b.String()), 0o600); err != nil {
			return "", err
		}
		object := strings.TrimSuffix(source, ".c") + ".o"
		if err := build("gcc", "-g", "-O0", "-fno-eliminate-unused-debug-types", "-c", "-o", object, source); err != nil {
			return "", err
		}
		objects = append(objects, object)
	}
	binary := filepath.Join(dir, "many-entries")
	return binary, build("gcc", append([]string{"-g", "-O0", "-pthread", "-o", binary, "bench/testdata/threads.c"}, objects...)...)
}

func measureDumps(r *report, dir string, quick bool) error {
	megabytes, entries, goroutines := 1024, 800_000, []int{10_000, 100_000}
	if quick {
		megabytes, entries, goroutines = 128, 80_000, []int{10_000}
	}
	binary, cache := filepath.Join(dir, "threads"), filepath.Join(dir, "modules")
	if err := build("gcc", "-g", "-O0", "-pthread", "-o", binary, "bench/testdata/threads.c"); err != nil {
		return err
	}
	core, err := crashed(dir, binary, "2", strconv.Itoa(megabytes))
	if err != nil {
		return err
	}
	x, err := askDump(5, "failure", core, binary, cache)
	if err != nil {
		return err
	}
	ms := func(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d)/1e6) }
	ratio := func(a, b childAnswer) float64 { return float64(a.took) / float64(b.took) }
	r.add(fmt.Sprintf("a core of %d MiB to the explained failure, index cached", megabytes), ms(x.took), "", 0, "150 ms", x.took <= 150*time.Millisecond)
	r.add("resident for that", fmt.Sprintf("%d MB", x.peak), "", 0, "300 MB", x.peak <= 300)

	if binary, err = entriesOf(dir, entries); err != nil {
		return err
	}
	if core, err = crashed(dir, binary, "2", "1"); err != nil {
		return err
	}
	floor, err := askDump(3, "walk", core, binary, "")
	if err != nil {
		return err
	}
	if x, err = askDump(3, "failure", core, binary, ""); err != nil {
		return err
	}
	r.add(fmt.Sprintf("a module with %d debug entries, nothing cached", floor.count), ms(x.took), ms(floor.took)+", the walk", ratio(x, floor), "1 x", ratio(x, floor) <= 1)

	if core, err = crashed(dir, filepath.Join(dir, "threads"), "1000", "1"); err != nil {
		return err
	}
	if x, err = askDump(3, "stacks", core, filepath.Join(dir, "threads"), cache); err != nil {
		return err
	}
	r.add(fmt.Sprintf("stacks of 1,001 threads, %d frames", x.count), ms(x.took), "", 0, "1 s", x.took <= time.Second)

	pilotd := filepath.Join(dir, "pilotd")
	cmd := exec.Command("go", "build", "-buildvcs=false", "-o", pilotd, ".")
	cmd.Dir = "demo/pilotd"
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("build pilotd: %w: %s", err, out)
	}
	var first childAnswer
	for i, n := range goroutines {
		if core, err = crashed(dir, pilotd, "-vessels", strconv.Itoa(n)); err != nil {
			return err
		}
		if x, err = askDump(3, "groups", core, pilotd, cache); err != nil {
			return err
		}
		name := fmt.Sprintf("%d goroutines listed and grouped", x.count)
		if i == 0 {
			first = x
			r.add(name, ms(x.took), "", 0, "1 s", x.took <= time.Second)
			continue
		}
		r.add(name, ms(x.took), ms(first.took)+", the fewer", ratio(x, first), "10 x", ratio(x, first) <= 10)
	}
	return nil
}
