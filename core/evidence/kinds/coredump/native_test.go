package coredump

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// Programs that print their own return addresses and values before they crash are
// read back, however they were built.
func TestNativeTruth(t *testing.T) {
	t.Parallel()
	for _, b := range []struct {
		name  string
		flags string
		least int // values that must be known
		strip bool
	}{
		{"plain", "-O0 -g", 24, false},
		{"optimised", "-O2 -g", 20, false},
		{"optimised, frame pointers", "-O2 -g -fno-omit-frame-pointer", 20, false},
		{"DWARF 4", "-O2 -gdwarf-4", 20, false},
		{"small", "-Os -g", 20, false},
		{"static", "-O1 -g -static", 20, false},
		{"fixed address", "-O0 -g -no-pie", 24, false},
		{"compressed", "-O0 -g -gz=zlib", 24, false},
		{"separate debug file", "-O2 -g", 20, true},
		{"split", "-O0 -g -gsplit-dwarf", 24, false},
		{"split, optimised", "-O2 -g -gsplit-dwarf", 20, false},
		{"type units", "-O0 -g -fdebug-types-section", 24, false},
		{"type units of DWARF 4, optimised", "-O2 -gdwarf-4 -fdebug-types-section", 20, false},
		{"type units, split", "-O0 -g -gsplit-dwarf -fdebug-types-section", 24, false},
	} {
		t.Run(b.name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			binary := filepath.Join(dir, "sluice")
			compile(t, "gcc", append(strings.Fields(b.flags), "-pthread", "-o", binary, "testdata/native/sluice.c")...)
			if b.strip {
				compile(t, "objcopy", "--only-keep-debug", binary, filepath.Join(dir, "sluice.debug"))
				compile(t, "strip", binary)
				compile(t, "objcopy", "--add-gnu-debuglink="+filepath.Join(dir, "sluice.debug"), binary)
			}
			core, printed := crash(t, binary)
			want := truth(printed)
			require.NotEmpty(t, want.values)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			known := agree(t, d, want)
			assert.GreaterOrEqual(t, known, b.least, "of %d values", len(want.values))
			f := d.Info().Failure
			assert.Equal(t, "SIGSEGV", f.Signal)
			assert.Equal(t, want.address, f.Address)
			assert.Contains(t, f.Summary, "a read from address")
			assert.Contains(t, f.Summary, "g.sensor is null in level_of")
			assert.Equal(t, "g.sensor", f.Suspect)
			threads, err := d.Threads(context.Background(), 0)
			require.NoError(t, err)
			require.Len(t, threads, 2)
			other, err := d.Frames(context.Background(), 0, threads[1].ID)
			require.NoError(t, err)
			names := ""
			for _, x := range other {
				names += x.Function + " "
			}
			assert.Contains(t, names, "watch ")
			assert.Empty(t, d.Info().Gaps)
		})
	}
}

// A crash in a shared library: its thread-local storage is found with the C library's table, its
// debug file by build ID.
func TestSharedLibrary(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	library, binary := filepath.Join(dir, "liblock.so"), filepath.Join(dir, "uselock")
	compile(t, "gcc", "-g", "-O0", "-shared", "-fPIC", "-o", library, "testdata/native/lock.c")
	compile(t, "gcc", "-g", "-O0", "-o", binary, "testdata/native/uselock.c", "-L"+dir, "-llock", "-Wl,-rpath,"+dir)
	f, err := module.Open(library, "")
	require.NoError(t, err)
	debug := filepath.Join(dir, "debug")
	require.NoError(t, os.MkdirAll(filepath.Join(debug, ".build-id", f.BuildID[:2]), 0o755))
	compile(t, "objcopy", "--only-keep-debug", library, filepath.Join(debug, ".build-id", f.BuildID[:2], f.BuildID[2:]+".debug"))
	compile(t, "strip", library)
	core, printed := crash(t, binary)
	d := openDump(t, core, Options{Modules: module.Sources{Binaries: []string{binary}, Debug: []string{debug}}})
	assert.Equal(t, 4, agree(t, d, truth(printed)))
	assert.Equal(t, "b.next", d.Info().Failure.Suspect)
	frames, err := d.Frames(context.Background(), 0, d.failure.Thread)
	require.NoError(t, err)
	assert.Equal(t, []string{"deepest", "fill", "main"}, []string{frames[0].Function, frames[1].Function, frames[2].Function})
	assert.True(t, frames[0].Own && frames[2].Own)
	v, ok, err := d.Variable(context.Background(), 0, d.failure.Thread, 2, "own")
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, "4", v.Value.Text())
	v, ok, err = d.Variable(context.Background(), 0, d.failure.Thread, 0, "reg.pc")
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, frames[0].PC, v.Value.Uint)
}

