package coredump

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/replay/compare"
)

// crash runs a program until it crashes, and returns the core that the kernel
// wrote and what the program printed.
func crash(t testing.TB, program string, args ...string) (core, printed string) {
	return crashOf(t, nil, program, args...)
}

// crashOf is crash with variables of the environment.
func crashOf(t testing.TB, env []string, program string, args ...string) (core, printed string) {
	pattern, err := os.ReadFile("/proc/sys/kernel/core_pattern")
	var limit syscall.Rlimit
	limited := syscall.Getrlimit(syscall.RLIMIT_CORE, &limit) != nil || limit.Max < 1<<32
	if err != nil || limited || strings.HasPrefix(string(pattern), "|") || strings.Contains(string(pattern), "/") {
		t.Skip("the kernel does not write core dumps into the folder of the program here")
	}
	dir := t.TempDir()
	cmd := exec.Command("/bin/sh", append([]string{"-c", `ulimit -c unlimited; exec "$0" "$@"`, program}, args...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), env...)
	var out, errors strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errors
	err = cmd.Run()
	status, ok := cmd.ProcessState.Sys().(syscall.WaitStatus)
	require.True(t, ok && status.Signaled(), "%s was to crash: %v %s", program, err, errors.String())
	list, err := filepath.Glob(filepath.Join(dir, "core*"))
	require.NoError(t, err)
	require.Len(t, list, 1, "the kernel was to write one core")
	return list[0], out.String() + errors.String()
}

// compile runs a compiler.
func compile(t testing.TB, compiler string, args ...string) {
	out, err := exec.Command(compiler, args...).CombinedOutput()
	require.NoError(t, err, "%s %s: %s", compiler, strings.Join(args, " "), out)
}

func openDump(t testing.TB, core string, o Options) *Dump {
	f, err := os.Open(core)
	require.NoError(t, err)
	defer f.Close()
	if o.Modules.Cache == "" {
		o.Modules.Cache = t.TempDir()
	}
	d, err := Open(context.Background(), f, o)
	require.NoError(t, err)
	return d
}

// frameNamed finds the innermost frame of a function in the failing thread.
func frameNamed(t testing.TB, d *Dump, thread event.ThreadID, function string) replay.Frame {
	frames, err := d.Frames(context.Background(), 0, thread)
	require.NoError(t, err)
	for _, f := range frames {
		if f.Function == function {
			return f
		}
	}
	require.Fail(t, "no such frame", "%s in %+v", function, frames)
	return replay.Frame{}
}

// account is what a program printed about itself.
type account struct {
	values  [][3]string // function, expression, text
	returns map[string]string
	address string
}

func truth(printed string) account {
	out := account{returns: map[string]string{}}
	for line := range strings.Lines(printed) {
		f := strings.SplitN(strings.TrimSpace(line), " ", 4)
		switch {
		case f[0] == "value" && len(f) == 4:
			out.values = append(out.values, [3]string{f[1], strings.ReplaceAll(f[2], "@", " "), f[3]})
		case f[0] == "return" && len(f) == 3:
			out.returns[f[1]] = f[2]
		case f[0] == "address" && len(f) == 2:
			out.address = f[1]
		}
	}
	return out
}

// agree compares what a dump says with what the program said. A value that was
// optimised away may be missing, but never wrong; it returns how many were known.
func agree(t testing.TB, d *Dump, want account) (known int) {
	require.NotNil(t, d.failure)
	for _, v := range want.values {
		f := frameNamed(t, d, d.failure.Thread, v[0])
		q, err := question.Parse(v[1])
		require.NoError(t, err)
		got, err := q.Ask(context.Background(), d, 0, d.failure.Thread, f.Index)
		if err != nil {
			require.ErrorContains(t, err, "optimised", "%s in %s", v[1], v[0])
			continue
		}
		text := got.Value
		if i := strings.Index(text, " ("); i > 0 && strings.HasSuffix(text, ")") && !strings.HasPrefix(text, `"`) {
			text = strings.TrimSuffix(text[i+2:], ")") // the number of a constant
		}
		require.Equal(t, v[2], text, "%s in %s", v[1], v[0])
		known++
	}
	frames, err := d.Frames(context.Background(), 0, d.failure.Thread)
	require.NoError(t, err)
	for function, address := range want.returns {
		i := frameNamed(t, d, d.failure.Thread, function).Index
		for frames[i].Inlined { // it returns where the function returns that it was inlined into
			i++
		}
		require.Less(t, i+1, len(frames), function)
		require.Equal(t, address, fmt.Sprintf("0x%x", frames[i+1].PC), "where %s returns to", function)
	}
	return known
}

