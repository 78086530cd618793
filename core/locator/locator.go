// Package locator parses and formats locators: EVIDENCE@MOMENT#THREAD.FRAME. The defaults are the
// moment of the failure, the thread of the moment, and the innermost frame. EVIDENCE#.FRAME is a frame of the default thread.
package locator

import (
	"fmt"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
)

// Locator is a place in evidence. Moment is event.NoMoment and Thread 0 if they are missing.
type Locator struct {
	Evidence string
	Moment   event.Moment
	Thread   event.ThreadID
	Frame    int
}

// Parse parses a locator. An @ in a path is part of the path unless a moment follows it.
func Parse(text string) (Locator, error) {
	l := Locator{Moment: event.NoMoment}
	rest := text
	if i := strings.LastIndexByte(rest, '#'); i >= 0 {
		thread, frame, _ := strings.Cut(rest[i+1:], ".")
		n, err := strconv.ParseUint(thread, 10, 32)
		if thread == "" && frame != "" { // a frame of the default thread
			err = nil
		} else if n == 0 && err == nil {
			err = strconv.ErrRange
		}
		if err != nil {
			return l, fmt.Errorf("%w: %q: expected a thread number after #, as in run.wraith@4711#1.2", fault.InvalidLocator, text)
		}
		l.Thread = event.ThreadID(n)
		if frame != "" {
			if l.Frame, err = strconv.Atoi(frame); err != nil || l.Frame < 0 {
				return l, fmt.Errorf("%w: %q: expected a frame number after the dot, as in run.wraith@4711#1.2", fault.InvalidLocator, text)
			}
		}
		rest = rest[:i]
	}
	if i := strings.LastIndexByte(rest, '@'); i >= 0 {
		n, err := strconv.ParseInt(rest[i+1:], 10, 64)
		switch {
		case err == nil && n >= 0:
			l.Moment, rest = event.Moment(n), rest[:i]
		case !strings.Contains(rest[i:], "/"):
			return l, fmt.Errorf("%w: %q: expected a moment after @, a whole number from 0", fault.InvalidLocator, text)
		}
	}
	if rest == "" {
		return l, fmt.Errorf("%w: %q has no evidence", fault.InvalidLocator, text)
	}
	l.Evidence = rest
	return l, nil
}

// String writes the locator; Parse reads it back.
func (l Locator) String() string {
	s := l.Evidence
	if l.Moment != event.NoMoment {
		s += "@" + strconv.FormatInt(int64(l.Moment), 10)
	}
	if l.Thread != 0 {
		s += "#" + strconv.FormatUint(uint64(l.Thread), 10)
	}
	if l.Frame != 0 {
		if l.Thread == 0 {
			s += "#"
		}
		s += "." + strconv.Itoa(l.Frame)
	}
	return s
}