// A dump of an arm64 program, which its emulator wrote: without a note about the
// signal or the files.
func TestARM64Truth(t *testing.T) {
	t.Parallel()
	const compiler, emulator = "aarch64-linux-gnu-gcc", "qemu-aarch64-static"
	for _, program := range []string{compiler, emulator} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("there is no %s here", program)
		}
	}
	for _, b := range []struct {
		flags string
		least int
	}{{"-O0 -g", 25}, {"-O2 -g", 22}} {
		t.Run(b.flags, func(t *testing.T) {
			t.Parallel()
			binary := filepath.Join(t.TempDir(), "sluice")
			compile(t, compiler, append(strings.Fields(b.flags+" -static -pthread -o"), binary, "testdata/native/sluice.c")...)
			core, printed := emulated(t, emulator, binary)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			want := truth(printed)
			assert.GreaterOrEqual(t, agree(t, d, want), b.least, "of %d values", len(want.values))
			f := d.Info().Failure
			assert.Equal(t, want.address, f.Address)
			assert.Equal(t, "g.sensor", f.Suspect)
		})
	}
}

// emulated runs a program of another processor until it crashes, and returns the
// core that the emulator wrote of it.
func emulated(t *testing.T, emulator, program string) (core, printed string) {
	dir := t.TempDir()
	cmd := exec.Command("/bin/sh", "-c", `ulimit -c unlimited; exec "$0" "$1"`, emulator, program)
	cmd.Dir = dir
	out, _ := cmd.Output() // it crashes
	list, err := filepath.Glob(filepath.Join(dir, "qemu_*.core"))
	require.NoError(t, err)
	require.Len(t, list, 1, "the emulator was to write a core")
	return list[0], string(out)
}

// Values of C++: classes, containers, smart pointers, what an object really is.
func TestCPlusPlusTruth(t *testing.T) {
	t.Parallel()
	for _, b := range []struct {
		flags string
		least int
	}{{"-O0 -g", 50}, {"-O2 -g", 46}, {"-O1 -g -static", 46}, {"-O0 -g -fno-omit-frame-pointer -gdwarf-4", 50},
		{"-O0 -g -fdebug-types-section", 50}, {"-O0 -gdwarf-4 -fdebug-types-section", 50}, {"-O0 -g -gsplit-dwarf -fdebug-types-section", 50}} {
		t.Run(b.flags, func(t *testing.T) {
			t.Parallel()
			binary := filepath.Join(t.TempDir(), "quay")
			compile(t, "g++", append(strings.Fields(b.flags+" -std=c++17 -o"), binary, "testdata/native/quay.cc")...)
			core, printed := crash(t, binary)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			want := truth(printed)
			assert.GreaterOrEqual(t, agree(t, d, want), b.least, "of %d values", len(want.values))
			f := d.Info().Failure
			assert.Contains(t, f.Summary, "missing is null in harbour::Keeper::look")
		})
	}
}

// Functions that are within others, of closures and local classes, have their values and say what
// they are in.
func TestClosuresOfCPlusPlus(t *testing.T) {
	t.Parallel()
	for flags, least := range map[string]int{"-O0": 6, "-O2": 4, "-O0 -gdwarf-4": 6} {
		binary := filepath.Join(t.TempDir(), "closure")
		compile(t, "g++", append(strings.Fields("-g -std=c++17 -w "+flags+" -o"), binary, "testdata/native/closure.cc")...)
		core, printed := crash(t, binary)
		d := openDump(t, core, Options{Modules: sourcesOf(binary)})
		want := truth(printed)
		require.Len(t, want.values, 6)
		assert.GreaterOrEqual(t, agree(t, d, want), least, flags)
		assert.Contains(t, d.Info().Failure.Summary, "of is null in harbour::look::Keeper::level", flags)
	}
}

