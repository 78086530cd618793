package coredump

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence/kinds/coredump/heap"
)

// What the program printed of its heap, of the main arena and others: where chunks begin, how large they are, and which are free.
func TestHeap(t *testing.T) {
	t.Parallel()
	for _, flags := range []string{"", "-static"} {
		binary := filepath.Join(t.TempDir(), "heap")
		compile(t, "gcc", append(strings.Fields("-g -w -pthread "+flags+" -o"), binary, "testdata/native/heap.c")...)
		core, printed := crash(t, binary, "random")
		d := openDump(t, core, Options{Modules: sourcesOf(binary)})
		type claim struct {
			at, size uint64
			freed    int
		}
		var claims []claim
		inUse := map[uint64]bool{}
		for _, line := range strings.Split(strings.TrimSpace(printed), "\n") {
			var c claim
			if n, _ := fmt.Sscanf(line, "0x%x %d %d", &c.at, &c.size, &c.freed); n == 3 {
				claims = append(claims, c)
				inUse[c.at] = inUse[c.at] || c.freed == 0
			}
		}
		require.Greater(t, len(claims), 500)
		freed := 0
		for _, c := range claims {
			chunk, _, _, ok := d.chunkAt(c.at)
			if c.freed == 1 && inUse[c.at] {
				continue // handed out again
			}
			if c.freed == 1 {
				freed++
				// It may have become part of a larger one, or have been given back, or the memory may be in use again.
				if ok && chunk.User == c.at {
					assert.NotEqual(t, heap.Damaged, chunk.State, "%s: %+v of %+v", flags, chunk, c)
				}
				continue
			}
			require.True(t, ok, "%s: %+v", flags, c)
			assert.Equal(t, heap.InUse, chunk.State, "%s: %+v of %+v", flags, chunk, c)
			assert.Equal(t, c.at, chunk.User)
			assert.GreaterOrEqual(t, chunk.Size, c.size)
			assert.Less(t, chunk.Size, c.size+4096+32)
			inside, before, after, ok := d.chunkAt(c.at + c.size/2)
			require.True(t, ok)
			assert.Equal(t, chunk, inside)
			if before != nil {
				assert.LessOrEqual(t, before.User+before.Size, chunk.User)
			}
			if after != nil {
				assert.Equal(t, chunk.User+chunk.Size+8, after.User)
			}
		}
		assert.Greater(t, freed, 100)
		chunk, _, damaged := d.allocator().Damage()
		assert.False(t, damaged, "%s: %+v", flags, chunk)
	}
}

// No chunk that the program freed last is in use.
func TestFreedChunks(t *testing.T) {
	t.Parallel()
	binary := filepath.Join(t.TempDir(), "heap")
	compile(t, "gcc", "-g", "-w", "-pthread", "-o", binary, "testdata/native/heap.c")
	for how, want := range map[string]struct{ summary, suspect string }{
		"twice":  {`free\(\): double free detected in tcache 2; kept\[1\] leads to a chunk of 40 bytes at 0x[0-9a-f]+, free$`, "kept[1]"},
		"beyond": {`free\(\): invalid size; the header of the chunk at 0x[0-9a-f]+ is damaged, which holds 78 .* \("x+"\); before it is a chunk of 40 bytes at 0x[0-9a-f]+, free, where kept\[2\] in end leads$`, "kept[2]"},
	} {
		f, _ := crashed(t, binary, how)
		assert.Regexp(t, want.summary, f.Summary, how)
		assert.Equal(t, want.suspect, f.Suspect, how)
	}
}
