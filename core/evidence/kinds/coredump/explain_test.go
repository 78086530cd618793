package coredump

import (
	"context"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each kind of crash has its own summary, at the right frame.
func TestExplanations(t *testing.T) {
	t.Parallel()
	binary := filepath.Join(t.TempDir(), "faults")
	compile(t, "gcc", "-g", "-O0", "-fstack-protector-strong", "-Wno-all", "-o", binary, "testdata/native/faults.c")
	const gaveUp = "a read from address 0: a null pointer; b.draught is null in null_read; b came from main as berth, one call up; then, in the handler give_up: the program ended itself (SIGABRT)"
	for how, want := range map[string]struct {
		kind, signal, summary, function, suspect string
	}{
		"null read":              {"signal", "SIGSEGV", "a read from address 0: a null pointer; b.draught is null in null_read; b came from main as berth", "null_read", "b.draught"},
		"null write":             {"signal", "SIGSEGV", "a write to address 0xc: 12 bytes beyond a null pointer; b is null in null_write", "null_write", "b"},
		"null call":              {"signal", "SIGSEGV", "a call through a null pointer", "null_call", "b.rule"},
		"wild":                   {"signal", "SIGSEGV", "a read from 0x4141414141414141, which is no address", "wild_read", "b.draught"},
		"constant":               {"signal", "SIGSEGV", "which is read-only; text is 0x", "constant_write", "text"},
		"divide":                 {"signal", "SIGFPE", "a whole number was divided by zero; count is 0 in divide", "divide", "count"},
		"index":                  {"signal", "SIGSEGV", "where nothing is mapped: a wild pointer, or memory that was given back; the index index is 90000000 in beyond", "beyond", "index"},
		"endless":                {"signal", "SIGSEGV", "× endless", "endless", ""},
		"in turns":               {"signal", "SIGSEGV", " × ", "", ""},
		"assertion":              {"failed-assertion", "SIGABRT", "too shallow\"' failed.; metres is 2", "fail_check", ""},
		"global":                 {"signal", "SIGSEGV", "nowhere is null in of_global", "of_global", "nowhere"},
		"overflow":               {"signal", "SIGFPE", "a division overflowed: the smallest whole number by -1", "share", ""},
		"no access":              {"signal", "SIGSEGV", "a write to 0x", "no_access", "p"},
		"gave up reading":        {"signal", "SIGSEGV", gaveUp, "null_read", "b.draught"},
		"gave up reading, told":  {"signal", "SIGSEGV", gaveUp, "null_read", "b.draught"},
		"gave up dividing":       {"signal", "SIGFPE", "a whole number was divided by zero; count is 0 in divide; then, in the handler give_up: the program ended itself", "divide", "count"},
		"gave up dividing, told": {"signal", "SIGFPE", "a whole number was divided by zero; count is 0 in divide; then, in the handler give_up: the program ended itself", "divide", "count"},
		"raised again":           {"signal", "SIGSEGV", "a read from address 0: a null pointer; b.draught is null in null_read; b came from main as berth, one call up; the program's handler returned", "null_read", "b.draught"},
		"failed too":             {"signal", "SIGSEGV", "b.draught is null in null_read; b came from main as berth, one call up; the handler fail_too then failed itself: a write to address 0x10", "null_read", "b.draught"},
		"failed too, told":       {"signal", "SIGSEGV", "b.draught is null in null_read; b came from main as berth, one call up; the handler fail_too then failed itself: a write to address 0x10", "null_read", "b.draught"},
		"aborted":                {"failed-assertion", "SIGABRT", "too shallow", "fail_check", ""},
		"abort":                  {"signal", "SIGABRT", "the program ended itself (SIGABRT)", "main", ""},
		"trap":                   {"signal", "SIGILL", "made to fail", "main", ""},
		"data":                   {"signal", "SIGSEGV", "which is not executable", "not_executable", ""},
		"past file":              {"signal", "SIGBUS", "at a place that the file does not have", "past_file", ""},
		"given back":             {"signal", "SIGSEGV", "memory that was given back", "given_back", "p"},
		"guarded":                {"signal", "SIGSEGV", "may not be touched", "guarded", "p"},
		"twice freed":            {"signal", "SIGABRT", "free(): double free detected", "main", ""},
		"in a handler":           {"signal", "SIGSEGV", "none is null in on_signal", "on_signal", "none"},
		"smashed":                {"signal", "SIGSEGV", "an address that the processor cannot form", "smash", ""},
		"wild call":              {"signal", "SIGSEGV", "code was to run at 0x700000000000, where nothing is mapped", "null_call", "b.rule"},
		"already null":           {"signal", "SIGSEGV", "a read from address 0: a null pointer; place is null in deepest; it was already null in outer as from, 2 calls up", "deepest", "place"},
		"already wild":           {"signal", "SIGSEGV", "a read from 0x700000000000, where nothing is mapped: a wild pointer, or memory that was given back; place is 0x700000000000 in deepest; it was already so in outer as from, 2 calls up", "deepest", "place"},
		"member":                 {"signal", "SIGSEGV", "place is 0x700000000000 in deepest; it was already so in deep as of.draught, 2 calls up", "deepest", "place"},
		"far":                    {"signal", "SIGSEGV", "where nothing is mapped: a wild pointer, or memory that was given back; the index index is 90000000 in far", "far", "index"},
		"overrun":                {"signal", "SIGABRT", "the program ended itself: a function's frame was overwritten beyond its end", "overrun", ""},
		"aborted by another":     {"signal", "SIGABRT", "ended by SIGABRT, which process", "from_another", ""},
		"ended by another":       {"signal", "SIGSEGV", "ended by SIGSEGV, which process", "from_another", ""},
		"quit":                   {"signal", "SIGQUIT", "ended by SIGQUIT, which process", "from_another", ""},
		"sent":                   {"signal", "SIGSEGV", "ended by SIGSEGV, which process", "main", ""},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			f, frames := crashed(t, binary, how)
			assert.Equal(t, want.kind, f.Kind)
			assert.Equal(t, want.signal, f.Signal)
			assert.Contains(t, f.Summary, want.summary)
			assert.Equal(t, want.suspect, f.Suspect, f.Summary)
			if want.function != "" {
				assert.Equal(t, want.function, frames[f.Frame].Function)
			}
			if how == "in a handler" {
				names := ""
				for _, x := range frames {
					names += x.Function + " "
				}
				assert.Regexp(t, "^on_signal .*(raise|gsignal|pthread_kill).* main ", names, "the stack goes on through the kernel's frame")
			}
			if how == "smashed" {
				assert.Less(t, len(frames), 100, "a broken stack ends")
				assert.Contains(t, frames[1].Function, "0x4141414141414141")
				notes := ""
				for _, x := range frames {
					notes += x.Note
				}
				assert.NotEmpty(t, notes, "what is guessed says so, and so does where it ends")
			}
		})
	}
}