// Values of Rust: texts, vectors, slices, enums with data.
func TestRustTruth(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("rustc"); err != nil {
		t.Skip("there is no compiler for Rust here")
	}
	for _, level := range []string{"0", "2"} {
		binary := filepath.Join(t.TempDir(), "pier")
		compile(t, "rustc", "-g", "-C", "opt-level="+level, "--edition", "2021", "-o", binary, "testdata/native/pier.rs")
		core, printed := crash(t, binary)
		d := openDump(t, core, Options{Modules: sourcesOf(binary)})
		want := truth(printed)
		known := agree(t, d, want)
		if level == "0" {
			assert.Equal(t, len(want.values), known)
		}
		assert.Equal(t, "0x18", d.Info().Failure.Address)
	}
}

// Split files that were put into one package are found in it.
func TestPackedSplit(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("llvm-dwp"); err != nil {
		t.Skip("there is no llvm-dwp here")
	}
	dir := t.TempDir()
	object, part, binary := filepath.Join(dir, "sluice.o"), filepath.Join(dir, "sluice.dwo"), filepath.Join(dir, "sluice")
	compile(t, "gcc", "-g", "-gdwarf-5", "-O0", "-pthread", "-gsplit-dwarf", "-c", "-o", object, "testdata/native/sluice.c")
	compile(t, "gcc", "-g", "-pthread", "-o", binary, object)
	compile(t, "timeout", "20", "llvm-dwp", "-o", binary+".dwp", part)
	require.NoError(t, os.Remove(part))
	core, printed := crash(t, binary)
	d := openDump(t, core, Options{Modules: sourcesOf(binary)})
	assert.GreaterOrEqual(t, agree(t, d, truth(printed)), 26)
	assert.Empty(t, d.Info().Gaps)
	require.NoError(t, os.Remove(binary+".dwp"))
	d = openDump(t, core, Options{Modules: sourcesOf(binary)})
	require.NotEmpty(t, d.Info().Gaps)
	assert.Contains(t, d.Info().Gaps[0].What, "sluice.dwo")
}

// Entries that were moved to a file that several debug files share are found there.
func TestSupplementaryFile(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("dwz"); err != nil {
		t.Skip("there is no dwz here")
	}
	dir := t.TempDir()
	binary, other := filepath.Join(dir, "sluice"), filepath.Join(dir, "other")
	for _, b := range []string{binary, other} {
		compile(t, "gcc", "-g", "-gdwarf-4", "-O0", "-pthread", "-o", b, "testdata/native/sluice.c")
	}
	compile(t, "dwz", "-m", filepath.Join(dir, "shared.debug"), binary, other)
	core, printed := crash(t, binary)
	d := openDump(t, core, Options{Modules: sourcesOf(binary)})
	require.NotNil(t, d.program.Supplement)
	assert.GreaterOrEqual(t, agree(t, d, truth(printed)), 24)
	assert.Empty(t, d.Info().Gaps)
}

// Without its binary, and with a wrong one, a dump says so.
func TestMissingAndWrongBinary(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	right, wrong := filepath.Join(dir, "right"), filepath.Join(dir, "wrong")
	compile(t, "gcc", "-g", "-pthread", "-o", right, "testdata/native/sluice.c")
	compile(t, "gcc", "-g", "-O1", "-pthread", "-o", wrong, "testdata/native/sluice.c")
	core, _ := crash(t, right)
	d := openDump(t, core, Options{Modules: module.Sources{Alone: true}})
	require.NotEmpty(t, d.Info().Gaps)
	assert.Contains(t, d.Info().Gaps[0].What, "right was not found (build ID ")
	assert.Contains(t, d.Info().Failure.Summary, "0x8", "what the kernel says is there all the same")

	f, err := module.Open(wrong, "")
	require.NoError(t, err)
	_, err = openFile(core, Options{Modules: sourcesOf(wrong)})
	require.ErrorIs(t, err, fault.WrongBuild)
	assert.ErrorContains(t, err, f.BuildID)
	assert.ErrorContains(t, err, d.program.BuildID)

	require.NoError(t, exec.Command("gzip", "-k", core).Run())
	packed := openDump(t, core+".gz", Options{Modules: sourcesOf(right)})
	assert.Equal(t, "g.sensor", packed.Info().Failure.Suspect)
}

