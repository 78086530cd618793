package coredump

import (
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
	for how, want := range map[string]struct {
		kind, signal, summary, function, suspect string
	}{
		"null read":          {"signal", "SIGSEGV", "a read from address 0: a null pointer; b.draught is null in null_read; b came from main as berth", "null_read", "b.draught"},
		"null write":         {"signal", "SIGSEGV", "a write to address 0xc: 12 bytes beyond a null pointer; b is null in null_write", "null_write", "b"},
		"null call":          {"signal", "SIGSEGV", "a call through a null pointer", "null_call", "b.rule"},
		"wild":               {"signal", "SIGSEGV", "a read from 0x4141414141414141, which is no address", "wild_read", "b.draught"},
		"constant":           {"signal", "SIGSEGV", "which is read-only; text is 0x", "constant_write", "text"},
		"divide":             {"signal", "SIGFPE", "a whole number was divided by zero; count is 0 in divide", "divide", "count"},
		"index":              {"signal", "SIGSEGV", "where nothing is mapped", "beyond", ""},
		"endless":            {"signal", "SIGSEGV", "the stack is exhausted", "endless", ""},
		"assertion":          {"failed-assertion", "SIGABRT", "too shallow", "fail_check", ""},
		"abort":              {"signal", "SIGABRT", "the program ended itself (SIGABRT)", "main", ""},
		"trap":               {"signal", "SIGILL", "made to fail", "main", ""},
		"data":               {"signal", "SIGSEGV", "which is not executable", "not_executable", ""},
		"past file":          {"signal", "SIGBUS", "at a place that the file does not have", "past_file", ""},
		"given back":         {"signal", "SIGSEGV", "memory that was given back", "given_back", "p"},
		"guarded":            {"signal", "SIGSEGV", "may not be touched", "guarded", "p"},
		"twice freed":        {"signal", "SIGABRT", "free(): double free detected", "main", ""},
		"in a handler":       {"signal", "SIGSEGV", "none is null in on_signal", "on_signal", "none"},
		"smashed":            {"signal", "SIGSEGV", "an address that the processor cannot form", "smash", ""},
		"wild call":          {"signal", "SIGSEGV", "code was to run at 0x700000000000, where nothing is mapped", "null_call", "b.rule"},
		"already null":       {"signal", "SIGSEGV", "a read from address 0: a null pointer; place is null in deepest; it was already null in outer as from, 2 calls up", "deepest", "place"},
		"already wild":       {"signal", "SIGSEGV", "a read from 0x700000000000, where nothing is mapped: a wild pointer, or memory that was given back; place is 0x700000000000 in deepest; it was already so in outer as from, 2 calls up", "deepest", "place"},
		"member":             {"signal", "SIGSEGV", "place is 0x700000000000 in deepest; it was already so in deep as of.draught, 2 calls up", "deepest", "place"},
		"far":                {"signal", "SIGSEGV", "where nothing is mapped: a wild pointer, or memory that was given back; the index index is 90000000 in far", "far", "index"},
		"overrun":            {"signal", "SIGABRT", "the program ended itself: a function's frame was overwritten beyond its end", "overrun", ""},
		"aborted by another": {"signal", "SIGABRT", "ended by SIGABRT, which process", "from_another", ""},
		"ended by another":   {"signal", "SIGSEGV", "ended by SIGSEGV, which process", "from_another", ""},
		"quit":               {"signal", "SIGQUIT", "ended by SIGQUIT, which process", "from_another", ""},
		"sent":               {"signal", "SIGSEGV", "ended by SIGSEGV, which process", "main", ""},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			f, frames := crashed(t, binary, how)
			assert.Equal(t, want.kind, f.Kind)
			assert.Equal(t, want.signal, f.Signal)
			assert.Contains(t, f.Summary, want.summary)
			assert.Equal(t, want.suspect, f.Suspect, f.Summary)
			assert.Equal(t, want.function, frames[f.Frame].Function)
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

// The summary of a Rust panic comes from the call of the panicking library function.
func TestRustPanics(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("rustc"); err != nil {
		t.Skip("there is no compiler for Rust here")
	}
	for _, level := range []string{"0", "3"} {
		binary := filepath.Join(t.TempDir(), "panics")
		compile(t, "rustc", "-g", "-C", "panic=abort", "-C", "overflow-checks=on", "-C", "opt-level="+level, "--edition", "2021", "-o", binary, "testdata/native/panics.rs")
		for how, want := range map[string][2]string{
			"index": {"an index is beyond the end", "at"}, "divide": {"a whole number was divided by zero", "divide"}, "none": {"unwrap of None", "some"},
			"err": {"unwrap or expect of an Err", "fine"}, "expect": {"expect of None", "expected"}, "overflow": {"an addition overflowed", "add"},
			"cell": {"a cell was to be changed that is borrowed", "changed"}, "range": {"a range is beyond the end", "range"}, "text": {"or within a character", "text"},
			"alike": {"two values that were to be alike", "alike"}, "said": {"the program panicked: what it said", "said"}, "plain": {"the program ended itself (SIGABRT)", "main"},
		} {
			f, frames := crashed(t, binary, how)
			assert.Equal(t, map[bool]string{true: "signal", false: "panic"}[how == "plain"], f.Kind, how)
			assert.Contains(t, f.Summary, want[0], how)
			assert.Equal(t, "panics::"+want[1], frames[f.Frame].Function, how)
		}
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
			"string": uncaught + "std::string: a text longer than sixteen characters", "plain": uncaught + "harbour::Plain", "alloc": uncaught + "std::bad_alloc", "noexcept": uncaught + "std::logic_error: left what may not be left",
			"rethrow": uncaught + "std::out_of_range", "kept": uncaught + "std::runtime_error: kept for later", "thread": "std::terminate was called, by the end of a thread's object", "terminate": "the program ended itself: std::terminate was called",
		} {
			f, _ := crashed(t, binary, how)
			assert.Contains(t, f.Summary, want, "%s, %s", flags, how)
			if strings.HasPrefix(want, uncaught) {
				require.Len(t, f.Causes, 1, how)
				assert.True(t, strings.HasPrefix(strings.TrimPrefix(want, uncaught), f.Causes[0].Type), how)
			}
		}
	}
}
