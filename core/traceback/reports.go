package traceback

import (
	"regexp"
	"strconv"
	"strings"
)

// Reports of the sanitizers of compilers (address, leak, undefined behaviour, threads) and of Go's race detector: a head
// with the error, then stacks, each below a line that says what happened there.
var (
	sanitizerHead = regexp.MustCompile(`^(?:==\d+==)?(?:ERROR|WARNING): (?:Address|Leak|Thread|Memory|HWAddress|UndefinedBehavior)Sanitizer: (.+?)(?: on (?:unknown )?address.*| \(pid[ =]\d+\).*)?$`)
	undefinedHead = regexp.MustCompile(`^(\S+):(\d+):(\d+): runtime error: (.+)$`)
	stackHead     = regexp.MustCompile(`^\s*(?:((?:READ|WRITE|ACCESS) of size \d+) at (0x[0-9a-f]+) thread (\S+)|((?i:(?:previous )?(?:atomic )?(?:read|write))(?: of size \d+)?) at (0x[0-9a-f]+) by (.+?)|((?:freed|previously allocated|allocated) by thread \S+).*|((?:Direct|Indirect) leak of .+) allocated from|(Thread \S+.*created by .+?)(?: at| here)?|(Goroutine \d+ .*created) at|(Mutex M\d+ .*created) at|(As if synchronized .*)|Uninitialized value was (created by .+)|(Location is heap block .+)):?$`)
	numberedPlace = regexp.MustCompile(`^\s+#(\d+) ([^\s(<][^<]*?) (?:<null>|(\S+):(\d+)(?::\d+)?)(?: \((\S+?)\+(0x[0-9a-f]+)\))?(?: \(BuildId: ([0-9a-f]+)\))?$`)
	raceFunction  = regexp.MustCompile(`^  ([\w./*()\[\]{}-]+)\(\)$`)
	racePlace     = regexp.MustCompile(`^      (\S+):(\d+) \+0x[0-9a-f]+$`)
)

// reportState is what of a report has been read.
type reportState struct {
	begun bool // the head was read
	race  bool // of Go's race detector
}

func readReport(p *parser, line string) bool {
	const longest = 1 << 10
	if len(line) > longest {
		return false
	}
	r := &p.report
	if m := sanitizerHead.FindStringSubmatch(line); m != nil {
		kind := m[1]
		if i := strings.IndexAny(kind, ":("); i > 0 {
			kind = strings.TrimSpace(kind[:i])
		}
		p.language("native", "sanitizer")
		r.begun, r.race = true, false
		p.crashed.ended = true
		_, says, _ := strings.Cut(line, "Sanitizer: ")
		says = strings.TrimSpace(strings.TrimPrefix(says, kind))
		p.fail(failure{Cause: Cause{kind, says}, fatal: true, thread: Thread{Name: "thread", Kind: "thread"}})
		if a := nativeAddress.FindStringSubmatch(line); a != nil {
			p.crashed.Address = a[1]
		}
		return true
	}
	if m := undefinedHead.FindStringSubmatch(line); m != nil {
		p.language("native", "sanitizer")
		r.begun = true
		n, _ := strconv.Atoi(m[2])
		p.fail(failure{Cause: Cause{"undefined behaviour", m[4]}, fatal: true, thread: Thread{Name: "thread", Kind: "thread", Frames: []Frame{{File: m[1], Line: n, Function: "(unknown)", Note: asReported}}}})
		return true
	}
	if line == "WARNING: DATA RACE" {
		p.language("Go", "race")
		r.begun, r.race = true, true
		p.fail(failure{Cause: Cause{"data race", "two goroutines use the same memory at the same time, and one of them writes"}, fatal: true, thread: Thread{Name: "accesses", Kind: "stack"}})
		return true
	}
	if !r.begun {
		return false
	}
	switch {
	case strings.HasPrefix(line, "SUMMARY: ") || strings.HasPrefix(line, "Found ") && strings.Contains(line, " data race"):
		return true
	case strings.HasPrefix(line, "  Location is ") || strings.Contains(line, " is located ") || strings.HasPrefix(line, "===="):
		return true
	case stackHead.MatchString(line):
		return r.stack(p, line)
	}
	if strings.HasPrefix(strings.TrimLeft(line, " "), "#0 ") && p.current != nil && len(p.current.Frames) == 1 && p.current.Frames[0].Note == asReported {
		p.current.Frames = nil // the stack has the place too
	}
	if nativeNumbered.MatchString(line) {
		return readNative(p, line)
	}
	if m := numberedPlace.FindStringSubmatch(line); m != nil {
		n, _ := strconv.Atoi(m[4]) // digits, or nothing
		f := Frame{Function: m[2], File: m[3], Line: n, Module: m[5], BuildID: m[7]}
		f.Offset, _ = strconv.ParseUint(strings.TrimPrefix(m[6], "0x"), 16, 64)
		p.frame(f)
		return true
	}
	if r.race {
		if m := raceFunction.FindStringSubmatch(line); m != nil {
			p.frame(Frame{Function: m[1]})
			return true
		}
		if m := racePlace.FindStringSubmatch(line); m != nil {
			if f := p.last(); f != nil && f.File == "" {
				f.File = m[1]
				f.Line, _ = strconv.Atoi(m[2]) // digits
				return true
			}
		}
	}
	return false
}

