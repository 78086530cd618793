package traceback

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Node.js prints the place and the line of source, an empty line, and the error's stack: its type
// and message, and an indented "at FUNCTION (FILE:LINE:COLUMN)" for each frame. A cause follows in
// brackets, indented.
var (
	nodeFrame  = regexp.MustCompile(`^\s*at (?:(async )?(.+?) \((.+?):(\d+):(\d+)\)|(async )?([^()\s][^()]*?):(\d+):(\d+)|(.+?) \((native|<anonymous>|index \d+)\))[,;]?(?: \{)?$`)
	nodeError  = regexp.MustCompile(`^\s*(?:Uncaught |UnhandledPromiseRejectionWarning: |\[cause\]: |\[errors\]: )?(\[?)((?:[A-Z][\w$]*)?(?:Error|Exception|Warning)(?: \[[\w$]+\])?|[A-Z][\w$]* \[[\w$]+\])(?:: (.*?))?(\]?)(?: \{)?$`)
	nodeThrown = regexp.MustCompile(`^(?:Uncaught )?([A-Za-z_$][\w$.]*)(?:: (.*?))?(?: \{)?$`)
	nodeMark   = regexp.MustCompile(`^\s*\^+$`)
)

// nodeState reports whether the place of an error was in the line before; the error follows.
type nodeState struct {
	marked     bool
	message    []string // lines after an error, which belong to its message if frames follow
	properties bool     // the lines are the error's properties
}

var (
	nodeElided   = regexp.MustCompile(`^\s*\.\.\. (\d+) lines matching cause stack trace \.\.\.$`)
	nodeProperty = regexp.MustCompile(`^\s+([a-z_$][\w$]*|'[^']+'): (.+?),?$`)
)

func readNode(p *parser, line string) bool {
	trimmed := strings.TrimLeft(line, " ")
	if strings.HasPrefix(trimmed, "at ") {
		m := nodeFrame.FindStringSubmatch(line)
		if m == nil || p.current == nil || p.inGo() {
			return false
		}
		p.language("JavaScript", "exception")
		f := Frame{Function: m[2] + m[7], File: m[3], Note: strings.TrimSpace(m[1] + m[6])}
		switch {
		case m[3] != "":
			f.Line, _ = strconv.Atoi(m[4]) // digits
			f.Column, _ = strconv.Atoi(m[5])
		case m[7] != "":
			f.Function, f.File = "<anonymous>", m[7]
			f.Line, _ = strconv.Atoi(m[8])
			f.Column, _ = strconv.Atoi(m[9])
		default:
			f.Function, f.Note = m[10], m[11]
		}
		f.File = strings.TrimPrefix(f.File, "file://")
		if n := len(p.failures); n > 0 && len(p.current.Frames) == 0 && p.current == &p.failures[n-1].thread {
			for _, more := range p.node.message {
				extend(&p.failures[n-1].Message, "\n"+more)
			}
		}
		p.node.message = nil
		p.frame(f)
		p.node.properties = strings.HasSuffix(line, "{")
		return true
	}
	if m := nodeElided.FindStringSubmatch(line); m != nil && len(p.failures) > 0 {
		f := &p.failures[len(p.failures)-1]
		f.elided, _ = strconv.Atoi(m[1]) // digits
		f.elidedAt = len(f.thread.Frames)
		return true
	}
	if n := len(p.failures); p.node.properties && n > 0 {
		if strings.TrimSpace(line) == "}" {
			p.node.properties = false
			return true
		}
		if m := nodeProperty.FindStringSubmatch(line); m != nil {
			if frames := p.failures[n-1].thread.Frames; len(frames) > 0 {
				extend(&frames[0].Note, "; "+m[1]+": "+m[2])
				frames[0].Note = strings.TrimPrefix(frames[0].Note, "; ")
			}
			return true
		}
	}
	if strings.HasPrefix(line, "Node.js v") && len(p.failures) > 0 {
		p.failures[len(p.failures)-1].fatal = true
		return true
	}
	if p.inGo() || p.python.open {
		return false
	}
	if nodeMark.MatchString(line) {
		p.node.marked = true
		return true
	}
	var cause Cause
	if m := nodeError.FindStringSubmatch(line); m != nil {
		cause = Cause{m[2], m[3]}
		if m[1] == "" {
			cause.Message += m[4] // a bracket of the message itself
		}
	} else if m := nodeThrown.FindStringSubmatch(line); m != nil && p.node.marked {
		cause = Cause{m[1], m[2]}
	} else {
		const mostLines = 16
		if n := len(p.failures); n > 0 && len(p.failures[n-1].thread.Frames) == 0 && len(p.node.message) < mostLines && !slices.Contains(p.node.message, line) {
			p.node.message = append(p.node.message, line)
		}
		return false
	}
	p.node.marked, p.node.message = false, nil
	f := failure{Cause: cause, thread: Thread{Name: "main", Kind: "thread"}}
	switch {
	case strings.HasPrefix(trimmed, "[cause]"):
		f.relation = causeOf
	case strings.HasPrefix(line, " ") && len(p.failures) > 0:
		f.relation = member
	}
	p.fail(f)
	return true
}
