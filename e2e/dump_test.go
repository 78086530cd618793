package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
)

// stuck is a core dump of the demo's sluiced, with its binary, made once.
var stuck = sync.OnceValues(func() ([2]string, error) {
	dir := filepath.Join(work, "sluiced")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return [2]string{}, err
	}
	binary := filepath.Join(dir, "sluiced")
	// Static: the service does not look at this machine's own libraries.
	if out, err := exec.Command("gcc", "-g", "-O0", "-static", "-pthread", "-o", binary, "../demo/sluiced/sluiced.c").CombinedOutput(); err != nil {
		return [2]string{}, &exec.Error{Name: string(out), Err: err}
	}
	cmd := exec.Command("/bin/sh", "-c", `ulimit -c unlimited; exec ./sluiced`)
	cmd.Dir = dir
	_ = cmd.Run() // it crashes
	cores, err := filepath.Glob(filepath.Join(dir, "core*"))
	if len(cores) == 0 {
		return [2]string{}, err
	}
	return [2]string{cores[0], binary}, err
})

func stuckDump(t *testing.T) (core, binary string) {
	x, err := stuck()
	require.NoError(t, err)
	if x[0] == "" {
		t.Skip("the kernel does not write core dumps into the folder of the program here")
	}
	return x[0], x[1]
}

func parsed[T any](t *testing.T, text string) (out T) {
	require.NoError(t, json.Unmarshal([]byte(text), &out), text)
	return out
}

// A core dump opens at the failure on the command line, and says what it lacks.
func TestADumpOpensAtTheFailure(t *testing.T) {
	t.Parallel()
	core, binary := stuckDump(t)
	ines := somebody(t, "Ines")
	p := parsed[ask.Peek](t, ines.fine(t, "--json", "peek", core, "--binary", binary))
	assert.Equal(t, "core-dump", p.Evidence.Kind)
	assert.EqualValues(t, 1, p.Evidence.Moments)
	require.NotNil(t, p.Failure)
	assert.Equal(t, "SIGSEGV", p.Failure.Signal)
	assert.Equal(t, "0x8", p.Failure.Address)
	assert.Equal(t, "gate.sensor", p.Failure.Suspect)
	assert.Contains(t, p.Failure.Instruction, "[rax+0x8]")
	assert.Contains(t, p.Failure.Summary, "gate came from sweep as g, 2 calls up")
	assert.Empty(t, p.Gaps)
	assert.Len(t, p.Threads, 3)
	for _, x := range []struct{ expression, value string }{
		{"gate.name", `"Skerry Gut gate"`}, {"gate.sensor == null", "true"}, {"gate.next.sensor.level_m", "3.1"}, {`global("sluiced.c", "chain").count`, "4"},
		{`cast(gate, "struct gate").sill_m`, "2.1"}, {"chain.count", "4"},
	} {
		r := ines.wraith(t, "", "--json", "ask", core, x.expression, "--binary", binary)
		require.Zero(t, r.code, "%s: %s", x.expression, r.err)
		assert.Equal(t, x.value, parsed[ask.Expression](t, r.out).Value, x.expression)
	}
	in := parsed[ask.Instructions](t, ines.fine(t, "--json", "instructions", core, "--binary", binary))
	here := 0
	for _, x := range in.Instructions {
		if x.Here {
			here++
			assert.Equal(t, p.Failure.Instruction, x.Text)
			assert.Contains(t, strings.Join(x.Operands, " "), "rax = 0x0")
		}
	}
	assert.Equal(t, 1, here)
	gate := strings.Trim(parsed[ask.Expression](t, ines.fine(t, "--json", "ask", core, "hex(gate)", "--binary", binary)).Value, `"`)
	m := parsed[ask.Memory](t, ines.fine(t, "--json", "memory", core, gate, "--binary", binary))
	assert.True(t, strings.HasPrefix(m.Bytes, "536b65727279"), "the gate's name lies there: %s", m.Bytes)
	assert.Regexp(t, `^the heap, offset 0 of a chunk of 72 bytes at 0x[0-9a-f]+, in use; before it a chunk`, m.What)
	h := parsed[ask.Holders](t, ines.fine(t, "--json", "memory", core, gate, "--holders", "--binary", binary))
	assert.Positive(t, h.Total)
	for args, code := range map[string]int{"step %s --over": 1, "hits %s --line sluiced.c:65": 1, "stack %s@1": 1, "ask %s gat": 1, "memory %s nowhere": 2, "values %s#99": 1} {
		line := append(strings.Fields(strings.Replace(args, "%s", core, 1)), "--binary", binary)
		r := ines.wraith(t, "", line...)
		assert.Equal(t, code, r.code, "%s: %s", args, r.err)
		assert.Equal(t, 2, strings.Count(r.err, "\n"), r.err)
	}
	r := ines.wraith(t, "", "peek", core, "--binary", filepath.Join(work, "wraith"))
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "another build")

	cut, err := os.ReadFile(core)
	require.NoError(t, err)
	half := filepath.Join(t.TempDir(), "half")
	require.NoError(t, os.WriteFile(half, cut[:len(cut)/2], 0o600))
	p = parsed[ask.Peek](t, ines.fine(t, "--json", "peek", half, "--binary", binary))
	require.NotEmpty(t, p.Gaps)
	assert.Contains(t, p.Gaps[0].What, "cut off")
}