// asReported is the note of a frame that stands for a place that a report names without a function.
const asReported = "the report names the place only"

// stack begins the stack below a line that says what happened there. The first access is the error's own.
func (r *reportState) stack(p *parser, line string) bool {
	what := ""
	for _, part := range stackHead.FindStringSubmatch(line)[1:] {
		if part != "" && !strings.HasPrefix(part, "0x") {
			what = strings.TrimSpace(what + " " + part)
		}
	}
	if m := nativeAddress.FindStringSubmatch(line); m == nil && p.crashed.Address == "" {
		if i := strings.Index(line, " at 0x"); i > 0 {
			p.crashed.Address, _, _ = strings.Cut(line[i+len(" at "):], " ")
		}
	}
	f := &p.failures[len(p.failures)-1]
	if len(f.thread.Frames) == 0 && f.thread.State == "" {
		f.thread.State, f.thread.Name = what, "access"
		p.current = &f.thread
		return true
	}
	p.begin(Thread{Name: what, Kind: "stack", State: what})
	return true
}

// Tests of Go print a failed test's log and then its verdict.
var (
	goTestFailed = regexp.MustCompile(`^\s*--- FAIL: (\S+) \([\d.]+s\)$`)
	goTestLine   = regexp.MustCompile(`^\s{4,}([\w./-]+_test\.go):(\d+): (.*)$`)
	goTestRuns   = regexp.MustCompile(`^=== (?:RUN|PAUSE|CONT|NAME)\s+(\S+)$`)
)

// testState is the log of the test that runs.
type testState struct {
	runs bool
	at   Frame
	text string
	took bool // the verdict was read: what follows is of no test, or the log of this one
}

func readGoTest(p *parser, line string) bool {
	t := &p.test
	if goTestRuns.MatchString(line) {
		*t = testState{runs: true}
		return true
	}
	if m := goTestFailed.FindStringSubmatch(line); m != nil {
		p.language("Go", "failed-test")
		f := failure{Cause: Cause{"failed test " + m[1], t.text}, fatal: true, thread: Thread{Name: m[1], Kind: "test"}}
		if t.at.File != "" {
			f.thread.Frames = []Frame{t.at}
			f.thread.Frames[0].Function = m[1]
		}
		p.fail(f)
		*t = testState{runs: true, took: t.text == ""}
		return true
	}
	if m := goTestLine.FindStringSubmatch(line); m != nil && (t.runs || len(p.failures) > 0 && p.failures[len(p.failures)-1].thread.Kind == "test") {
		n, _ := strconv.Atoi(m[2])                      // digits
		if f := len(p.failures) - 1; t.took && f >= 0 { // older Go prints the log below the verdict
			if p.failures[f].Message == "" {
				p.failures[f].Message = strings.TrimSpace(m[3])
				p.failures[f].thread.Frames = append(p.failures[f].thread.Frames, Frame{Function: p.failures[f].thread.Name, File: m[1], Line: n})
			}
			return true
		}
		if t.text == "" {
			t.at, t.text = Frame{File: m[1], Line: n}, strings.TrimSpace(m[3])
		}
		return true
	}
	if t.runs && strings.HasPrefix(line, "        ") && t.at.File != "" { // the log goes on
		extendLine(&t.text, strings.TrimSpace(line))
		return true
	}
	return t.runs && (strings.HasPrefix(line, "--- PASS") || strings.HasPrefix(line, "FAIL") || strings.HasPrefix(line, "ok  ") || line == "PASS" || strings.HasPrefix(line, "exit status"))
}

func extendLine(text *string, more string) {
	if *text != "" {
		more = "\n" + more
	}
	extend(text, more)
}

