package traceback

import (
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the golden file again")

// rareTexts have what the other texts do not: words, notes and relations that are seldom printed.
var rareTexts = map[string]string{
	"Go, two crashes":             "panic: first\n\ngoroutine 1 [running]:\nmain.one()\n\t/srv/a.go:1 +0x1\nexit status 2\nstarting again\npanic: second\n\tpanic: third\n\ngoroutine 5 [running]:\nmain.two()\n\t/srv/a.go:2 +0x1\n\ngoroutine 6 [select]:\nmain.three()\n\t/srv/a.go:3 +0x1\n",
	"Go, recovered and again":     "panic: low tide [recovered, repanicked]\n\npanic: low tide [recovered]\n\tpanic: no berth\n\ngoroutine 7 [running]:\nmain.main.func1()\n\t/srv/a.go:9 +0x1\n",
	"Go, a signal":                "panic: runtime error: invalid memory address or nil pointer dereference\n[signal SIGSEGV: segmentation violation code=0x1 addr=0x18 pc=0x47e8f0]\n\ngoroutine 1 gp=0xc000002380 m=0 mp=0x54c3a0 [running]:\nmain.(*Quay).open(...)\n\t/srv/a.go:5\nmain.main()\n\t/srv/a.go:9 +0x10 fp=0xc00005af50 sp=0xc00005af28 pc=0x47e8f0\nruntime.main()\n\t/usr/local/go/src/runtime/proc.go:283 +0x28b\n",
	"Go, a signal from outside":   "SIGQUIT: quit\nPC=0x46d8a3 m=0 sigcode=0\n\ngoroutine 0 gp=0x5451e0 m=0 mp=0x545f00 [idle]:\nruntime.futex(0x546040, 0x80, 0x0, 0x0, 0x0, 0x0)\n\t/usr/local/go/src/runtime/sys_linux_amd64.s:557 +0x23\n\ngoroutine 1 [chan receive, 3 minutes, locked to thread]:\nmain.main()\n\t/srv/a.go:9 +0x25\n\nrax    0xca\nrip    0x46d8a3\n",
	"Go, not functions":           "goroutine 1 [running]:\nmain.f({0x1, {0x2, 0x3}, ...}, 0x4?, {})\n\t/srv/a.go:1 +0x1\nnot a function here()\n\t/srv/b.go\nmain.g(...)\n\tC:/src/b.go:22 +0x1\nmain.h[...](0x1)\n\t/srv/c.go:33\ncreated by main.main.func1 in goroutine 4\n\t/srv/c.go:34 +0x9\n",
	"Java, what threads hold":     "\"keeper\" #12 daemon prio=5 tid=0x00007e nid=0x2 waiting on condition [0x00007e]\n   java.lang.Thread.State: WAITING (parking)\n\tat jdk.internal.misc.Unsafe.park(java.base@17/Native Method)\n\t- parking to wait for  <0x000000070f> (a java.util.concurrent.locks.ReentrantLock)\n\tat gannet.Sluice.open(Sluice.java:20)\n\t- locked <0x000000070e> (a gannet.Gate)\n\t- locked <0x0000000711> (a gannet.Lock)\n\tat gannet.Sluice.main(Sluice.java:9)\n",
	"Java, causes and suppressed": "Exception in thread \"main\" gannet.BerthException: no berth\n\tat gannet.Quay.assign(Quay.java:12)\n\tat gannet.Main.main(Main.java:5)\n\tSuppressed: java.io.IOException: closed\n\t\tat gannet.Log.close(Log.java:3)\n\t\t... 2 more\nCaused by: java.lang.IllegalStateException: low tide\n\tat gannet.Tide.check(Tide.java:7)\n\tat gannet.Quay.assign(Quay.java:10)\n\t... 1 more\n",
	".NET, an earlier place":      "Unhandled exception. System.TimeoutException: no answer\n   at Gannet.Sensor.Level() in /srv/Sensor.cs:line 12\n--- End of stack trace from previous location ---\n   at Gannet.Program.<Main>$(String[] args) in /srv/Program.cs:line 5\n   at Gannet.Program.<Main>(String[] args)\n",
	"C++, no message":             "terminate called without an active exception\nAborted (core dumped)\n",
	"C++, a message":              "terminate called after throwing an instance of 'std::out_of_range'\n  what():  vector::_M_range_check: __n (which is 7)\nAborted\n",
	"the kernel, invalid opcode":  "[ 8122.3] traps: sluiced[47] trap invalid opcode ip:40183d sp:7ffc error:0 in sluiced[401000+8a000]\n",
	"the kernel, a trap":          "[ 8122.3] traps: sluiced[47] trap int3 ip:40183d sp:7ffc error:0 in sluiced[401000+8a000]\n",
	"the kernel, protection":      "[ 8122.3] sluiced[47]: segfault at 401000 ip 000000000040115a sp 00007ffd error 7 in sluiced[401000+1000]\n",
	"Node.js, several":            "AggregateError: none was free\n    at assign (/srv/a.js:3:9) {\n  [errors]: [\n    Error: Kelp Quay is full\n        at kelp (/srv/a.js:7:11)\n  ]\n}\n",
	"Node.js, a cause":            "Error: no berth\n    at assign (/srv/a.js:3:9)\n    at async Promise.all (index 0)\n    at new Quay (file:///srv/quay.mjs:1:2)\n    at Object.<anonymous> (/srv/b.js:1:1) {\n  [cause]: RangeError: low\n      at tide (/srv/c.js:5:5)\n}\n",
	"Rust, several lines":         "thread 'main' panicked at src/main.rs:4:5:\nno berth\nat Kelp Quay\nstack backtrace:\n   0: rust_begin_unwind\n             at /rustc/abc/library/std/src/panicking.rs:645:5\n   1: core::panicking::panic_fmt\n   2: quay::assign\n             at ./src/main.rs:4:5\n   3: quay::main\nnote: Some details are omitted, run with `RUST_BACKTRACE=full` for a verbose backtrace.\n",
	"Rust, causes":                "Error: no tide table\n\nCaused by:\n    No such file\n    or directory\n",
	"Python, a member without":    "  + Exception Group Traceback (most recent call last):\n  |   File \"/srv/a.py\", line 2, in <module>\n  | ExceptionGroup: two (2 sub-exceptions)\n  +-+---------------- 1 ----------------\n    | ValueError: low\n    +---------------- 2 ----------------\n    | Traceback (most recent call last):\n    |   File \"/srv/a.py\", line 9, in f\n    | KeyError: 'Kelp'\n    +------------------------------------\n",
	"Python, a chain":             "Traceback (most recent call last):\n  File \"/srv/a.py\", line 2, in f\n    g()\n    ~^^\nKeyError: 'Kelp'\n\nThe above exception was the direct cause of the following exception:\n\nTraceback (most recent call last):\n  File \"/srv/a.py\", line 5, in <module>\n    f()\ngannet.BerthError: no berth\nwith a note\n",
	"native, two threads":         "Segmentation fault\n#0  0x55d0c1 in level sluice.c:16\n#1  0x55d0d2 in open_gate sluice.c:21:9\n#0  0x7f1100 in poll (/lib/libc.so.6+0x11)\n#1  0x55d0f0 in watch /srv/sluice.c:40:1\n",
	"native, own addresses":       "caught SIGBUS\n./sluice(level+0x1d) [0x401160]\n./sluice() [0x401190]\n/srv/gannet/sluice[0x4011b0]\n/lib/x86_64-linux-gnu/libc.so.6(+0x2724a) [0x7fb21c35624a]\n",
}

// What is read from each text, to the last note: causes, threads, frames with their addresses and
// arguments, and gaps.
func TestEverythingThatIsRead(t *testing.T) {
	t.Parallel()
	texts := maps.Clone(rareTexts)
	for name, x := range otherEndings {
		texts[name] = x.text
	}
	m := crashMaker{rand.New(rand.NewPCG(9, 9))}
	for i, make := range []func() writtenCrash{m.golang, m.python, m.java, m.node, m.rust, m.dotnet} {
		for n := range 3 {
			texts[fmt.Sprintf("generated %d, %d", i, n)] = make().text
		}
	}
	var out strings.Builder
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		c, ok := Parse(texts[name])
		fmt.Fprintf(&out, "== %s: %t\n", name, ok)
		if c == nil {
			continue
		}
		threads := c.Threads
		c.Threads = nil
		write := func(v any) {
			b, err := json.Marshal(v)
			require.NoError(t, err)
			fmt.Fprintf(&out, "%s\n", b)
		}
		write(c)
		for _, th := range threads {
			frames := th.Frames
			th.Frames = nil
			write(th)
			Own(nil).Mark(c.Language, frames)
			for _, f := range frames {
				fmt.Fprint(&out, "  ")
				write(f)
			}
		}
	}
	const golden = "testdata/read.txt"
	if *update {
		require.NoError(t, os.WriteFile(golden, []byte(out.String()), 0o666))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	assert.Equal(t, strings.Split(string(want), "\n"), strings.Split(out.String(), "\n"))
}
