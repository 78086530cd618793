// Command mutants measures whether the tests notice small faults. It inserts a
// sample of faults into copies of the sources, builds each package's tests once with
// all of them, and selects one fault a run by an environment variable. Tests that do
// not reach a fault are not run for it. The same seed and code give the same sample.
//
// Run it from the root of the module: go run ./scripts/mutants
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/tools/go/packages"
)

var (
	count   = flag.Int("n", 150, "number of faults")
	seed    = flag.Uint64("seed", 1, "seed of the sample")
	pattern = flag.String("packages", "./core/... ./recorder/... ./service/... ./client ./cli ./api", "packages that get faults")
	tests   = flag.String("tests", "./core/... ./recorder/... ./service/... ./client ./cli ./api", "packages whose tests run; those of e2e take too long for each fault")
	workers = flag.Int("workers", 2, "number of test runs at the same time")
	limit   = flag.Duration("limit", 40*time.Minute, "time for the whole run; faults that are left then are not counted")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

func run() error {
	begun := time.Now()
	ctx, cancel := context.WithTimeout(context.Background(), *limit)
	defer cancel()
	dir, err := os.MkdirTemp("", "wraith-mutants")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	faults, err := chosen(ctx)
	if err != nil {
		return err
	}
	suites, err := build(ctx, faults, dir)
	if err != nil {
		return err
	}
	if err := measure(ctx, suites, dir); err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "built and ran %d test programs in %s\n", len(suites), time.Since(begun).Round(time.Second))
	results := judge(ctx, faults, suites)
	report(faults, results, time.Since(begun))
	return nil
}

// chosen returns the sample of faults.
func chosen(ctx context.Context) ([]site, error) {
	loaded, err := packages.Load(&packages.Config{Context: ctx, Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes | packages.NeedTypesInfo | packages.NeedImports | packages.NeedDeps}, strings.Fields(*pattern)...)
	if err != nil {
		return nil, err
	}
	var sites []site
	for _, p := range loaded {
		if len(p.Errors) > 0 {
			return nil, p.Errors[0]
		}
		if strings.HasSuffix(p.PkgPath, "test") {
			continue // helpers of tests
		}
		of, err := sitesOf(p)
		if err != nil {
			return nil, err
		}
		sites = append(sites, of...)
	}
	fmt.Fprintf(os.Stderr, "%d places in %d packages\n", len(sites), len(loaded))
	return sample(sites, *count, *seed), nil
}

// A suite is the test program of one package.
type suite struct {
	pkg, folder, program string
	args                 []string
	took                 time.Duration
	reached              map[int]bool
	parts                []*suite // its tests one by one, if it is slow
}

// build builds the test programs with all faults.
func build(ctx context.Context, faults []site, dir string) ([]*suite, error) {
	replaced, err := insert(faults, dir)
	if err != nil {
		return nil, err
	}
	description, err := json.Marshal(map[string]any{"Replace": replaced})
	if err != nil {
		return nil, err
	}
	overlay := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(overlay, description, 0o666); err != nil {
		return nil, err
	}
	// Programs that tests build get the faults too.
	if err := os.Setenv("GOFLAGS", strings.TrimSpace(os.Getenv("GOFLAGS")+" -overlay="+overlay)); err != nil {
		return nil, err
	}
	listed, err := exec.CommandContext(ctx, "go", append([]string{"list", "-f", "{{if or .TestGoFiles .XTestGoFiles}}{{.ImportPath}} {{.Dir}}{{end}}"}, strings.Fields(*tests)...)...).Output()
	if err != nil {
		return nil, fmt.Errorf("list the packages: %w", err)
	}
	var suites []*suite
	for line := range strings.Lines(string(listed)) {
		pkg, folder, ok := strings.Cut(strings.TrimSpace(line), " ")
		if !ok {
			continue
		}
		suites = append(suites, &suite{pkg: pkg, folder: folder, program: filepath.Join(dir, strconv.Itoa(len(suites))+".test"), reached: map[int]bool{}})
	}
	for _, s := range suites {
		if out, err := exec.CommandContext(ctx, "go", "test", "-vet=off", "-c", "-o", s.program, s.pkg).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("build the tests of %s: %w\n%s", s.pkg, err, out)
		}
	}
	return suites, nil
}

// slow is the duration from which the tests of a program are run one by one.
const slow = 8 * time.Second

// measure runs the test programs without a fault and finds the faults that each reaches. Slow
// programs are split into their tests.
func measure(ctx context.Context, suites []*suite, dir string) error {
	var group errgroup.Group
	group.SetLimit(*workers)
	for _, s := range suites {
		group.Go(func() error {
			if err := s.measure(ctx, dir); err != nil {
				return err
			}
			if s.took < slow || len(s.reached) == 0 {
				return nil
			}
			list := exec.CommandContext(ctx, s.program, "-test.list", ".")
			list.Dir = s.folder
			names, err := list.Output()
			if err != nil {
				return fmt.Errorf("list the tests of %s: %w", s.pkg, err)
			}
			for name := range strings.Lines(string(names)) {
				name = strings.TrimSpace(name)
				if !strings.HasPrefix(name, "Test") && !strings.HasPrefix(name, "Fuzz") {
					continue
				}
				one := &suite{pkg: s.pkg, folder: s.folder, program: s.program, args: []string{"-test.run", "^" + name + "$"}, reached: map[int]bool{}}
				if err := one.measure(ctx, dir); err != nil {
					return err
				}
				s.parts = append(s.parts, one)
			}
			s.reached = map[int]bool{}
			return nil
		})
	}
	return group.Wait()
}

