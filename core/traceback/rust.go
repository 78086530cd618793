package traceback

import (
	"regexp"
	"strconv"
	"strings"
)

// Rust prints (std::panicking, std::backtrace) "thread 'NAME' panicked at FILE:LINE:COLUMN:", the
// message on the next line (before 1.73 on the same one, in quotation marks), and a numbered
// backtrace whose places are on lines of their own. An error that main returns is printed after
// "Error: "; widely used error types add "Caused by:" with a line, or a numbered one, for each
// error that caused it.
var (
	rustPanic = regexp.MustCompile(`^thread '([^']*)'(?: \(\d+\))? panicked at (?:'(.*)', )?(.+?):(\d+):(\d+):?$`)
	rustFrame = regexp.MustCompile(`^\s*(\d+): +(?:(0x[0-9a-f]+) - )?(.+)$`)
	rustCause = regexp.MustCompile(`^ {2,}(?:(\d+): )?(\S.*)$`)
	rustPlace = regexp.MustCompile(`^\s+at (.+?):(\d+)(?::(\d+))?$`)
)

type rustState struct {
	open    bool
	message bool // the next line is the message
	trace   bool
	causes  bool // the following errors caused the one before
}

func readRust(p *parser, line string) bool {
	s := &p.rust
	if m := rustPanic.FindStringSubmatch(line); m != nil {
		p.language("Rust", "panic")
		p.fail(failure{Cause: Cause{"panic", m[2]}, fatal: true, thread: Thread{Name: m[1], Kind: "thread", State: "panicked"}})
		n, _ := strconv.Atoi(m[4]) // digits
		column, _ := strconv.Atoi(m[5])
		*s = rustState{open: true, message: m[2] == ""}
		p.frame(Frame{Function: "(the place of the panic)", File: m[3], Line: n, Column: column})
		return true
	}
	if line == "Caused by:" && len(p.failures) > 0 {
		p.language("Rust", "error")
		p.failures[len(p.failures)-1].fatal = true
		*s = rustState{open: true, causes: true}
		return true
	}
	if !s.open || p.current == nil {
		return false
	}
	if m := rustCause.FindStringSubmatch(line); s.causes && m != nil {
		if last := &p.failures[len(p.failures)-1]; m[1] == "" && last.relation == causeOf && last.numbered {
			extend(&last.Message, "\n"+m[2])
			return true
		}
		p.fail(failure{Cause: Cause{"error", m[2]}, relation: causeOf, numbered: m[1] != ""})
		return true
	}
	s.causes = false
	switch {
	case strings.HasPrefix(line, "note: "):
		s.message = false
		return true
	case strings.EqualFold(line, "stack backtrace:"):
		s.message, s.trace = false, true
		outermost := &p.failures[len(p.failures)-1]
		for i := len(p.failures) - 1; i > 0 && p.failures[i].relation == causeOf; i-- {
			outermost = &p.failures[i-1]
		}
		p.current = &outermost.thread
		p.current.Frames = nil // the backtrace has the place too
		return true
	case s.message:
		last := &p.failures[len(p.failures)-1]
		extend(&last.Message, "\n"+line)
		last.Message = strings.TrimPrefix(last.Message, "\n")
		return true
	case !s.trace:
		return false
	}
	if m := rustPlace.FindStringSubmatch(line); m != nil {
		if f := p.last(); f != nil && f.File == "" {
			f.File = m[1]
			f.Line, _ = strconv.Atoi(m[2]) // digits
			f.Column, _ = strconv.Atoi(m[3])
			return true
		}
		return false
	}
	if m := rustFrame.FindStringSubmatch(line); m != nil {
		address, _ := strconv.ParseUint(strings.TrimPrefix(m[2], "0x"), 16, 64) // digits, or nothing
		p.frame(Frame{Function: m[3], Address: address})
		return true
	}
	return false
}
