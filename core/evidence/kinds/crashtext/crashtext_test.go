package crashtext_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
)

func open(t *testing.T, text string, o evidence.Options) replay.Recording {
	path := filepath.Join(t.TempDir(), "crash.txt")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	r, err := kinds.All.Open(context.Background(), path, o, nil)
	require.NoError(t, err)
	return r
}

const goCrash = `panic: no licence [recovered]
	panic: pilot 07: no licence

goroutine 7 [running]:
main.serve.func1()
	/srv/gannet/pilotd/main.go:31 +0xae
panic({0x4c00c0?, 0xc000012000?})
	/usr/local/go/src/runtime/panic.go:860 +0x13a
main.(*Roster).check(0xc000010000, {0x4b2f00, 0x8}, 0x2a?)
	/srv/gannet/pilotd/roster.go:19 +0x1b
github.com/gannet/sea.Go(...)
	/root/go/pkg/mod/github.com/gannet/sea@v1.2.3/go.go:29
main.serve(...)
	/srv/gannet/pilotd/main.go:40
created by main.main in goroutine 1
	/srv/gannet/pilotd/main.go:12 +0x20f

goroutine 8 [chan receive, 2 minutes]:
main.wait()
	/srv/gannet/pilotd/main.go:66 +0x34

goroutine 9 [chan receive]:
main.wait()
	/srv/gannet/pilotd/main.go:66 +0x34
`

// TestQuestions asks a crash text what is asked of other evidence.
func TestQuestions(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "pilotd"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pilotd", "roster.go"), []byte(strings.Repeat("\n", 18)+"return p.licence.Holder\n"), 0o600))
	r := open(t, goCrash, evidence.Options{Artifacts: evidence.Artifacts{Source: []string{dir}}})
	p, err := ask.Run(ctx, ask.Subject{Recording: r}, ask.PeekRequest{})
	require.NoError(t, err)
	assert.Equal(t, "crash-text", p.Evidence.Kind)
	assert.Equal(t, "panic: pilot 07: no licence", p.Failure.Summary)
	assert.Equal(t, []ask.Cause{{Type: "panic", Message: "pilot 07: no licence"}, {Type: "panic", Message: "no licence"}}, p.Failure.Causes)
	frames := p.Threads[0].Frames
	var own []bool
	for _, f := range frames {
		own = append(own, f.Own)
	}
	assert.Equal(t, []bool{true, false, true, false, true}, own, "the runtime and another module are foreign")
	assert.Equal(t, "main.main in goroutine 1 at /srv/gannet/pilotd/main.go:12", p.Threads[0].Creator)
	v, err := ask.Run(ctx, ask.Subject{Recording: r}, ask.ValuesRequest{Place: ask.Place{Thread: 1, Frame: 2}, Levels: 1, Width: 9})
	require.NoError(t, err)
	require.Len(t, v.Variables, 3)
	assert.Equal(t, "0xc000010000", v.Variables[0].Value)
	assert.Equal(t, "0x8", v.Variables[1].Children[1].Value)
	assert.Equal(t, "leftover", v.Variables[2].State)
	assert.Contains(t, v.Variables[2].Why, "0x2a")
	q, err := question.Parse("arg1 == 824633786368")
	require.NoError(t, err)
	a, err := q.Ask(ctx, r, 0, 1, 2)
	require.NoError(t, err)
	assert.Equal(t, "true", a.Value)
	groups, err := ask.Run(ctx, ask.Subject{Recording: r}, ask.ThreadsRequest{})
	require.NoError(t, err)
	require.Len(t, groups.Groups, 2)
	assert.Equal(t, 2, groups.Groups[0].Count, "equal stacks are grouped, however long they have waited")
	text, err := r.Source("/srv/gannet/pilotd/roster.go")
	require.NoError(t, err)
	assert.Contains(t, text, "p.licence.Holder")
	_, err = r.Source("/srv/gannet/pilotd/none.go")
	require.ErrorIs(t, err, fault.NoSource)
	_, err = ask.Run(ctx, ask.Subject{Recording: r}, ask.HitsRequest{CheckpointOn: ask.CheckpointOn{On: "error"}})
	require.ErrorIs(t, err, fault.NoHistory)

	mine := open(t, goCrash, evidence.Options{Own: []string{"github.com/gannet/"}})
	list, err := mine.Frames(ctx, 0, 1)
	require.NoError(t, err)
	assert.False(t, list[0].Own)
	assert.True(t, list[3].Own)
}

