package traceback

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// The Java virtual machine prints (java.lang.Throwable.printStackTrace): the error, an indented "at
// CLASS.METHOD(FILE:LINE)" for each frame, "... N more" for frames that the error before has too,
// "Caused by:" and "Suppressed:" errors. Dumps of all threads have a line with the thread's name in
// quotation marks before each stack.
var (
	jvmFrame = regexp.MustCompile(`^\s*at (?:[\w.-]+(?:@[\w.+-]+)?//?)*([\w.$<>-]+(?:/[\w.$<>-]+)?)\((?:(?:[\w.@+-]+/)?([\w$.-]+\.(?:java|kt|kts|scala|groovy|clj)):(\d+)|([\w$.-]+\.(?:java|kt|kts|scala|groovy|clj))|(?:[\w.@+-]+/)?(Native Method|Unknown Source))\)`)
	jvmError = regexp.MustCompile(`^(\s*)(?:Exception in thread "([^"]*)" |(Caused by: )|(Suppressed: )|(?:\[CIRCULAR REFERENCE: ?))?((?:[a-z_][\w$]*\.)*[A-Z][\w$]*)(?:: (.*))?$`)
	jvmMore  = regexp.MustCompile(`^\s*\.\.\. (\d+) (?:more|common frames omitted)`)
	jvmHead  = regexp.MustCompile(`^"(.+)"(?: #\d+.*| prio=.*| (?:daemon|tid=|Id=).*)$`)
	jvmState = regexp.MustCompile(`^\s+java\.lang\.Thread\.State: (.+)$`)
	jvmOwned = regexp.MustCompile(`^\s+- <(\S+)> \(a \S+\)$`)
	jvmFound = regexp.MustCompile(`^Found (?:one|\d+) Java-level deadlocks?:$`)
	jvmNamed = regexp.MustCompile(`^"(.+)":$`)
	jvmHeld  = regexp.MustCompile(`^\s+which is held by "(.+)"$`)
	jvmWants = regexp.MustCompile(`^\s+waiting (?:to lock monitor|for ownable synchronizer) (?:\S+ \(object (\S+), a (\S+)\)|(\S+), \(a (\S+)\)),?$`)
	jvmName  = regexp.MustCompile(`^<(\S+)>(?: \(a (\S+)\))?`)
	jvmLock  = regexp.MustCompile(`^\s+- (waiting (?:on|to lock)|parking to wait for|locked|eliminated) +(.+)$`)
)

func readJVM(p *parser, line string) bool {
	trimmed := strings.TrimLeft(line, " \t")
	if trimmed == "" {
		return false
	}
	if p.jvm.reads(p, line) {
		return true
	}
	switch trimmed[0] {
	case 'a':
		if m := jvmFrame.FindStringSubmatch(line); m != nil && p.current != nil && p.current.Kind != "goroutine" {
			n, _ := strconv.Atoi(m[3]) // digits, or nothing
			f := Frame{Function: m[1], File: m[2] + m[4], Line: n}
			if m[5] != "" {
				f.Note = strings.ToLower(m[5])
			}
			p.frame(f)
			return true
		}
	case '.':
		if m := jvmMore.FindStringSubmatch(line); m != nil && len(p.failures) > 0 {
			p.failures[len(p.failures)-1].common, _ = strconv.Atoi(m[1]) // digits
			return true
		}
	case '"':
		if m := jvmHead.FindStringSubmatch(line); m != nil {
			p.language("Java", "")
			p.begin(Thread{Name: m[1], Kind: "thread"})
			return true
		}
	case 'j':
		if m := jvmState.FindStringSubmatch(line); m != nil && p.current != nil {
			p.current.State = strings.ToLower(m[1])
			return true
		}
	case '-':
		if m := jvmOwned.FindStringSubmatch(line); m != nil && p.current != nil {
			p.current.Holds = append(p.current.Holds, m[1])
			return true
		}
		if m := jvmLock.FindStringSubmatch(line); m != nil && p.current != nil {
			p.current.lock(m[1], m[2])
			if m[1] != "locked" && m[1] != "eliminated" {
				extend(&p.current.State, ", "+m[1]+" "+m[2])
			} else if f := p.last(); f != nil {
				extend(&f.Note, "; holds "+m[2])
				f.Note = strings.TrimPrefix(f.Note, "; ")
			}
			return true
		}
	}
	return jvmFailure(p, line)
}