// The kernel reports its own faults, and whom it kills for lack of memory.
var (
	kernelStamp = regexp.MustCompile(`^\[ *\d+\.\d+\](?:\[ *[TC]\d+\])? ?`)
	kernelBug   = regexp.MustCompile(`^(?:BUG: (.+)|Kernel panic - not syncing: (.+)|(general protection fault.*)|(Unable to handle kernel .+)|(kernel BUG at .+)|(WARNING: CPU: \d+ PID: \d+ at .+)|(watchdog: BUG: .+)|INFO: (task .+ blocked for more than .+))$`)
	kernelKill  = regexp.MustCompile(`(?:Out of memory|Memory cgroup out of memory): Killed process (\d+) \(([^)]+)\)(.*)$`)
	kernelIP    = regexp.MustCompile(`^RIP: [0-9a-f]+:(\S+)(?: \[\w+\])?$|^pc : (\S+)(?: \[\w+\])?$`)
	kernelFrame = regexp.MustCompile(`^ (\? )?([\w.]+\+0x[0-9a-f]+/0x[0-9a-f]+)(?: \[(\w+)(?: [0-9a-f]+)?\])?$`)
)

type kernelState struct{ begun, calls bool }

func readKernel(p *parser, line string) bool {
	const longest = 1 << 10
	stamp := kernelStamp.FindString(line)
	if len(line) > longest || stamp == "" && !p.kernel.begun && !strings.Contains(line, "ut of memory: ") {
		return false
	}
	text := line[len(stamp):]
	k := &p.kernel
	switch m := kernelBug.FindStringSubmatch(text); {
	case m != nil && stamp != "":
		p.language("kernel", "oops")
		k.begun, k.calls = true, false
		p.fail(failure{Cause: Cause{"kernel", strings.TrimSpace(text)}, fatal: true, thread: Thread{Name: "kernel", Kind: "thread"}})
		return true
	case kernelKill.MatchString(text):
		m := kernelKill.FindStringSubmatch(text)
		p.language("kernel", "out-of-memory")
		f := failure{Cause: Cause{"out of memory", "the kernel killed process " + m[1] + " (" + m[2] + ")" + strings.TrimRight(m[3], " ")}, fatal: true, thread: Thread{Name: m[2] + " " + m[1], Kind: "thread"}}
		if n := len(p.threads); n > 0 && p.threads[n-1].Name == "kernel" { // the stack of who asked for memory
			f.thread.Frames = p.threads[n-1].Frames
			p.threads = p.threads[:n-1]
		}
		p.fail(f)
		return true
	case strings.Contains(text, " invoked oom-killer: "):
		p.language("kernel", "out-of-memory")
		k.begun, k.calls = true, false
		p.begin(Thread{Name: "kernel", Kind: "thread", State: text[:strings.Index(text, ":")]})
		return true
	}
	if !k.begun {
		return false
	}
	if m := kernelIP.FindStringSubmatch(text); m != nil && p.current != nil {
		p.frame(kernelCall(m[1]+m[2], ""))
		return true
	}
	if text == "Call Trace:" || text == "Call trace:" {
		k.calls = true
		return true
	}
	if m := kernelFrame.FindStringSubmatch(text); m != nil && k.calls && p.current != nil {
		f := kernelCall(m[2], m[3])
		if m[1] != "" {
			f.Note = "the kernel is not sure of this frame"
		}
		p.frame(f)
		return true
	}
	if strings.Contains(text, "---[ end ") {
		k.begun = false
	}
	return stamp != "" && (k.calls || len(p.failures) > 0)
}

// kernelCall reads "sluice_open+0x15/0x40".
func kernelCall(place, module string) Frame {
	name, offset, _ := strings.Cut(place, "+")
	offset, _, _ = strings.Cut(offset, "/")
	f := Frame{Function: name, Module: module, Place: InFunction}
	f.Offset, _ = strconv.ParseUint(strings.TrimPrefix(offset, "0x"), 16, 64)
	return f
}

// Ruby prints the place, the error with its type and the callers; the cause follows.
var (
	rubyHead  = regexp.MustCompile("^(\\S+\\.rb):(\\d+):in [`'](.+?)': (.*?)(?: \\(([A-Z][\\w:]*)\\))?$")
	rubyFrame = regexp.MustCompile("^\\s+(?:\\d+: )?from (\\S+?):(\\d+):in [`'](.+?)'$")
	rubyMore  = regexp.MustCompile(`^\s+\.\.\. (\d+) levels\.\.\.$`)
)