// Values that are seldom seen, and memory that is taken for something.
func TestOddValuesOfCPlusPlus(t *testing.T) {
	t.Parallel()
	for _, flags := range []string{"-O0 -g", "-O0 -g -gdwarf-4 -static", "-O2 -g"} {
		binary := filepath.Join(t.TempDir(), "odd")
		compile(t, "g++", append(strings.Fields(flags+" -std=c++20 -w -o"), binary, "testdata/native/odd.cc")...)
		core, printed := crash(t, binary)
		d := openDump(t, core, Options{Modules: sourcesOf(binary)})
		want := truth(printed)
		require.Len(t, want.values, 37)
		assert.Equal(t, len(want.values), agree(t, d, want), flags)
		for expression, text := range map[string]string{
			"odd.marks": "LIT|TIDAL (5)", "odd.none": "0", "odd.unnamed": "65", "odd.rule": "sounding", "odd.several": "&0", "odd.wide": "wchar_t[4]{101, 98, 98, 0}", "odd.text": `"slack"`,
		} {
			assert.Equal(t, text, textIn(t, d, "look", expression), expression)
		}
	}
}

// textIn returns the text of an expression in the innermost frame of a function of the failing thread.
func textIn(t *testing.T, d *Dump, function, expression string) string {
	q, err := question.Parse(expression)
	require.NoError(t, err)
	got, err := q.Ask(context.Background(), d, 0, d.failure.Thread, frameNamed(t, d, d.failure.Thread, function).Index)
	if err != nil {
		return err.Error()
	}
	return got.Value
}

// A module is its own mappings: not what lies between them, and not another mapping of its file.
func TestModulesAreTheirMappings(t *testing.T) {
	t.Parallel()
	binary := filepath.Join(t.TempDir(), "mapped")
	compile(t, "gcc", "-g", "-w", "-o", binary, "testdata/native/mapped.c")
	core, printed := crash(t, binary)
	d := openDump(t, core, Options{Modules: sourcesOf(binary)})
	for i, text := range strings.Fields(printed)[:6] {
		address, err := strconv.ParseUint(strings.TrimPrefix(text, "0x"), 16, 64)
		require.NoError(t, err)
		want := []string{`^the mapped file .*/mapped$`, `^the mapped file .*/libc\.so\.6$`, `^the heap$`, `^memory that the program mapped$`, `^mapped, tides`, `^mapped, main$`}[i]
		assert.Regexp(t, want, d.describeAddress(address), "%s of %s", text, printed)
	}
}

// A variable of Rust that was moved or dropped has no value, whatever its bytes still say.
func TestMovedValuesOfRust(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("rustc"); err != nil {
		t.Skip("there is no Rust compiler here")
	}
	binary := filepath.Join(t.TempDir(), "moved")
	compile(t, "rustc", "-g", "--edition", "2021", "-o", binary, "testdata/native/moved.rs")
	core, _ := crash(t, binary)
	d := openDump(t, core, Options{Modules: sourcesOf(binary)})
	frame := frameNamed(t, d, d.failure.Thread, "moved::main")
	for name, want := range map[string]string{"second": `"Kelp Quay"`, "other": `&Berth{name: "Ness", depths: Vec<i32>{…}}`, "same": `Some{__0: "tide"}`, "copied": `"Kelp Quay"`, "empty": `""`, "nothing": "Vec<i32>{}", "lent": `"lent"`} {
		v, ok, err := d.Variable(context.Background(), 0, d.failure.Thread, frame.Index, name)
		require.NoError(t, err)
		require.True(t, ok, name)
		assert.Equal(t, event.Known, v.Value.State, name)
		assert.Equal(t, want, v.Value.Text(), name)
	}
	for name, why := range map[string]string{"first": "second", "list": "list", "dropped": "", "boxed": "other", "some": "same", "text": "given"} {
		v, _, err := d.Variable(context.Background(), 0, d.failure.Thread, frame.Index, name)
		require.NoError(t, err)
		assert.Equal(t, event.Moved, v.Value.State, name)
		assert.Contains(t, v.Value.Value.Text, why, name)
	}
	taken := frameNamed(t, d, d.failure.Thread, "moved::take")
	for name, want := range map[string]string{"given": `"given away"`, "list": "Vec<i32>(3){1, 2, 3}", "lent": `&"lent"`} {
		v, _, err := d.Variable(context.Background(), 0, d.failure.Thread, taken.Index, name)
		require.NoError(t, err)
		assert.Equal(t, want, v.Value.Text(), name)
	}
}