func jvmFailure(p *parser, line string) bool {
	m := jvmError.FindStringSubmatch(line)
	if m == nil {
		return false
	}
	typeName := m[5]
	plain := m[2] == "" && m[3] == "" && m[4] == "" && !strings.Contains(line, "Exception in thread")
	dot := strings.LastIndexByte(typeName, '.')
	short := typeName[dot+1:]
	if plain && dot < 0 || plain && !strings.HasSuffix(short, "Exception") && !strings.HasSuffix(short, "Error") && !strings.HasSuffix(short, "Throwable") && !strings.HasSuffix(short, "Failure") {
		return false
	}
	f := failure{Cause: Cause{typeName, m[6]}, thread: Thread{Name: "thread", Kind: "thread"}}
	switch {
	case m[3] != "" && m[1] != "" && len(p.failures) > 0 && p.failures[len(p.failures)-1].relation == suppressed:
		f.relation = suppressed // the cause of an error that was suppressed
	case m[3] != "":
		f.relation = causeOf
	case m[4] != "":
		f.relation = suppressed
	default:
		f.fatal = strings.Contains(line, "Exception in thread")
		if f.thread.Name = m[2]; m[2] == "" {
			f.thread.Name = "thread"
		}
	}
	if n := len(p.failures); f.relation != unrelated {
		if n == 0 {
			f.relation = unrelated // the beginning of the text is missing
		} else {
			f.thread.Name = p.failures[n-1].thread.Name
		}
	}
	p.language("Java", "exception")
	p.fail(f)
	return true
}

// lock notes what a line says of a monitor or a lock: whether the thread has it or waits for it. A thread that waits for
// a notification has given the monitor back.
func (t *Thread) lock(did, what string) {
	m := jvmName.FindStringSubmatch(what)
	if m == nil {
		return
	}
	name, class := m[1], m[2]
	switch did {
	case "locked":
		if t.Waits.Name != name {
			t.Holds = append(t.Holds, name)
		}
	case "waiting to lock":
		t.Waits = Waiting{"mutex", name}
	case "waiting on":
		t.Waits = Waiting{"condition", name}
	case "parking to wait for":
		t.Waits = Waiting{synchroniser(class), name}
	}
}

// synchroniser is what a class of java.util.concurrent is.
func synchroniser(class string) string {
	for _, x := range [][2]string{{"ReentrantReadWriteLock", "read-write lock"}, {"StampedLock", "read-write lock"}, {"ConditionObject", "condition"}, {"CountDownLatch", "wait group"}, {"CyclicBarrier", "barrier"}, {"Phaser", "barrier"},
		{"Semaphore", "semaphore"}, {"Queue", "channel"}, {"Exchanger", "channel"}, {"FutureTask", "thread"}, {"CompletableFuture", "thread"}, {"Lock", "mutex"}} {
		if strings.Contains(class, x[0]) {
			return x[1]
		}
	}
	return "lock"
}

// jvmDeadlock reads what the virtual machine reports of deadlocks at the end of a dump of all threads: the threads with
// what they wait for, and their stacks once more, which are skipped.
type jvmDeadlock struct {
	begun   bool
	threads []string // the waiting thread, what it waits for and who holds that, in turn
}

func (d *jvmDeadlock) reads(p *parser, line string) bool {
	switch {
	case jvmFound.MatchString(line):
		d.begun = true
		p.language("Java", "deadlock")
		p.current = &Thread{} // what follows is of no other thread
	case !d.begun:
		return false
	case jvmNamed.MatchString(line):
		if name := jvmNamed.FindStringSubmatch(line)[1]; len(d.threads)%3 == 0 && !d.has(name) {
			d.threads = append(d.threads, name)
		}
	case jvmWants.MatchString(line):
		if m := jvmWants.FindStringSubmatch(line); len(d.threads)%3 == 1 {
			d.threads = append(d.threads, m[2]+m[4]+" "+m[1]+m[3])
		}
	case jvmHeld.MatchString(line):
		if m := jvmHeld.FindStringSubmatch(line); len(d.threads)%3 == 2 {
			d.threads = append(d.threads, m[1])
		}
	case jvmHead.MatchString(line):
		d.begun = false // another dump
		return false
	default:
		return strings.HasPrefix(line, "Java stack information") || strings.HasPrefix(line, "====") || strings.HasPrefix(line, "Found ") || jvmFrame.MatchString(line) || jvmLock.MatchString(line)
	}
	return true
}

// has reports whether it is known what a thread waits for: each is named again with its stack.
func (d *jvmDeadlock) has(name string) bool {
	for i := 0; i < len(d.threads); i += 3 {
		if d.threads[i] == name {
			return true
		}
	}
	return false
}

// report makes the deadlock the error of the text, and its first thread the failing one.
func (d *jvmDeadlock) report(c *Crash) {
	if len(d.threads) < 3 || len(c.Causes) > 0 {
		return
	}
	var says []string
	for i := 0; i+2 < len(d.threads); i += 3 {
		says = append(says, d.threads[i]+" waits for "+d.threads[i+1]+", which "+d.threads[i+2]+" holds")
	}
	c.Kind = "deadlock"
	c.Causes = []Cause{{"deadlock", strings.Join(says, "; ")}}
	if i := slices.IndexFunc(c.Threads, func(t Thread) bool { return t.Name == d.threads[0] }); i > 0 {
		failing := c.Threads[i]
		c.Threads = slices.Insert(slices.Delete(c.Threads, i, i+1), 0, failing)
	}
}