// TestFingerprint is the same for the same failure on other lines, with other values
// and other threads around it, and differs for others.
func TestFingerprint(t *testing.T) {
	t.Parallel()
	print := func(text string) string {
		print, err := ask.Fingerprint(context.Background(), open(t, text, evidence.Options{}))
		require.NoError(t, err)
		return print
	}
	first := print(goCrash)
	later := strings.NewReplacer(":19", ":23", ":31", ":35", "pilot 07", "pilot 12", "goroutine 7", "goroutine 70", "0xc000010000", "0xc000099000", "main.wait", "main.rest").Replace(goCrash)
	assert.NotEmpty(t, first)
	assert.Equal(t, first, print(later))
	assert.NotEqual(t, first, print(strings.Replace(goCrash, "(*Roster).check", "(*Roster).give", 1)))
}

// TestAddresses finds function, file and line of addresses where the binary is at
// hand: those that the crashing program itself named.
func TestAddresses(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("gcc"); err != nil {
		t.Skip("gcc is not on this machine")
	}
	dir := t.TempDir()
	program := filepath.Join(dir, "sluice")
	out, err := exec.Command("gcc", "-g", "-O0", "-rdynamic", "-o", program, "../../../traceback/testdata/programs/sluice.c").CombinedOutput()
	require.NoError(t, err, "%s", out)
	cmd := exec.Command(program)
	var account, text strings.Builder
	cmd.Stdout, cmd.Stderr = &account, &text
	require.Error(t, cmd.Run())
	// Kept apart, under other names, as a case's artifacts are: the program without, and its debug information.
	stripped, debug := filepath.Join(dir, "1"), filepath.Join(dir, "2")
	for _, c := range [][]string{{"objcopy", "--strip-debug", program, stripped}, {"objcopy", "--only-keep-debug", program, debug}} {
		out, err := exec.Command(c[0], c[1:]...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	f, err := module.Open(program, "")
	require.NoError(t, err)
	numbered, n := "SIGSEGV: segmentation fault\n", 0
	for _, m := range regexp.MustCompile(`\((\w+)\+0x([0-9a-f]+)\) ?\[(0x[0-9a-f]+)\]`).FindAllStringSubmatch(text.String(), -1) {
		s, ok := f.Symbols().Named(m[1])
		if !ok {
			break // the C library's
		}
		in, err := strconv.ParseUint(m[2], 16, 64)
		require.NoError(t, err)
		numbered += fmt.Sprintf("    #%d %s in %s (/srv/gannet/other+0x%x) (BuildId: %s)\n", n, m[3], m[1], s.Address+in, f.BuildID)
		n++
	}
	apart := evidence.Artifacts{Offered: []string{debug, stripped}, Names: map[string]string{stripped: "sluice", debug: "sluice.debug"}}
	for how, x := range map[string]struct {
		text string
		from evidence.Artifacts
	}{"given": {text.String(), evidence.Artifacts{Binaries: []string{program}}}, "offered": {text.String(), apart}, "by build ID": {numbered, apart}} {
		r := open(t, x.text, evidence.Options{Artifacts: x.from})
		frames, err := r.Frames(context.Background(), 0, 1)
		require.NoError(t, err)
		lines := strings.Split(strings.TrimSpace(account.String()), "\n")
		for i, line := range lines { // from main on
			part := strings.Split(line, "\t")
			f := frames[len(lines)-1-i]
			assert.Equal(t, part[1], f.Function, how)
			assert.True(t, strings.HasSuffix(f.File, "sluice.c"), how)
			assert.Equal(t, part[3], strconv.Itoa(f.Line), how)
			assert.True(t, f.Own, how)
		}
	}
	without := open(t, strings.ReplaceAll(text.String(), "level+", "+"), evidence.Options{})
	assert.NotEmpty(t, without.Info().Gaps, "addresses without names are told of")
}

// TestAddressesOfInlinedCalls finds all functions that an address stands for; with symbols alone, the
// functions that have code of their own.
func TestAddressesOfInlinedCalls(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("gcc"); err != nil {
		t.Skip("gcc is not on this machine")
	}
	for _, flags := range []string{"-O2 -g", "-O1 -gdwarf-4", "-O2 -g -no-pie", "-O0 -g"} {
		program := filepath.Join(t.TempDir(), "inlined")
		run := func(name string, args ...string) {
			out, err := exec.Command(name, args...).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
		run("gcc", append(strings.Fields(flags), "-o", program, "testdata/inlined.c")...)
		cmd := exec.Command(program)
		var account, text strings.Builder
		cmd.Stdout, cmd.Stderr = &account, &text
		require.Error(t, cmd.Run())
		want := strings.Split(strings.TrimSpace(account.String()), "\n")
		r := open(t, text.String(), evidence.Options{Artifacts: evidence.Artifacts{Binaries: []string{program}}})
		frames, err := r.Frames(context.Background(), 0, 1)
		require.NoError(t, err)
		require.Greater(t, len(frames), len(want), "%s: %s", flags, text.String())
		var own []string
		for i := range want {
			part := strings.Split(want[len(want)-1-i], "\t")
			f := frames[i]
			assert.Equal(t, part[0], f.Function, "%s, frame %d", flags, i)
			assert.Equal(t, part[1], strconv.Itoa(f.Line), "%s, frame %d", flags, i)
			assert.Equal(t, part[2] != "", f.Inlined, "%s, frame %d", flags, i)
			assert.True(t, strings.HasSuffix(f.File, "inlined.c"), "%s, frame %d: %s", flags, i, f.File)
			if part[2] == "" {
				own = append(own, part[0])
			}
		}
		plain := program + "-plain"
		run("objcopy", "--strip-debug", program, plain)
		r = open(t, strings.ReplaceAll(text.String(), program, plain), evidence.Options{Artifacts: evidence.Artifacts{Binaries: []string{plain}}})
		frames, err = r.Frames(context.Background(), 0, 1)
		require.NoError(t, err)
		for i, name := range own {
			assert.Equal(t, name, frames[i].Function, flags)
			assert.Zero(t, frames[i].Line, flags)
			assert.False(t, frames[i].Inlined, flags)
		}
	}
}

// TestKernelsWord finds the place of a fault that only the kernel's log reports, in the notation of
// this kernel and of earlier ones.
func TestKernelsWord(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("g++"); err != nil {
		t.Skip("g++ is not on this machine")
	}
	program := filepath.Join(t.TempDir(), "ending")
	out, err := exec.Command("g++", "-g", "-O0", "-o", program, "../../../traceback/testdata/programs/ending.cc").CombinedOutput()
	require.NoError(t, err, "%s", out)
	var account, line string
	for try := 0; try < 20 && line == ""; try++ { // the kernel leaves out faults that follow each other fast
		cmd := exec.Command(program, "fault")
		out, err := cmd.Output()
		require.Error(t, err)
		account = string(out)
		log, err := exec.Command("dmesg").Output()
		if err != nil {
			t.Skipf("the kernel's log may not be read here: %v", err)
		}
		for l := range strings.Lines(string(log)) {
			if strings.Contains(l, "ending["+strconv.Itoa(cmd.Process.Pid)+"]: segfault") {
				line = l
			}
		}
	}
	if line == "" {
		t.Skip("the kernel does not tell of faults here")
	}
	part := strings.Split(strings.TrimSpace(account), "\t")
	earlier := regexp.MustCompile(`in ending\[[0-9a-f]+,`).ReplaceAllString(line, "in ending[")
	for _, text := range []string{line, earlier} {
		r := open(t, text, evidence.Options{Artifacts: evidence.Artifacts{Binaries: []string{program}}})
		assert.Equal(t, "0x18", r.Info().Failure.Address)
		assert.Contains(t, r.Info().Failure.Summary, "write where nothing is mapped")
		frames, err := r.Frames(context.Background(), 0, 1)
		require.NoError(t, err)
		require.Len(t, frames, 1, text)
		assert.Equal(t, part[1], frames[0].Function, text)
		assert.Equal(t, part[3], strconv.Itoa(frames[0].Line), text)
	}
}