// The summary of a Rust panic is what the program printed.
func TestRustPanics(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("rustc"); err != nil {
		t.Skip("there is no compiler for Rust here")
	}
	for _, level := range []string{"0", "3"} {
		binary := filepath.Join(t.TempDir(), "panics")
		compile(t, "rustc", "-g", "-C", "panic=abort", "-C", "overflow-checks=on", "-C", "opt-level="+level, "--edition", "2021", "-o", binary, "testdata/native/panics.rs")
		for how, function := range map[string]string{"index": "at", "divide": "divide", "none": "some", "err": "fine", "expect": "expected", "overflow": "add", "cell": "changed", "range": "range", "text": "text", "alike": "alike", "said": "said"} {
			core, printed := crash(t, binary, how)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			f := d.Info().Failure
			require.NotNil(t, f, how)
			_, message, ok := strings.Cut(printed, ":\n") // thread 'main' panicked at FILE:LINE:COLUMN:
			require.True(t, ok, printed)
			message, _, _ = strings.Cut(message, "\nstack backtrace:")
			message, _, _ = strings.Cut(message, "\nnote: ")
			assert.Equal(t, "panic", f.Kind, how)
			assert.Equal(t, "the program panicked: "+strings.TrimRight(message, "\n"), f.Summary, how)
			frames, err := d.Frames(context.Background(), 0, f.Thread)
			require.NoError(t, err)
			assert.Equal(t, "panics::"+function, frames[f.Frame].Function, how)
		}
		f, frames := crashed(t, binary, "plain")
		assert.Equal(t, "signal", f.Kind)
		assert.Contains(t, f.Summary, "the program ended itself (SIGABRT)")
		assert.Equal(t, "panics::main", frames[f.Frame].Function)
		f, frames = crashed(t, binary, "endless")
		assert.Equal(t, "SIGSEGV", f.Signal, "the standard library's handler ends the program by SIGABRT")
		assert.Regexp(t, `the stack is exhausted.*; .*\d+ × panics::endless; then, in a handler of other code: the program ended itself \(SIGABRT\)$`, f.Summary)
		assert.Equal(t, "panics::endless", frames[f.Frame].Function)
	}
}

// The summary of an uncaught C++ exception has its type and text.
func TestUncaughtExceptions(t *testing.T) {
	t.Parallel()
	const uncaught = "the program ended itself: a C++ exception was not caught: "
	for _, flags := range []string{"-O0", "-O2 -static"} {
		binary := filepath.Join(t.TempDir(), "thrown")
		compile(t, "g++", append(strings.Fields("-g -std=c++17 -w "+flags+" -o"), binary, "testdata/native/thrown.cc")...)
		for how, want := range map[string]string{
			"derived": uncaught + "harbour::NoBerth: no berth for Curlew Bank 11", "deep": uncaught + "harbour::Deep: deeper", "second": uncaught + "harbour::Second: by its first base",
			"range": uncaught + "std::out_of_range: vector::_M_range_check: __n (which is 7) >= this->size() (which is 2)", "text": uncaught + "char const*: thrown text", "number": uncaught + "int: -42",
			"string": uncaught + "std::string: a text longer than sixteen characters", "plain": uncaught + "harbour::Plain", "alloc": uncaught + "std::bad_alloc", "noexcept": "noexcept or a destructor: std::logic_error: left what may not be left", "nested": uncaught + "std::_Nested_exception<std::runtime_error>: notice 12 cannot be read; nested in it: std::out_of_range: row 7 of 5",
			"pure":    "the program ended itself: a pure virtual function was called",
			"rethrow": uncaught + "std::out_of_range", "kept": uncaught + "std::runtime_error: kept for later", "thread": "std::terminate was called, by the end of a thread's object", "terminate": "the program ended itself: std::terminate was called",
		} {
			if how == "pure" && strings.Contains(flags, "-static") {
				continue // the function that says so is not linked
			}
			f, _ := crashed(t, binary, how)
			assert.Contains(t, f.Summary, want, "%s, %s", flags, how)
			if strings.HasPrefix(want, uncaught) {
				require.Len(t, f.Causes, map[bool]int{false: 1, true: 2}[how == "nested"], how)
				assert.True(t, strings.HasPrefix(strings.TrimPrefix(want, uncaught), f.Causes[0].Type), how)
			}
		}
	}
}
