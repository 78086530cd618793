package traceback

import (
	"regexp"
	"strconv"
	"strings"
)

// .NET prints (System.Exception.ToString) the chain of errors, each inner one after " ---> "; then
// the innermost error's frames, "--- End of inner exception stack trace ---", those of the error
// around it, and so on.
var (
	dotnetFrame = regexp.MustCompile(`^\s+at ([\w.<>$` + "`" + `+\[\],|-]+(?:\.[\w<>$` + "`" + `|.-]+)*)\(([^()]*)\)(?: in (.+):line (\d+))?\s*(?:<---)?\s*$`)
	dotnetInner = regexp.MustCompile(`^ ---> (?:\(Inner Exception #\d+\) )?((?:[A-Z][\w]*\.)+[A-Z][\w` + "`" + `+]*)(?: \(0x[0-9a-fA-F]+\))?(?:: (.*))?$`)
	dotnetError = regexp.MustCompile(`^(?:Unhandled exception\. | ---> (?:\(Inner Exception #\d+\) )?)?((?:[A-Z][\w]*\.)+(?:[A-Z][\w` + "`" + `+]*)?(?:Exception|Error))(?: \(0x[0-9a-fA-F]+\))?(?:: (.*))?$`)
)

const dotnetEnd = "--- End of inner exception stack trace ---"

// dotnetState holds the errors that wait for their frames, the outermost first, by their index.
type dotnetState struct{ waiting []int }

func readDotNet(p *parser, line string) bool {
	trimmed := strings.TrimSpace(line)
	switch {
	case trimmed == dotnetEnd:
		if n := len(p.dotnet.waiting); n > 1 {
			p.dotnet.waiting = p.dotnet.waiting[:n-1]
			p.current = &p.failures[p.dotnet.waiting[n-2]].thread
			return true
		}
		return false
	case strings.HasPrefix(trimmed, "--- End of stack trace from previous location"):
		return len(p.dotnet.waiting) > 0
	case strings.HasPrefix(trimmed, "at "):
		m := dotnetFrame.FindStringSubmatch(line)
		if m == nil || p.current == nil || p.inGo() {
			return false
		}
		p.language(".NET", "exception")
		n, _ := strconv.Atoi(m[4]) // digits, or nothing
		f := Frame{Function: m[1], File: m[3], Line: n}
		if m[2] != "" {
			f.Note = "takes " + m[2]
		}
		p.frame(f)
		return true
	}
	m := dotnetError.FindStringSubmatch(line)
	if m == nil && len(p.dotnet.waiting) > 0 {
		m = dotnetInner.FindStringSubmatch(line)
	}
	if m == nil {
		return false
	}
	p.language(".NET", "exception")
	inner := strings.HasPrefix(line, " ---> ")
	for rest := m[2]; ; inner = true { // errors without a message stand on one line
		text, after, more := strings.Cut(rest, " ---> ")
		typeName := m[1]
		if inner && rest != m[2] {
			typeName, text, _ = strings.Cut(text, ": ")
		}
		f := failure{Cause: Cause{typeName, text}, fatal: strings.HasPrefix(line, "Unhandled"), thread: Thread{Name: "main", Kind: "thread"}}
		switch {
		case strings.HasPrefix(line, " ---> (Inner Exception #"): // beside another one: its frames follow at once
			f.relation = member
		case inner && len(p.failures) > 0:
			f.relation = causeOf
			p.dotnet.waiting = append(p.dotnet.waiting, len(p.failures))
		default:
			p.dotnet.waiting = append(p.dotnet.waiting[:0], len(p.failures))
		}
		p.fail(f)
		if !more {
			return true
		}
		rest = after
	}
}
