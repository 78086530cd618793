package coredump

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each dimension of an array has its own length, also if several are known at run time only; arrays of one-byte integers are
// numbers, of characters text.
func TestArraysWithLengthsAtRunTime(t *testing.T) {
	t.Parallel()
	for _, flags := range []string{"-O0 -g", "-O0 -gdwarf-4", "-O0 -g -fno-pie -no-pie"} {
		t.Run(flags, func(t *testing.T) {
			t.Parallel()
			binary := filepath.Join(t.TempDir(), "grids")
			compile(t, "gcc", append(strings.Fields(flags), "-o", binary, "testdata/native/grids.c")...)
			core, printed := crash(t, binary)
			want := truth(printed)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			assert.Equal(t, len(want.values), agree(t, d, want), "all values are known")
			require.Greater(t, len(want.values), 50)
		})
	}
}