// libcpp are the flags for the other standard library of C++.
const libcpp = "-nostdinc++ -isystem /usr/include/c++/v1 -nodefaultlibs"

// librariesOf are the libraries to link with flags.
func librariesOf(flags string) []string {
	if strings.Contains(flags, libcpp) {
		return strings.Fields("-lc++ -lc++abi -lm -lc -lgcc_s -lgcc")
	}
	return nil
}

// Values of the standard library of C++ are shown as what they are.
func TestStandardLibraryOfCPlusPlus(t *testing.T) {
	t.Parallel()
	for _, flags := range []string{"-O0", "-O0 -gdwarf-4", "-O0 " + libcpp} {
		binary := filepath.Join(t.TempDir(), "standard")
		compile(t, "g++", append(append([]string{"-o", binary, "testdata/native/standard.cc"}, strings.Fields("-g -std=c++17 -w "+flags)...), librariesOf(flags)...)...)
		core, _ := crash(t, binary)
		d := openDump(t, core, Options{Modules: sourcesOf(binary)})
		f := d.Info().Failure
		for name, want := range map[string]string{
			"list": "initializer_list<int>(3){3, 1, 4}", "empty": "nil", "plain": "twice", "lambda": "show()::{lambda(int)#1}",
			"nothing": "nil", "number": "42", "text": `"Osprey Wall, at the mouth of the sound"`, "big.depth": "4", "big.name": `"Kelp"`,
			"bits[0]": "true", "bits[1]": "false", "bits[7]": "true", "wide[99]": "true", "wide[98]": "false",
			"m": "unlocked (0)", "ws": `"Gannet Søund"`, "u16": `"tide"`, "u32": `"Ebb"`, "wp": `"wide pointer"`, "moved": `""`, "up": "nil", "vb": "vector<bool>(3){true, false, true}",
			"member": "&quay::depth (8)", "none": "null (-1)", "method": "quay::deeper", "virt": "virtual function 0 of quay", "weak.depth": "4", "ms": "1.5s (1500)", "path": `"/srv/gannet"`,
		} {
			p, err := replay.ParsePath(name)
			require.NoError(t, err)
			v, err := replay.Follow(context.Background(), d, 0, f.Thread, f.Frame, p)
			if assert.NoError(t, err, name) {
				assert.Equal(t, want, v.Text(), "%s: %s", flags, name)
			}
		}
		for name, want := range map[string]string{"held": `^locked by thread \d+ \(\d+\)$`, "rm": `^locked by thread \d+ \(\d+\)$`, "expired": `\(expired\)$`, "weak": `\(2 owners\)$`, "shared": `\(2 owners\)$`} {
			v, ok, err := d.Variable(context.Background(), 0, f.Thread, f.Frame, name)
			require.NoError(t, err)
			require.True(t, ok, name)
			assert.Regexp(t, want, v.Value.Text(), name)
		}
		// What holds an address is named: a variable of a frame, or a chunk of the heap.
		v, _, err := d.Variable(context.Background(), 0, f.Thread, f.Frame, "shared")
		require.NoError(t, err)
		holders, _, err := d.Holders(context.Background(), v.Value.Address, replay.Page{Count: 100})
		require.NoError(t, err)
		var what []string
		for _, w := range holders {
			what = append(what, w.What)
		}
		for _, name := range []string{"shared", "weak", "shared2"} {
			assert.Contains(t, what, fmt.Sprintf("the stack of thread %d, frame %d: show, %s", f.Thread, f.Frame, name))
		}
	}
}
