package coredump

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// What each thread waits for, and who holds it, is what the program said before it waited; a ring of locks is one
// deadlock, of the threads in it and no others.
func TestWaitsOfThreads(t *testing.T) {
	t.Parallel()
	for flags, ring := range map[string]int{"-O0 -g": 2, "-O2 -g": 5, "-O1 -g -static": 3, "-O2": 1} {
		t.Run(flags, func(t *testing.T) {
			t.Parallel()
			binary := filepath.Join(t.TempDir(), "waits")
			compile(t, "gcc", append(strings.Fields(flags), "-pthread", "-o", binary, "testdata/native/waits.c")...)
			core, printed := crash(t, binary, fmt.Sprint(ring))
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			list, err := d.Waits(context.Background(), 0)
			require.NoError(t, err)
			got := map[event.ThreadID]replay.Wait{}
			for _, w := range list {
				got[w.Thread] = w
			}
			said := 0
			for line := range strings.Lines(printed) {
				var id, holder event.ThreadID
				var on string
				if n, _ := fmt.Sscanf(line, "waits %d %s %d", &id, &on, &holder); n < 2 {
					continue
				}
				said++
				w, ok := got[id]
				if !assert.True(t, ok, line) {
					continue
				}
				assert.Equal(t, strings.ReplaceAll(on, "-lock", " lock"), w.On, line)
				if holder > 0 {
					assert.Equal(t, []event.ThreadID{holder}, w.Holders, line)
				} else {
					assert.Empty(t, w.Holders, line)
				}
				if strings.Contains(flags, "-g") && on == "mutex" {
					assert.Regexp(t, `^berths`, w.Name)
				}
			}
			assert.Equal(t, ring+8, said)
			cycles := replay.Cycles(list)
			require.Len(t, cycles, 1)
			assert.Len(t, cycles[0].Threads, ring)
			for i, id := range cycles[0].Threads {
				assert.Equal(t, []event.ThreadID{cycles[0].Threads[(i+1)%ring]}, got[id].Holders)
			}
		})
	}
}
