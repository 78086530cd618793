package traceback

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// told is a crashing program's account of its traceback: its frames, innermost first, and its
// errors, outermost first.
type account struct {
	frames []Frame
	causes []Cause
	// suppressed are the states of the threads of errors that were suppressed.
	suppressed []string
}

// crashed runs a program until it crashes and returns its account and its output.
func crashed(t *testing.T, name string, args ...string) (account, string) {
	var out, text bytes.Buffer
	cmd := exec.Command(name, args...)
	cmd.Stdout, cmd.Stderr = &out, &text
	cmd.Env = append(os.Environ(), "GOTRACEBACK=all", "RUST_BACKTRACE=1")
	require.Error(t, cmd.Run(), "it is to crash")
	var x account
	var outer []Frame
	for line := range strings.Lines(out.String()) {
		part := strings.Split(strings.TrimSpace(line), "\t")
		switch part[0] {
		case "frame", "outer":
			n, err := strconv.Atoi(part[3])
			require.NoError(t, err, line)
			f := Frame{Function: part[1], File: part[2], Line: n}
			if part[0] == "outer" { // the caller prints before the callee
				outer = append([]Frame{f}, outer...)
			} else {
				x.frames = append(x.frames, f)
			}
		case "cause":
			x.causes = append(x.causes, Cause{part[1], part[2]})
		case "suppressed":
			x.suppressed = append(x.suppressed, "suppressed "+part[1]+": "+part[2])
		}
	}
	x.frames = append(x.frames, outer...)
	require.NotEmpty(t, out.String(), "the program told nothing: %s", text.String())
	return x, text.String()
}

// need returns where a language's command is, or skips the test.
func need(t *testing.T, name string) string {
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("%s is not on this machine", name)
	}
	return path
}