func (s *suite) measure(ctx context.Context, dir string) error {
	seen, err := os.MkdirTemp(dir, "reached")
	if err != nil {
		return err
	}
	begun := time.Now()
	out, err := s.run(ctx, 15*time.Minute, "WRAITH_MUTANTS_REACHED="+seen)
	s.took = time.Since(begun)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil { // they would fail with each fault, too
		fmt.Fprintf(os.Stderr, "left out: the tests of %s %v fail without a fault: %v\n%s\n", s.pkg, s.args, err, out)
		return nil
	}
	entries, err := os.ReadDir(seen)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if n, err := strconv.Atoi(e.Name()); err == nil {
			s.reached[n] = true
		}
	}
	return nil
}

func (s *suite) run(ctx context.Context, timeout time.Duration, env ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	command := exec.CommandContext(ctx, s.program, append([]string{"-test.failfast", "-test.timeout", timeout.String()}, s.args...)...)
	command.Dir = s.folder
	command.Env = append(os.Environ(), env...)
	command.WaitDelay = time.Second
	// A fault can leave programs that the tests started; they end with the tests.
	command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	command.Cancel = func() error { return syscall.Kill(-command.Process.Pid, syscall.SIGKILL) }
	var out bytes.Buffer
	command.Stdout, command.Stderr = &out, &out
	err := command.Run()
	if command.Process != nil {
		_ = syscall.Kill(-command.Process.Pid, syscall.SIGKILL) // none may be left
	}
	return out.Bytes(), err
}

type result int

const (
	notReached result = iota
	unnoticed
	noticed
	notRun
)

// judge runs the tests that reach a fault until one fails: those of its own package first, then the
// fast ones.
func judge(ctx context.Context, faults []site, suites []*suite) []result {
	var all []*suite
	for _, s := range suites {
		all = append(all, s)
		all = append(all, s.parts...)
	}
	results := make([]result, len(faults))
	var group errgroup.Group
	group.SetLimit(*workers)
	for i, f := range faults {
		group.Go(func() error {
			var candidates []*suite
			for _, s := range all {
				if s.reached[i] {
					candidates = append(candidates, s)
				}
			}
			sort.SliceStable(candidates, func(a, b int) bool {
				if own := candidates[a].pkg == f.pkg; own != (candidates[b].pkg == f.pkg) {
					return own
				}
				return candidates[a].took < candidates[b].took
			})
			for _, s := range candidates {
				_, err := s.run(ctx, 3*s.took+20*time.Second, "WRAITH_MUTANT="+strconv.Itoa(i))
				if ctx.Err() != nil {
					results[i] = notRun
					return nil
				}
				if err != nil && !errors.Is(err, exec.ErrWaitDelay) {
					results[i] = noticed
					return nil
				}
				results[i] = unnoticed
			}
			fmt.Fprintln(os.Stderr, describe(f, results[i]))
			return nil
		})
	}
	_ = group.Wait() // the functions return no errors
	return results
}

func describe(f site, r result) string {
	wd, _ := os.Getwd()
	name, err := filepath.Rel(wd, f.file)
	if err != nil {
		name = f.file
	}
	return fmt.Sprintf("%s:%d: %s: %s", name, f.line, f.what, map[result]string{notReached: "not reached by a test", unnoticed: "not noticed", noticed: "noticed", notRun: "no time left"}[r])
}

func report(faults []site, results []result, took time.Duration) {
	counts := map[result]int{}
	type tally struct{ noticed, all int }
	byPackage := map[string]*tally{}
	for i, f := range faults {
		counts[results[i]]++
		if byPackage[f.pkg] == nil {
			byPackage[f.pkg] = &tally{}
		}
		byPackage[f.pkg].all++
		if results[i] == noticed {
			byPackage[f.pkg].noticed++
		} else {
			fmt.Println(describe(f, results[i]))
		}
	}
	fmt.Println()
	names := make([]string, 0, len(byPackage))
	for name := range byPackage {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Printf("%3d of %3d  %s\n", byPackage[name].noticed, byPackage[name].all, name)
	}
	run := len(faults) - counts[notRun]
	fmt.Printf("\n%d of %d faults noticed (%.0f %%), %d not reached by a test, %d not run; seed %d, %s\n",
		counts[noticed], run, 100*float64(counts[noticed])/float64(max(run, 1)), counts[notReached], counts[notRun], *seed, took.Round(time.Second))
}