func sourcesOf(binary string) module.Sources { return module.Sources{Binaries: []string{binary}} }

// crashed runs a program until it crashes, opens its dump, and returns the stack of
// what failed.
func crashed(t testing.TB, program string, args ...string) (*replay.Failure, []replay.Frame) {
	core, _ := crash(t, program, args...)
	d := openDump(t, core, Options{Modules: sourcesOf(program)})
	f := d.Info().Failure
	require.NotNil(t, f)
	frames, err := d.Frames(context.Background(), 0, f.Thread)
	require.NoError(t, err)
	require.Greater(t, len(frames), f.Frame)
	return f, frames
}

func openFile(core string, o Options) (*Dump, error) {
	f, err := os.Open(core)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return Open(context.Background(), f, o)
}

const gates = `#include <stdlib.h>
#include <string.h>
#include <stdio.h>
struct gate { int id; double level; struct gate *next; const char *name; };
static struct { int mode; int limits[4]; char site[16]; } config = {1, {10, 20, 30, 40}, "Kelp"};
static struct gate *first;
static int opened;
static void add(int id, double level, const char *name) {
  struct gate *g = malloc(sizeof *g);
  g->id = id; g->level = level; g->name = name; g->next = first;
  first = g;
}
static void lower(struct gate *g, int by) {
  opened++;
  if (g->next == 0) abort();
  lower(g->next, by);
}
int main(int argc, char **argv) {
  int n = atoi(argv[1]);
  if (n > 3) { config.limits[2] = 35; strcpy(config.site, "Ness"); }
  add(1, 4.5, "east"); add(2, n > 3 ? 2.25 : -20, "west"); add(3, 9, n > 4 ? "deep" : "lock");
  if (n > 5) add(4, 1, "outer");
  lower(first, n > 4);
  return 0;
}
`

// Two dumps of a program differ in what the program made different, wherever its memory was.
func TestComparedDumps(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	source, program := filepath.Join(dir, "gates.c"), filepath.Join(dir, "gates")
	require.NoError(t, os.WriteFile(source, []byte(gates), 0o600))
	compile(t, "gcc", "-g", "-O0", "-o", program, source)
	dump := func(n string) *Dump {
		core, _ := crash(t, program, n)
		return openDump(t, core, Options{})
	}
	left := dump("1")
	for n, want := range map[string][]string{
		"1": nil,
		"2": {"n = 1, 2"},
		"4": {"config.limits[2] = 30, 35", `config.site = "Kelp", "Ness"`, "first.next.level = -20, 2.25", "n = 1, 4"},
		"5": {"by = 0, 1", "by = 0, 1", "by = 0, 1", "config.limits[2] = 30, 35", `config.site = "Kelp", "Ness"`, `first.name = "lock", "deep"`, "first.next.level = -20, 2.25", "n = 1, 5"},
	} {
		c, err := compare.Instants(context.Background(), left, dump(n), replay.AlignOptions{Causes: 20})
		require.NoError(t, err)
		var got []string
		for _, x := range c.Causes {
			got = append(got, fmt.Sprintf("%s = %s, %s", x.Name, x.LeftValue, x.RightValue))
			assert.NotEmpty(t, x.LeftPlace.Function)
		}
		slices.Sort(got)
		assert.Equal(t, want, got, n)
		assert.Zero(t, c.OnlyLeft+c.OnlyRight)
	}
	c, err := compare.Instants(context.Background(), left, dump("6"), replay.AlignOptions{Causes: 20})
	require.NoError(t, err)
	assert.Equal(t, 1, c.OnlyRight)
	assert.Equal(t, [3]string{"frames of the failing stack", "none", "lower"}, [3]string{c.Causes[0].Name, c.Causes[0].LeftValue, c.Causes[0].RightValue})
}
