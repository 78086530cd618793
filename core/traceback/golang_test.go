package traceback

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// builtGo builds one of the programs with which core dumps are tested.
func builtGo(t *testing.T, folder string) string {
	out := filepath.Join(t.TempDir(), folder)
	cmd := exec.Command("go", "build", "-o", out, ".")
	cmd.Dir = "../evidence/kinds/coredump/testdata/" + folder
	text, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", text)
	return out
}

// ended runs a program to its end and returns what it printed. Its dump is not written.
func ended(t *testing.T, level, program string, args ...string) string {
	cmd := exec.Command("/bin/sh", append([]string{"-c", `ulimit -c 0; exec "$0" "$@"`, program}, args...)...)
	cmd.Env = append(os.Environ(), "GOTRACEBACK="+level)
	text, err := cmd.CombinedOutput()
	require.Error(t, err)
	return string(text)
}

// Every panic of the runtime and of a program is read with its text, its signal and its function.
func TestPanicsOfGo(t *testing.T) {
	t.Parallel()
	program := builtGo(t, "panics")
	for i, ways := 0, 1; i < ways; i++ {
		text := ended(t, "all", program, strconv.Itoa(i), "plainly")
		number, rest, _ := strings.Cut(text, "\n")
		var err error
		ways, err = strconv.Atoi(number)
		require.NoError(t, err)
		want, text, _ := strings.Cut(rest, "\n")
		c, ok := Parse(text)
		require.True(t, ok, text)
		assert.Equal(t, "Go", c.Language)
		assert.Equal(t, "panic", c.Kind)
		require.NotEmpty(t, c.Causes, text)
		assert.Equal(t, want, c.Causes[0].Message, "way %d", i)
		if strings.Contains(want, "nil pointer") {
			assert.Equal(t, "SIGSEGV", c.Signal)
			assert.Equal(t, "0x0", c.Address)
		} else {
			assert.Empty(t, c.Signal, "way %d", i)
		}
		own := ownFrames(c)
		require.NotEmpty(t, own, text)
		assert.Regexp(t, `^main\.init\.func\d+$`, own[0].Function, "way %d", i)
		assert.Equal(t, "main.main", own[len(own)-1].Function, "way %d", i)
		assert.Equal(t, 106, own[len(own)-1].Line, "way %d", i)
	}
}

// The same crash is read from the traceback of every level, however much the runtime prints.
func TestLevelsOfGoTracebacks(t *testing.T) {
	t.Parallel()
	program := builtGo(t, "endings")
	for how, want := range map[string]struct{ kind, cause, signal, function string }{
		"nil":      {"panic", "runtime error: invalid memory address or nil pointer dereference", "SIGSEGV", "main.(*berth).name"},
		"index":    {"panic", "runtime error: index out of range [5] with length 2", "", "main.main"},
		"again":    {"panic", "while handling: first", "", "main.main.func1"},
		"deadlock": {"fatal", "all goroutines are asleep - deadlock!", "", "main.main"},
		"stack":    {"fatal", "stack overflow", "", "main.endless"},
		"signal":   {"fatal", "", "SIGABRT", "main.main"},
	} {
		for _, level := range []string{"single", "all", "system", "crash"} {
			if how == "stack" && level != "all" {
				continue // it takes long to fill
			}
			text := ended(t, level, program, how)
			c, ok := Parse(text)
			require.True(t, ok, "%s %s: %s", how, level, text)
			assert.Equal(t, want.kind, c.Kind, "%s %s", how, level)
			if want.cause != "" {
				require.NotEmpty(t, c.Causes, "%s %s", how, level)
				assert.Contains(t, c.Causes[0].Message, want.cause, "%s %s", how, level)
			}
			assert.Equal(t, want.signal, c.Signal, "%s %s", how, level)
			own := ownFrames(c)
			require.NotEmpty(t, own, "%s %s: %s", how, level, text)
			assert.Equal(t, want.function, own[0].Function, "%s %s", how, level)
			assert.NotZero(t, own[0].Line)
			assert.True(t, strings.HasSuffix(own[0].File, "/endings/main.go"), own[0].File)
			assert.Equal(t, how == "stack", c.Threads[0].Cut, "%s %s: frames are left out", how, level)
		}
	}
}
