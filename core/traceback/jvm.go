package traceback

import (
	"regexp"
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
	jvmLock  = regexp.MustCompile(`^\s+- (waiting (?:on|to lock)|parking to wait for|locked|eliminated) +(.+)$`)
)

func readJVM(p *parser, line string) bool {
	trimmed := strings.TrimLeft(line, " \t")
	if trimmed == "" {
		return false
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
		if m := jvmLock.FindStringSubmatch(line); m != nil && p.current != nil {
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