// built builds a program and returns if it is.
func built(t *testing.T, name string, args ...string) {
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// programs are crashing programs by language, each with the types of its errors as
// its traceback writes them, where those differ from what the program itself knows.
var programs = map[string]func(t *testing.T) (account, string){
	"Go": func(t *testing.T) (account, string) {
		program := filepath.Join(t.TempDir(), "gosluice")
		built(t, "go", "build", "-o", program, "./testdata/programs/gosluice")
		x, text := crashed(t, program)
		x.frames = append([]Frame{{Function: "main.open.func1", File: x.frames[0].File, Line: 26}}, x.frames...) // in which it panics again
		x.causes = []Cause{{"panic", "gate 7 does not answer: runtime error: index out of range [7] with length 2"}, {"panic", "runtime error: index out of range [7] with length 2"}}
		return x, text
	},
	"Java": func(t *testing.T) (account, string) {
		need(t, "java")
		dir := t.TempDir()
		built(t, need(t, "javac"), "-d", dir, "testdata/programs/Sluice.java")
		return crashed(t, "java", "-cp", dir, "Sluice")
	},
	"Python": func(t *testing.T) (account, string) {
		x, text := crashed(t, need(t, "python3"), "testdata/programs/sluice.py")
		for i := range x.causes {
			x.causes[i].Type = strings.TrimPrefix(x.causes[i].Type, "__main__.")
		}
		return x, text
	},
	"JavaScript": func(t *testing.T) (account, string) {
		x, text := crashed(t, need(t, "node"), "testdata/programs/sluice.js")
		x.causes[0].Type = "GateStuck [GateStuckError]" // its class and its name
		return x, text
	},
	"Rust": func(t *testing.T) (account, string) {
		program := filepath.Join(t.TempDir(), "sluice")
		built(t, need(t, "rustc"), "-g", "-o", program, "testdata/programs/sluice.rs")
		return crashed(t, program)
	},
	"native": func(t *testing.T) (account, string) {
		program := filepath.Join(t.TempDir(), "sluice")
		built(t, need(t, "gcc"), "-g", "-O0", "-rdynamic", "-o", program, "testdata/programs/sluice.c")
		x, text := crashed(t, program)
		for i, j := 0, len(x.frames)-1; i < j; i, j = i+1, j-1 { // from main on
			x.frames[i], x.frames[j] = x.frames[j], x.frames[i]
		}
		for i := range x.frames { // without the binary there are no lines
			x.frames[i].File, x.frames[i].Line = "", 0
		}
		x.causes = []Cause{{"SIGSEGV", "sluice: SIGSEGV: segmentation fault"}}
		return x, text
	},
}

// ownFrames are the own frames of the failing thread, in the form of the account.
func ownFrames(c *Crash) (list []Frame) {
	Own(nil).Mark(c.Language, c.Threads[0].Frames)
	for _, f := range c.Threads[0].Frames {
		if f.Own {
			list = append(list, Frame{Function: f.Function, File: f.File, Line: f.Line})
		}
	}
	return list
}

// same compares frames; functions and files may have a longer prefix than the account.
func same(t *testing.T, want, got []Frame, how string) {
	t.Helper()
	require.Len(t, got, len(want), "%s: %v", how, got)
	for i := range want {
		assert.True(t, strings.HasSuffix(got[i].Function, want[i].Function), "%s: frame %d is %s, not %s", how, i, got[i].Function, want[i].Function)
		assert.True(t, strings.HasSuffix(got[i].File, want[i].File), "%s: frame %d lies in %s, not %s", how, i, got[i].File, want[i].File)
		assert.Equal(t, want[i].Line, got[i].Line, "%s: frame %d, %s", how, i, want[i].Function)
	}
}

// TestProgramsThatCrash compares what is read with what the crashing program itself
// told: as it was printed, in a container's log, beside the name of a service, with
// a logger's head before each line, and in the midst of other lines.
func TestProgramsThatCrash(t *testing.T) {
	t.Parallel()
	for language, run := range programs {
		t.Run(language, func(t *testing.T) {
			t.Parallel()
			want, text := run(t)
			for how, before := range map[string]string{"as printed": "", "container": "2026-11-25T10:00:00.123456789Z stderr F ", "service": "berths-7  | ", "logger": "2026-11-25 10:00:00,123 ERROR [main] "} {
				var b strings.Builder
				for line := range strings.Lines(text) {
					b.WriteString(before + line)
				}
				c, ok := Parse(b.String())
				require.True(t, ok, how)
				assert.Equal(t, language, c.Language, how)
				same(t, want.frames, ownFrames(c), how)
				assert.Equal(t, want.causes, c.Causes, how)
				for _, state := range want.suppressed {
					assert.True(t, slices.ContainsFunc(c.Threads, func(x Thread) bool { return x.State == state && len(x.Frames) > 0 }), "%s: %s", how, state)
				}
			}
			c, ok := Parse("gate 3 opens\nlevel is 3.2 m\n" + text + "\nsluice ends with code 1\n")
			require.True(t, ok)
			same(t, want.frames, ownFrames(c), "among other lines")
			for cut := range len(text) { // at each cut, the rest is read
				Parse(text[:cut])
			}
		})
	}
}

// TestNativeEndings compares what the libraries print when a C++ program ends with the program's
// own account.
func TestNativeEndings(t *testing.T) {
	t.Parallel()
	program := filepath.Join(t.TempDir(), "ending")
	built(t, need(t, "g++"), "-g", "-O0", "-o", program, "testdata/programs/ending.cc")
	for _, how := range []string{"thrown", "assertion", "heap"} {
		want, text := crashed(t, program, how)
		for _, before := range []string{"", "2026-11-25T10:00:00Z stderr F "} {
			text := before + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n"+before) + "\nbash: line 1: 311 Aborted  (core dumped) ./ending\n"
			c, ok := Parse(text)
			require.True(t, ok && Is([]byte(text)), how)
			assert.Equal(t, "native", c.Language, how)
			assert.Equal(t, want.causes, c.Causes, how)
			assert.Equal(t, "SIGABRT", c.Signal, how)
			require.Len(t, c.Threads, 1, how)
			same(t, want.frames, c.Threads[0].Frames, how)
		}
	}
}

// otherEndings are what the runtimes print besides, as their documents give it.
var otherEndings = map[string]struct {
	text    string
	causes  []Cause
	threads []string // name, state, and first frame with its line
}{
	".NET, a chain": {"Unhandled exception. System.InvalidOperationException: gate 7 is stuck\n ---> System.ArgumentException: no level (Parameter 'gate')\n   at Gannet.Sensor.Level(Int32 gate) in /srv/gannet/Sensor.cs:line 12\n   at Gannet.Sluice.Open(Int32 gate) in /srv/gannet/Sluice.cs:line 30\n   --- End of inner exception stack trace ---\n   at Gannet.Sluice.Open(Int32 gate) in /srv/gannet/Sluice.cs:line 34\n   at Gannet.Program.Main(String[] args) in /srv/gannet/Program.cs:line 5\n",
		[]Cause{{"System.InvalidOperationException", "gate 7 is stuck"}, {"System.ArgumentException", "no level (Parameter 'gate')"}},
		[]string{"main||Gannet.Sluice.Open:34", "main|System.ArgumentException: no level (Parameter 'gate')|Gannet.Sensor.Level:12"}},
	"Java, all threads": {"\"main\" #1 prio=5 os_prio=0 cpu=65.43ms elapsed=9.1s tid=0x00007f nid=0x1 waiting on condition  [0x00007f]\n   java.lang.Thread.State: TIMED_WAITING (sleeping)\n\tat java.lang.Thread.sleep(java.base@17.0.1/Native Method)\n\tat gannet.Sluice.main(Sluice.java:9)\n\n\"keeper\" #12 daemon prio=5 tid=0x00007e nid=0x2 waiting for monitor entry  [0x00007e]\n   java.lang.Thread.State: BLOCKED (on object monitor)\n\tat gannet.Sluice.open(Sluice.java:20)\n\t- waiting to lock <0x000000070e> (a gannet.Gate)\n",
		nil, []string{"main|timed_waiting (sleeping)|gannet.Sluice.main:9", "keeper|blocked (on object monitor), waiting to lock <0x000000070e> (a gannet.Gate)|gannet.Sluice.open:20"}},
	"Python, fatal": {"Fatal Python error: Segmentation fault\n\nCurrent thread 0x00007f8a (most recent call first):\n  File \"/srv/gannet/sluice.py\", line 12 in level\n  File \"/srv/gannet/sluice.py\", line 20 in <module>\n\nThread 0x00007f89 (most recent call first):\n  File \"/srv/gannet/keeper.py\", line 3 in wait\n",
		[]Cause{{"Fatal Python error", "Segmentation fault"}}, []string{"thread 0x00007f8a||level:12", "thread 0x00007f89||wait:3"}},
	"Python, a group": {"  + Exception Group Traceback (most recent call last):\n  |   File \"/srv/gannet/sluice.py\", line 24, in settle\n  |     raise ExceptionGroup(\"two\", [ValueError(\"low\")])\n  | ExceptionGroup: two (1 sub-exception)\n  +-+---------------- 1 ----------------\n    | Traceback (most recent call last):\n    |   File \"/srv/gannet/sluice.py\", line 3, in level\n    |     raise ValueError(\"low\")\n    | ValueError: low\n    +------------------------------------\n",
		[]Cause{{"ExceptionGroup", "two (1 sub-exception)"}, {"ValueError", "low"}}, []string{"main||settle:24", "main|ValueError: low|level:3"}},
	"Python, recursion": {"Traceback (most recent call last):\n  File \"/srv/gannet/a.py\", line 1, in <module>\n    f()\n  File \"/srv/gannet/a.py\", line 2, in f\n    f()\n  [Previous line repeated 996 more times]\nRecursionError: maximum recursion depth exceeded\n",
		[]Cause{{"RecursionError", "maximum recursion depth exceeded"}}, []string{"main||f:2"}},
	"Rust, of before 1.73": {"thread 'keeper' panicked at 'no level', src/sluice.rs:10:20\nnote: run with `RUST_BACKTRACE=1` environment variable to display a backtrace\n",
		[]Cause{{"panic", "no level"}}, []string{"keeper|panicked|(the place of the panic):10"}},
	"Go, elided and other thread": {"fatal error: stack overflow\n\nruntime stack:\nruntime.throw({0x4a0e8a, 0xe})\n\t/usr/local/go/src/runtime/panic.go:1077 +0x5c\n\ngoroutine 1 gp=0xc0000061c0 m=0 mp=0x5545a0 [running, locked to thread]:\nmain.dive(0x1, {0x2, 0x3?}, ...)\n\t/srv/gannet/main.go:5 +0x2a fp=0xc0200 sp=0xc01f0 pc=0x480000\n...23 frames elided...\nmain.main()\n\t/srv/gannet/main.go:9 +0x18\n\ngoroutine 18 gp=0xc0 m=3 mp=0x1 [running]:\n\tgoroutine running on other thread; stack unavailable\ncreated by main.main in goroutine 1\n\t/srv/gannet/main.go:8 +0x1d\n",
		[]Cause{{"fatal error", "stack overflow"}}, []string{"goroutine 1|running, locked to thread|main.dive:5", "runtime stack||", "goroutine 18|running|"}},
	"Go, a message of several lines": {"panic: gate stuck\n\tno power\n\ngoroutine 7 [running]:\nmain.main()\n\t/srv/gannet/main.go:9 +0x18\nexit status 2\n",
		[]Cause{{"panic", "gate stuck\nno power"}}, []string{"goroutine 7|running|main.main:9"}},
	"Go, a server that goes on": {"2026/11/25 10:00:01 http: panic serving 127.0.0.1:5000: no berth\ngoroutine 34 [running]:\nnet/http.(*conn).serve.func1()\n\t/usr/local/go/src/net/http/server.go:1868 +0xb9\nmain.assign({0x0, 0x0}, 0xc0001)\n\t/srv/gannet/main.go:19 +0x1d\n",
		[]Cause{{"panic", "no berth"}}, []string{"goroutine 34|running|main.assign:19"}},
	"numbered native frames": {"==7==ERROR: sluiced: SEGV, stack-overflow on address 0x000000000008\n    #0 0x55d0c1 in level /srv/gannet/sluice.c:16:12\n    #1 0x55d0d2 in open_gate /srv/gannet/sluice.c:21:9\n    #2 0x7f29d90  (/lib/x86_64-linux-gnu/libc.so.6+0x29d90) (BuildId: 69389d485a9793dbe873f0ea2c93e02efaa9aa3d)\n",
		[]Cause{{"stack-overflow", "==7==ERROR: sluiced: SEGV, stack-overflow on address 0x000000000008"}}, []string{"thread||level:16"}},
	"Rust, an error that main returns": {"Error: no tide table\n\nCaused by:\n    0: while opening /var/tides\n    1: No such file or directory (os error 2)\n\nStack backtrace:\n   0: anyhow::error::from\n             at /root/.cargo/registry/src/x/anyhow-1.0.0/src/error.rs:565:25\n   1: tides::load\n             at ./src/main.rs:12:5\n",
		[]Cause{{"Error", "no tide table"}, {"error", "while opening /var/tides"}, {"error", "No such file or directory (os error 2)"}}, []string{"main||anyhow::error::from:565"}},
	"Java, without frames": {"Exception in thread \"keeper\" java.lang.OutOfMemoryError: Java heap space\n",
		[]Cause{{"java.lang.OutOfMemoryError", "Java heap space"}}, []string{"keeper||"}},
	"Java, a lambda": {"gannet.BerthException: none\n\tat gannet.Quay$$Lambda/0x00007f8c4c001200.run(Unknown Source)\n",
		[]Cause{{"gannet.BerthException", "none"}}, []string{"thread||gannet.Quay$$Lambda/0x00007f8c4c001200.run:0"}},
	"Node.js, two of them": {"Uncaught TypeError: a is not a function\n    at open (/srv/a.js:10:3)\n(node:311) UnhandledPromiseRejectionWarning: Error: no berth\n    at assign (/srv/b.js:3:9)\n",
		[]Cause{{"TypeError", "a is not a function"}}, []string{"main||open:10", "main|Error: no berth|assign:3"}},
	"the kernel's log": {"[ 8122.3] sluiced[47]: segfault at 18 ip 000055d0c0a1b15a sp 00007ffd1f3c0a10 error 14 in sluiced[55d0c0a1b000+1000]\n[ 8122.3] Code: 89 c6 <c7> 00\n",
		[]Cause{{"SIGSEGV", "sluiced: jump where nothing is mapped, at 0x18"}}, []string{"sluiced 47||:0"}},
	"the kernel's log, another fault": {"Nov 25 10:00:00 quay kernel: traps: sluiced[47] trap divide error ip:40183d sp:7ffc error:0 in sluiced[183d,401000+8a000]\n",
		[]Cause{{"SIGFPE", "sluiced: divide error"}}, []string{"sluiced 47||:0"}},
	"an error in the midst of Node.js": {"/srv/gannet/a.js:3\n  throw 7\n  ^\n7\n(Use `node --trace-uncaught ...` to show where the exception was thrown)\n\nNode.js v20.1.0\n", nil, nil},
}

// TestOtherEndings reads them.
func TestOtherEndings(t *testing.T) {
	t.Parallel()
	for name, x := range otherEndings {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c, ok := Parse(x.text)
			require.Equal(t, len(x.threads) > 0, ok && len(c.Threads) > 0)
			if x.threads == nil {
				return
			}
			assert.Equal(t, x.causes, c.Causes)
			var got []string
			for i := range c.Threads {
				th := &c.Threads[i]
				Own(nil).Mark(c.Language, th.Frames)
				first := ""
				for _, f := range th.Frames {
					if f.Own || c.Language == "Rust" {
						first = f.Function + ":" + strconv.Itoa(f.Line)
						break
					}
				}
				got = append(got, th.Name+"|"+th.State+"|"+first)
			}
			assert.Equal(t, x.threads, got)
		})
	}
}