// In the service a dump is explained by the artifacts of its case, and then
// answers as a local file does; the console shows it.
func TestADumpInTheService(t *testing.T) {
	t.Parallel()
	core, binary := stuckDump(t)
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "stuck-gate", "--title", "sluiced died")
	ines.fine(t, "evidence", "add", "stuck-gate", core, "--name", "dump")
	p := parsed[ask.Peek](t, ines.fine(t, "--json", "peek", "stuck-gate/dump"))
	require.NotEmpty(t, p.Gaps)
	assert.Contains(t, p.Gaps[0].What, "sluiced was not found (build ID ")
	info, err := os.Stat(core)
	require.NoError(t, err)
	assert.Positive(t, info.Size())

	notes := filepath.Join(t.TempDir(), "notes.txt")
	require.NoError(t, os.WriteFile(notes, []byte("no binary"), 0o600))
	r := ines.wraith(t, "", "artifact", "add", "stuck-gate", notes)
	assert.NotZero(t, r.code)
	assert.Contains(t, r.err, "neither an ELF file nor")

	sources := filepath.Join(t.TempDir(), "source.tar.gz")
	require.NoError(t, exec.Command("tar", "-C", "../demo", "-czf", sources, "sluiced").Run())
	ines.fine(t, "artifact", "add", "stuck-gate", binary)
	ines.fine(t, "artifact", "add", "stuck-gate", sources)
	waitFor(t, func() bool {
		return strings.Contains(ines.wraith(t, "", "evidence", "stuck-gate").out, "gate.sensor is null")
	})
	for _, args := range [][]string{{"peek", "%s"}, {"stack", "%s", "--all"}, {"values", "%s", "--depth", "2"}, {"ask", "%s", "gate.name"}, {"threads", "%s"}, {"instructions", "%s#1.0"}, {"memory", "%s", "0x0"}} {
		ask := func(evidence string, more ...string) ran {
			line := append([]string{"--json"}, args...)
			for i := range line {
				line[i] = strings.Replace(line[i], "%s", evidence, 1)
			}
			return ines.wraith(t, "", append(line, more...)...)
		}
		local, shared := ask(core, "--binary", binary), ask("stuck-gate/dump", "--unmask")
		assert.Equal(t, local.code, shared.code, "%v: %s", args, shared.err)
		assert.Equal(t, local.out, shared.out, "%v", args)
	}

	page := newPage(t, browser(t), s, ines, "/cases/stuck-gate")
	page.sees(text("main"), "Binaries, debug files and source text")
	page.sees(text(".artifacts"), "sluiced")
	page.accessible("evidence with artifacts")
	page.do(chromedp.Click(`a[href="/cases/stuck-gate/dump"]`))
	page.sees(text("main"), "level_over_sill")
	page.sees(text("main"), "double level = gate->sensor->level_m;")
	page.sees(text(".drawer"), "3 threads")
	page.accessible("a dump")
	page.do(chromedp.Click("#tab-instructions"))
	page.sees(text("tr.now"), "[rax+0x8]")
	page.do(chromedp.Click("#tab-memory"), chromedp.SendKeys(`[aria-label="address"]`, "0x8\n"))
	page.sees(text("main"), "which are masked")
	page.do(chromedp.Click("#unmask"))
	page.sees(text(".drawer"), "3 threads")
	page.do(chromedp.Click("#tab-memory"), chromedp.SendKeys(`[aria-label="address"]`, "0x8\n"))
	page.sees(text(".drawer"), "unmapped memory")
}
