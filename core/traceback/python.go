package traceback

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Python prints (Lib/traceback.py) "Traceback (most recent call last):", for each frame, outermost
// first, a line with file, line and function, and the source text; last the error. Chained errors
// follow each other with a sentence between them; groups are indented, with bars. faulthandler
// prints the innermost frame first.
var (
	pythonFrame  = regexp.MustCompile(`^\s*File "(.+?)", line (\d+)(?:, in (.+)| in (.+))?$`)
	pythonError  = regexp.MustCompile(`^([A-Za-z_][\w.]*)(?:: (.*))?$`)
	pythonBars   = regexp.MustCompile(`^\s*(?:[|+](?:-\+?-*(?: \d+ -+)?)?\s?)+ ?`)
	pythonRepeat = regexp.MustCompile(`^\s*\[Previous line repeated (\d+) more times?\]$`)
	pythonThread = regexp.MustCompile(`^(?:Current thread|Thread) (0x[0-9a-f]+)(?: \[(.+?)\])? \(most recent call first\):$`)
)

type pythonState struct {
	open   bool // the current lines are a traceback
	frames []Frame
	next   relation
	first  bool // the innermost frame is first
	member bool
	indent string // of the whole traceback
	after  bool   // the line before was that of an error, or of its message
	more   string // the lines since the error, which are part of its message if a sentence about it follows
	since  bool   // nothing else was understood since the error
}

func readPython(p *parser, line string) bool {
	s := &p.python
	text := line
	if b := pythonBars.FindString(line); b != "" && strings.ContainsAny(b, "|+") {
		text = line[len(b):]
		if strings.Contains(b, "+-+") || strings.Contains(b, "+--") {
			s.end(p)
			s.member = true
			return s.next != unrelated || len(p.failures) > 0
		}
		if text == "" {
			return s.open
		}
	}
	if s.open {
		text = strings.TrimPrefix(text, s.indent)
	}
	trimmed := strings.TrimLeft(text, " ")
	if s.after && strings.HasPrefix(text, s.indent+"  ") && len(p.failures) > 0 { // the message goes on, whatever it looks like
		extend(&p.failures[len(p.failures)-1].Message, s.more+"\n"+text[len(s.indent):])
		s.more = ""
		return true
	}
	s.after = false
	switch {
	case strings.HasPrefix(trimmed, "Traceback (most recent call last):"), strings.HasPrefix(trimmed, "Exception Group Traceback (most recent call last):"), strings.HasPrefix(trimmed, "+ Exception Group Traceback"):
		s.end(p)
		p.language("Python", "exception")
		s.open, s.indent = true, text[:len(text)-len(trimmed)]
		return true
	case strings.HasPrefix(trimmed, "The above exception was the direct cause of the following exception:"), strings.HasPrefix(trimmed, "During handling of the above exception, another exception occurred:"):
		if s.since {
			extend(&p.failures[len(p.failures)-1].Message, strings.TrimRight(s.more, "\n"))
		}
		s.end(p)
		s.next, s.more, s.since = resultOf, "", false
		return true
	case strings.HasPrefix(trimmed, "Fatal Python error: "):
		p.language("Python", "fatal")
		p.fail(failure{Cause: Cause{"Fatal Python error", strings.TrimPrefix(trimmed, "Fatal Python error: ")}, fatal: true, thread: Thread{Name: "thread", Kind: "thread"}})
		s.first = true
		return true
	}
	if m := pythonThread.FindStringSubmatch(trimmed); m != nil {
		p.language("Python", "")
		t := Thread{Name: strings.TrimSpace("thread " + m[1] + " " + m[2]), Kind: "thread"}
		s.first = true
		if n := len(p.failures); strings.HasPrefix(trimmed, "Current") && n > 0 && len(p.failures[n-1].thread.Frames) == 0 {
			p.failures[n-1].thread.Name = t.Name
			p.current = &p.failures[n-1].thread
		} else {
			p.begin(t)
		}
		return true
	}
	if m := pythonFrame.FindStringSubmatch(text); m != nil {
		n, _ := strconv.Atoi(m[2]) // digits
		f := Frame{Function: m[3] + m[4], File: m[1], Line: n}
		switch {
		case s.first && p.current != nil:
			p.frame(f)
		case s.open && len(s.frames) < maxFrames:
			s.frames = append(s.frames, f)
		case s.open:
		default:
			return false
		}
		return true
	}
	if !s.open {
		m := pythonError.FindStringSubmatch(trimmed)
		if m == nil || !s.member || text == line {
			return false
		}
		s.fail(p, Cause{m[1], m[2]}) // a member of a group that was never raised
		return true
	}
	if m := pythonRepeat.FindStringSubmatch(text); m != nil && len(s.frames) > 0 {
		last := s.frames[len(s.frames)-1]
		last.Note = m[1] + " more frames like it"
		s.frames[len(s.frames)-1] = last
		return true
	}
	if strings.HasPrefix(text, "  ") { // the source text, and marks below it
		return len(s.frames) > 0
	}
	if m := pythonError.FindStringSubmatch(trimmed); m != nil {
		s.fail(p, Cause{m[1], m[2]})
		return true
	}
	return false
}

// fail ends a traceback with its error.
func (s *pythonState) fail(p *parser, c Cause) {
	f := failure{Cause: c, relation: s.next, thread: Thread{Name: "main", Kind: "thread"}}
	if s.member && f.relation == unrelated && len(p.failures) > 0 {
		f.relation = member
	}
	for i := len(s.frames) - 1; i >= 0; i-- {
		f.thread.Frames = append(f.thread.Frames, s.frames[i])
	}
	p.fail(f)
	p.current = nil
	inGroup, indent := s.member, s.indent
	*s = pythonState{member: inGroup, indent: indent, after: !inGroup, since: !inGroup}
}

// keep keeps a line that nothing understood: it may be part of the message of the error before it, whose
// further lines and notes are not indented.
func (s *pythonState) keep(line string) {
	if s.since {
		extend(&s.more, "\n"+strings.TrimPrefix(line, s.indent))
	}
}

// maxQuoted is the number of lines that may continue a message of which a gap quotes the beginning.
const maxQuoted = 3

// remark tells of the lines after the last error.
func (s *pythonState) remark() string {
	more := strings.Trim(s.more, "\n")
	if more == "" {
		return ""
	}
	lines := strings.Split(more, "\n")
	text := strings.Join(lines[:min(len(lines), maxQuoted)], " / ")
	if n := len(lines) - maxQuoted; n > 0 {
		text += fmt.Sprintf(" / … (%d more lines)", n)
	}
	return "the text continues after the error; its message may include: " + text
}

// end ends a traceback without an error.
func (s *pythonState) end(p *parser) {
	if s.open && len(s.frames) > 0 {
		s.fail(p, Cause{"", "the text ends before the error"})
	}
	s.open = false
}
