package traceback

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// read returns what was read of a text: its causes, and each thread with its frames.
func readReportOf(t *testing.T, text string) (causes []string, threads map[string]string) {
	t.Helper()
	c, ok := Parse(text)
	require.True(t, ok)
	threads = map[string]string{}
	for _, x := range c.Causes {
		causes = append(causes, x.Type+": "+x.Message)
	}
	for _, th := range c.Threads {
		var frames []string
		for _, f := range th.Frames {
			frames = append(frames, fmt.Sprintf("%s %s:%d", f.Name(), filepath.Base(f.File), f.Line))
		}
		threads[strings.TrimSpace(th.Name+" "+th.State)] = strings.Join(frames, ", ")
	}
	return causes, threads
}

// Reports of sanitizers, of Go's race detector and tests, of the kernel, and of Ruby, PHP and Perl are read with all their
// stacks, alone and behind the lines of a log.
func TestReports(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]struct {
		cause   string
		threads map[string]string
	}{
		"asan": {"heap-use-after-free: on address 0x602000000010 at pc 0x0000004f8d4c bp 0x7ffd8a3b1a10 sp 0x7ffd8a3b1a08", map[string]string{
			"access READ of size 4 T0":                                            "level gate.c:12, main gate.c:30, __libc_start_main .:0",
			"freed by thread T0 freed by thread T0":                               "free .:0, shut gate.c:20, main gate.c:29",
			"previously allocated by thread T0 previously allocated by thread T0": "malloc .:0, open_gate gate.c:8, main gate.c:28",
		}},
		"lsan": {"detected memory leaks: ", map[string]string{
			"access Direct leak of 40 byte(s) in 1 object(s)":                                     "malloc .:0, make_berth berth.c:7, main berth.c:20",
			"Indirect leak of 8 byte(s) in 2 object(s) Indirect leak of 8 byte(s) in 2 object(s)": "malloc .:0, name_of berth.c:11",
		}},
		"ubsan": {"undefined behaviour: signed integer overflow: 2147483647 + 1 cannot be represented in type 'int'", map[string]string{"thread": "level gate.c:12, main gate.c:30"}},
		"tsan": {"data race: (pid=26327)", map[string]string{
			"access Write of size 4 thread T1": "raise_gate gate.cc:4", "Previous read of size 4 main thread Previous read of size 4 main thread": "main gate.cc:10",
			"Thread T1 (tid=26328, running) created by main thread Thread T1 (tid=26328, running) created by main thread": "pthread_create .:0, main gate.cc:9",
		}},
		"gorace": {"data race: two goroutines use the same memory at the same time, and one of them writes", map[string]string{
			"access Write goroutine 7": "main.count main.go:14, main.main.func1 main.go:22", "Previous read goroutine 6 Previous read goroutine 6": "main.count main.go:13",
			"Goroutine 7 (running) created Goroutine 7 (running) created": "main.main main.go:21", "Goroutine 6 (finished) created Goroutine 6 (finished) created": "main.main main.go:20",
		}},
		"gotest": {"failed test TestAssign: Error Trace:\t/srv/gannet/office_test.go:31\nError:      \tNot equal:\nexpected: 3\nactual  : 4\nTest:       \tTestAssign", map[string]string{
			"TestAssign": "TestAssign office_test.go:31", "TestRead failed test TestRead: got 5, want 6": "TestRead read_test.go:12",
		}},
		"oom":    {"out of memory: the kernel killed process 4711 (berthd) total-vm:8123456kB, anon-rss:7654321kB, file-rss:0kB, shmem-rss:0kB, UID:1000 pgtables:15000kB oom_score_adj:0", map[string]string{"berthd 4711": "dump_stack_lvl .:0, oom_kill_process.cold .:0, out_of_memory .:0"}},
		"oops":   {"kernel: BUG: kernel NULL pointer dereference, address: 0000000000000008", map[string]string{"kernel": "sluice_open .:0, do_one_initcall .:0, kmem_cache_alloc .:0, do_init_module .:0"}},
		"ruby":   {"Gannet::NoWater: no water at the sill", map[string]string{"main": "assign berths.rb:14, block in run berths.rb:30, each berths.rb:29, <main> main.rb:5", "main IOError: file missing": "read tides.rb:3, assign berths.rb:12"}},
		"ruby34": {"Gannet::NoWater: no water at the sill", map[string]string{"main": "Gannet::Office#assign berths.rb:14, Gannet::Office#run berths.rb:30, <main> main.rb:5"}},
		"php":    {`Gannet\Failed: assigning failed`, map[string]string{"main": `Gannet\Office->run Office.php:33, {main} main.php:5`, `main Gannet\NoWater: no water at the sill`: `Gannet\Office->assign Office.php:14, Gannet\Office->run Office.php:30, {main} main.php:5`}},
		"perl":   {"die: no water at the sill", map[string]string{"main": "Gannet::Office::assign Office.pm:14, Gannet::Office::run Office.pm:30, (main program) main.pl:5"}},
		"suppressed": {"java.lang.IllegalStateException: assigning failed", map[string]string{
			"main": "gannet.Office.assign Office.java:14, gannet.Main.main Main.java:5", "main suppressed java.io.IOException: close failed": "gannet.Table.close Table.java:9, gannet.Office.assign Office.java:12, gannet.Main.main Main.java:5",
			"main gannet.NoWater: no water": "gannet.Tides.read Tides.java:3, gannet.Office.assign Office.java:14, gannet.Main.main Main.java:5",
		}},
		"dotnet": {"System.InvalidOperationException: assigning failed", map[string]string{
			"main": "Gannet.Office.Assign Office.cs:14, Gannet.Program.Main Program.cs:5", "main System.AggregateException: One or more errors occurred. (no water) (no tide)": "Gannet.Office.Ask Office.cs:9",
			"main Gannet.NoWater: no water": "Gannet.Tides.Read Tides.cs:3", "main Gannet.NoTide: no tide": "Gannet.Tides.Table Tides.cs:8",
		}},
		"python": {"ValueError: no water\n  File \"x.py\", line 3, in y", map[string]string{"main": "read tides.py:3, assign office.py:14"}},
		"node": {"Error: no water at the sill\nsecond line of the message", map[string]string{
			"main": "assign office.js:14, Object.<anonymous> main.js:5, a x:1, b x:2, c x:3, d x:4, <anonymous> run_main_module:28", "main TypeError: Cannot read properties of undefined (reading 'depth')": "read tides.js:3, assign office.js:12, Object.<anonymous> main.js:5, a x:1, b x:2, c x:3, d x:4",
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b, err := os.ReadFile(filepath.Join("testdata/reports", name+".txt"))
			require.NoError(t, err)
			for _, text := range []string{string(b), strings.ReplaceAll(string(b), "\n", "\r\n"), "the harbour opens\n" + string(b) + "the harbour closes\n"} {
				require.True(t, Is([]byte(text)))
				causes, threads := readReportOf(t, text)
				require.NotEmpty(t, causes)
				assert.Equal(t, want.cause, causes[0])
				assert.Equal(t, want.threads, threads)
			}
		})
	}
	for _, text := range []string{"SUMMARY: all is well\n", "=== RUN   TestAssign\n--- PASS: TestAssign (0.00s)\nPASS\nok  \tgannet\t0.1s\n", "[  100.0] usb 1-1: new device\n", "#0 the first of many\n", "fog at office.pm line 3\n", "from a.rb:3:in `x'\n"} {
		assert.False(t, Is([]byte(text)), text)
	}
}
