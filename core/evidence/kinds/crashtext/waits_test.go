package crashtext

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
)

func textOf(t *testing.T, text string) *Text {
	path := filepath.Join(t.TempDir(), "dump.txt")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	out, err := Open(context.Background(), f, int64(len(text)), Options{})
	require.NoError(t, err)
	return out
}

// A dump of all threads of a Java virtual machine says who waits for which monitor and who has it; the deadlock that the
// machine reports is that of the monitors.
func TestWaitsOfJavaThreads(t *testing.T) {
	t.Parallel()
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 8))
		ring, more := 2+r.IntN(4), r.IntN(4)
		object := func(i int) string { return fmt.Sprintf("0x%012x", 0x62a2b3c48+16*i) }
		var dump, report, stacks strings.Builder
		dump.WriteString("Full thread dump OpenJDK 64-Bit Server VM (17.0.9+9 mixed mode):\n\n")
		holders := map[string]string{}
		for i := range ring + more {
			name := fmt.Sprintf("crane-%d", i)
			wants := object((i + 1) % ring)
			stack := fmt.Sprintf("\tat gannet.Berths.move(Berths.java:%d)\n\t- waiting to lock <%s> (a gannet.Quay)\n", 10+i, wants)
			if i < ring {
				stack += fmt.Sprintf("\t- locked <%s> (a gannet.Quay)\n", object(i))
				holders[object(i)] = name
			}
			stack += "\tat gannet.Berths.run(Berths.java:99)\n"
			fmt.Fprintf(&dump, "%q #%d prio=5 os_prio=0 tid=0x00007f%04x nid=0x%x waiting for monitor entry  [0x00007f]\n   java.lang.Thread.State: BLOCKED (on object monitor)\n%s\n", name, i+10, i, i, stack)
			if i < ring {
				fmt.Fprintf(&report, "%q:\n  waiting to lock monitor 0x0000 (object %s, a gannet.Quay),\n  which is held by %q\n\n", name, wants, fmt.Sprintf("crane-%d", (i+1)%ring))
				fmt.Fprintf(&stacks, "%q:\n%s", name, stack)
			}
		}
		dump.WriteString("\"notified\" #8 prio=5 tid=0x1 nid=0x2 in Object.wait()  [0x3]\n   java.lang.Thread.State: WAITING (on object monitor)\n\tat java.lang.Object.wait(Native Method)\n\t- waiting on <0xabc> (a gannet.Tide)\n\tat gannet.Tide.watch(Tide.java:7)\n\t- locked <0xabc> (a gannet.Tide)\n\n")
		text := dump.String() + "Found one Java-level deadlock:\n=============================\n" + report.String() + "Java stack information for the threads listed above:\n===================================================\n" + stacks.String() + "\nFound 1 deadlock.\n"
		x := textOf(t, text)
		threads, err := x.Threads(context.Background(), 0)
		require.NoError(t, err)
		require.Len(t, threads, ring+more+1, "the stacks that are repeated are no threads")
		names := map[event.ThreadID]string{}
		for _, th := range threads {
			names[th.ID] = th.Name
		}
		list, err := x.Waits(context.Background(), 0)
		require.NoError(t, err)
		require.Len(t, list, ring+more+1)
		for _, w := range list {
			if names[w.Thread] == "notified" {
				assert.Equal(t, replay.WaitCondition, w.On)
				assert.Empty(t, w.Holders)
				continue
			}
			assert.Equal(t, replay.WaitMutex, w.On)
			require.Len(t, w.Holders, 1)
			assert.Equal(t, holders[w.Name], names[w.Holders[0]])
		}
		cycles := replay.Cycles(list)
		require.Len(t, cycles, 1)
		assert.Len(t, cycles[0].Threads, ring)
		f := x.Info().Failure
		require.NotNil(t, f)
		assert.Equal(t, "deadlock", f.Kind)
		assert.Equal(t, ring, strings.Count(f.Summary, " waits for "))
		assert.Equal(t, "crane-0", names[f.Thread])
	}
}
