package traceback

import (
	"regexp"
	"strconv"
	"strings"
)

// Rust prints (std::panicking, std::backtrace) "thread 'NAME' panicked at
// FILE:LINE:COLUMN:", the message on the next line (before 1.73 on the same one, in
// quotation marks), and a numbered backtrace whose places are lines of their own.
var (
	rustPanic = regexp.MustCompile(`^thread '([^']*)'(?: \(\d+\))? panicked at (?:'(.*)', )?(.+?):(\d+):(\d+):?$`)
	rustFrame = regexp.MustCompile(`^\s*(\d+): +(?:(0x[0-9a-f]+) - )?(.+)$`)
	rustPlace = regexp.MustCompile(`^\s+at (.+?):(\d+)(?::(\d+))?$`)
)

type rustState struct {
	open    bool
	message bool // the next line is the message
	trace   bool
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
	if !s.open || p.current == nil {
		return false
	}
	switch {
	case strings.HasPrefix(line, "note: "):
		s.message = false
		return true
	case line == "stack backtrace:":
		s.message, s.trace = false, true
		p.current.Frames = nil // the backtrace has the place too
		return true
	case s.message:
		last := &p.failures[len(p.failures)-1]
		last.Message = strings.TrimPrefix(last.Message+"\n"+line, "\n")
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