func readRuby(p *parser, line string) bool {
	if m := rubyHead.FindStringSubmatch(line); m != nil && m[5] != "" {
		p.language("Ruby", "exception")
		relation := unrelated
		if n := len(p.failures); n > 0 && len(p.failures[n-1].thread.Frames) > 1 && p.crashed.Language == "Ruby" {
			relation = causeOf
		}
		n, _ := strconv.Atoi(m[2]) // digits
		p.fail(failure{Cause: Cause{m[5], m[4]}, relation: relation, fatal: relation == unrelated, thread: Thread{Name: "main", Kind: "thread", Frames: []Frame{{Function: m[3], File: m[1], Line: n}}}})
		return true
	}
	if p.crashed.Language != "Ruby" || p.current == nil {
		return false
	}
	if m := rubyFrame.FindStringSubmatch(line); m != nil {
		n, _ := strconv.Atoi(m[2]) // digits
		p.frame(Frame{Function: m[3], File: m[1], Line: n})
		return true
	}
	if m := rubyMore.FindStringSubmatch(line); m != nil && len(p.failures) > 0 {
		p.current.Cut = true
		return true
	}
	return false
}

// PHP prints the error that nobody caught, its stack innermost first, and after "Next" the one that it caused.
var (
	phpHead  = regexp.MustCompile(`^(?:PHP )?(?:Fatal error|Warning|Parse error|Notice):\s+(?:Uncaught ([\w\\]+)(?:: (.*?))?|(.*?)) in (\S+?)(?::(\d+)| on line (\d+))$`)
	phpNext  = regexp.MustCompile(`^Next ([\w\\]+)(?:: (.*?))? in (\S+?):(\d+)$`)
	phpFrame = regexp.MustCompile(`^#(\d+) (?:(\S+?)\((\d+)\): (.+?)\((?:.*)\)|\{main\}|\[internal function\]: (.+?)\((?:.*)\))$`)
)

func readPHP(p *parser, line string) bool {
	if m := phpHead.FindStringSubmatch(line); m != nil {
		p.language("PHP", "exception")
		n, _ := strconv.Atoi(m[5] + m[6]) // digits
		c := Cause{m[1], m[2]}
		if c.Type == "" {
			c = Cause{"fatal error", m[3]}
		}
		p.fail(failure{Cause: c, fatal: true, thread: Thread{Name: "main", Kind: "thread", Frames: []Frame{{File: m[4], Line: n}}}})
		return true
	}
	if p.crashed.Language != "PHP" {
		return false
	}
	if m := phpNext.FindStringSubmatch(line); m != nil {
		n, _ := strconv.Atoi(m[4]) // digits
		p.fail(failure{Cause: Cause{m[1], m[2]}, relation: resultOf, fatal: true, thread: Thread{Name: "main", Kind: "thread", Frames: []Frame{{File: m[3], Line: n}}}})
		return true
	}
	if m := phpFrame.FindStringSubmatch(line); m != nil && p.current != nil {
		n, _ := strconv.Atoi(m[3]) // digits, or nothing
		// The function of a line is that in which the frame before it is.
		if f := p.last(); f != nil && f.Function == "" {
			f.Function = m[4] + m[5]
			if f.Function == "" {
				f.Function = "{main}"
			}
		}
		if m[2] != "" {
			p.frame(Frame{File: m[2], Line: n})
		} else if m[5] != "" {
			p.frame(Frame{Note: "internal function"})
		}
		return true
	}
	return line == "Stack trace:" || strings.HasPrefix(line, "  thrown in ")
}

// Perl's Carp prints the error with its place, and the calls, each with the place of the caller.
var (
	perlHead  = regexp.MustCompile(`^(.+) at (\S+\.(?:pl|pm|t|cgi)|-e|\(eval \d+\)) line (\d+)\.?$`)
	perlFrame = regexp.MustCompile(`^\s+([\w:]+|eval \{\.\.\.\})(?:\(.*\))? called at (\S+) line (\d+)$`)
)

func readPerl(p *parser, line string) bool {
	if m := perlFrame.FindStringSubmatch(line); m != nil && p.perl != nil {
		if p.crashed.Language == "" {
			p.language("Perl", "exception")
			p.fail(*p.perl)
		}
		n, _ := strconv.Atoi(m[3]) // digits
		if f := p.last(); f != nil {
			f.Function = m[1]
		}
		p.frame(Frame{Function: "(main program)", File: m[2], Line: n})
		return true
	}
	if m := perlHead.FindStringSubmatch(line); m != nil && p.crashed.Language == "" {
		if p.perl != nil && strings.HasSuffix(m[1], p.perl.Message) {
			return false // the same line, together with the one before
		}
		n, _ := strconv.Atoi(m[3]) // digits
		p.perl = &failure{Cause: Cause{"die", m[1]}, fatal: true, thread: Thread{Name: "main", Kind: "thread", Frames: []Frame{{File: m[2], Line: n}}}}
		return false // it is an error if calls follow
	}
	return false
}