// TestGoWords keeps what a Go traceback says of arguments.
func TestGoWords(t *testing.T) {
	t.Parallel()
	c, ok := Parse("goroutine 1 [running]:\nmain.f(0x1, {0xc000010000?, 0x5}, {0x2, {0x3, ...}}, ...)\n\t/srv/a.go:1 +0x1\n")
	require.True(t, ok)
	assert.Equal(t, []Word{{Text: "0x1"}, {Parts: []Word{{Text: "0xc000010000", Stale: true}, {Text: "0x5"}}},
		{Parts: []Word{{Text: "0x2"}, {Parts: []Word{{Text: "0x3"}, {Text: "..."}}}}}, {Text: "..."}}, c.Threads[0].Frames[0].Args)
}

// TestForeignGo distinguishes Go's own packages, also if one is linked into another, and other
// modules from a module with a name like a standard package's.
func TestForeignGo(t *testing.T) {
	t.Parallel()
	for foreign, frames := range map[bool][][2]string{
		true: {{"sync.runtime_notifyListWait", "/usr/local/go/src/runtime/sema.go"}, {"net/http.(*conn).serve", "net/http/server.go"}, {"panic", "/usr/local/go/src/runtime/panic.go"},
			{"github.com/gannet/sea.Go", "github.com/gannet/sea@v1.2.0/go.go"}, {"example.org/x.F", "/srv/app/vendor/example.org/x/f.go"}},
		false: {{"main.main", "/srv/gannet/main.go"}, {"container/quay.Open", "/srv/container/quay/open.go"}, {"gannet/berths.Assign", "gannet/berths/assign.go"}, {"github.com/gannet/sound.Go", "/home/ines/sound/go.go"}},
	} {
		for _, f := range frames {
			assert.Equal(t, foreign, Foreign("Go", f[0], f[1]), "%v", f)
		}
	}
}

