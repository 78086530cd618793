package coredump

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The buffer keeps the frames apart; each function calls the next one and uses its result, so that
// no call becomes a jump.
const tableless = `
#include <string.h>
volatile int sink;
#define LEVEL(name, next, n) __attribute__((noinline)) int name(int *at) { char room[n]; memset(room, 1, sizeof room); sink += room[sink & 3]; int v = next(at); return v + room[1] + sink; }
__attribute__((noinline)) int deepest(int *at) { return *at; }
LEVEL(third, deepest, 24)
LEVEL(second, third, 200)
LEVEL(first, second, 64)
int main(int argc, char **argv) { return first((int *)(long)(argc - 1)) + 1; }
`

// Without call frame information the stack is found by the frame pointer, else by the words that
// look like return addresses; each such frame says so.
func TestStacksWithoutCallFrameInformation(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		flags, note string
		debug       bool
	}{
		{"-O1 -fno-omit-frame-pointer", "frame pointer", false},
		{"-O1 -fomit-frame-pointer", "guessed", false},
		{"-O0", "frame pointer", true},
	} {
		t.Run(x.flags, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			source, binary := filepath.Join(dir, "tableless.c"), filepath.Join(dir, "tableless")
			require.NoError(t, os.WriteFile(source, []byte(tableless), 0o600))
			flags := append(strings.Fields(x.flags), "-fno-asynchronous-unwind-tables", "-fno-unwind-tables", "-fno-stack-protector", "-o", binary, source)
			if x.debug {
				flags = append(flags, "-g")
			}
			compile(t, "gcc", flags...)
			compile(t, "objcopy", "--remove-section=.eh_frame", "--remove-section=.eh_frame_hdr", "--remove-section=.debug_frame", binary)
			core, _ := crash(t, binary)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			frames, err := d.Frames(context.Background(), 0, d.failure.Thread)
			require.NoError(t, err)
			var names []string
			for i, f := range frames {
				if i > 4 {
					break
				}
				names = append(names, f.Function)
				if i > 1 {
					assert.Contains(t, frames[i-1].Note+f.Note, x.note, "%+v", f)
				}
			}
			want := "deepest third second first main"
			if x.note == "guessed" { // words that earlier calls left can look like return addresses, too
				assert.True(t, strings.HasPrefix(strings.Join(names, " "), "deepest third"), "%v", names)
				return
			}
			assert.Equal(t, want, strings.Join(names, " "))
		})
	}
}