// TestNoCrash finds nothing if there is nothing.
func TestNoCrash(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"", "\n\n", "gate 3 opens\nlevel at 3.2 m (good)\n", "{\"a\": 1}\n", strings.Repeat("x", 1<<20), "at sea (by night)\n", "File: ok\n"} {
		assert.False(t, Is([]byte(text)), "%.40q", text)
	}
}

// TestBounds reads texts that begin something over and over again, in one line and in
// many: no text becomes longer than its bound, and nothing takes more than its length.
func TestBounds(t *testing.T) {
	t.Parallel()
	for _, unit := range []string{"[a] ", "12:00:00 ", "| ", "a: ", "at a", "File \"", "(a) ", "\"", "+-", "  ", "goroutine ", "panic: ", "\t", "a.b(", "a.b({0x1,", "Caused by: a.BException", "    - waiting on a"} {
		for _, text := range []string{strings.Repeat(unit, 20_000/len(unit)), strings.Repeat(unit+"\n", 20_000/len(unit))} {
			for _, before := range []string{"", "panic: x\n", "\"a\" #1 prio=5\n   java.lang.Thread.State: NEW\n", "thread 'a' panicked at b:1:2:\n", "Traceback (most recent call last):\n"} {
				c, ok := Parse(before + text)
				if !ok {
					continue
				}
				for _, x := range c.Causes {
					assert.LessOrEqual(t, len(x.Message), 2*longestText, "%q", unit)
				}
				for _, x := range c.Threads {
					assert.LessOrEqual(t, len(x.State), 3*longestText, "%q", unit)
				}
			}
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	_, err := Read(ctx, strings.Repeat("main.f()\n", 1<<20))
	require.ErrorIs(t, err, context.Canceled)
}

func FuzzTraceback(f *testing.F) {
	for _, seed := range []string{
		"panic: a\n\tpanic: b\n\ngoroutine 1 [running]:\nmain.f({0x1?}, ...)\n\t/a.go:1 +0x1\ncreated by main.g in goroutine 1\n\t/a.go:2 +0x1\n",
		"Exception in thread \"main\" a.B: c\n\tat d.E.f(E.java:1)\nCaused by: g.H\n\t... 1 more\n", "Traceback (most recent call last):\n  File \"a\", line 1, in b\n    c\nD: e\n",
		"A [B]: c\n    at d (e:1:2) {\n  [cause]: F: g\n      at h:3:4\n}\n", "thread 'a' panicked at b:1:2:\nc\nstack backtrace:\n   0: d\n             at e:3:4\n",
		"Unhandled exception. A.BException: c ---> D.EException: f\n   at G.H() in i:line 1\n   --- End of inner exception stack trace ---\n", "terminate called after throwing an instance of 'a'\n  what():  b\na: b.c:1: c: Assertion `d' failed.\n", "a[1]: segfault at 0 ip 1 sp 2 error 4 in a[1,1+1]\n", "Error: a\n\nCaused by:\n    0: b\nStack backtrace:\n   0: c\n",
		"x: SIGSEGV\n#0 0x1 in a b.c:1:2\nd(e+0x1)[0x2]\n",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, ok := Parse(text)
		if !ok {
			return
		}
		for i := range c.Threads {
			Own(nil).Mark(c.Language, c.Threads[i].Frames)
		}
		var follow Follower
		follow.Begin(text)
		follow.GoesOn(text)
	})
}
