package structuredlog

import (
	"fmt"
	"strings"

	"wraithology/core/fault"
)

// A pattern describes a line of a log: text as it is written, and names in braces for what differs, such as
// "{time} {level} [{thread}] {logger}: {message}". The names time, level, message, thread, logger and caller have a
// meaning; others become fields, and {_} is skipped. A space stands for any white space. {{ and }} stand for braces.

// pattern is a parsed pattern.
type pattern []patternPart

// patternPart is a text, or a name.
type patternPart struct {
	text string
	name string
}

// Bounds of patterns.
const (
	maxPatterns     = 16
	maxPatternParts = 64
)

// parsePatterns parses patterns, one a line.
func parsePatterns(text string) (list []pattern, err error) {
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if strings.TrimSpace(line) == "" {
			continue
		}
		p, err := parsePattern(line)
		if err != nil {
			return nil, fmt.Errorf("pattern %q: %w: %w", line, fault.InvalidRule, err)
		}
		list = append(list, p)
	}
	if len(list) > maxPatterns {
		return nil, fmt.Errorf("%d patterns: %w: at most %d", len(list), fault.InvalidRule, maxPatterns)
	}
	return list, nil
}

func parsePattern(s string) (p pattern, err error) {
	text := ""
	literal := func() {
		if text != "" {
			p = append(p, patternPart{text: text})
			text = ""
		}
	}
	for s != "" {
		switch {
		case strings.HasPrefix(s, "{{"), strings.HasPrefix(s, "}}"):
			text += s[:1]
			s = s[2:]
		case s[0] == '{':
			name, rest, ok := strings.Cut(s[1:], "}")
			if !ok || name == "" || strings.ContainsAny(name, "{ ") {
				return nil, fmt.Errorf("a name is written as {time}; {{ stands for a brace")
			}
			literal()
			if len(p) > 0 && p[len(p)-1].name != "" {
				return nil, fmt.Errorf("there must be text between {%s} and {%s}", p[len(p)-1].name, name)
			}
			p, s = append(p, patternPart{name: name}), rest
		default:
			text += s[:1]
			s = s[1:]
		}
	}
	literal()
	names := 0
	for _, part := range p {
		if part.name != "" {
			names++
		}
	}
	if names == 0 {
		return nil, fmt.Errorf("it has no name such as {message}")
	}
	if len(p) > maxPatternParts {
		return nil, fmt.Errorf("it has more than %d parts", maxPatternParts)
	}
	return p, nil
}

// skip returns the end of a text within s at a position; spaces stand for any white space.
func skip(s string, at int, text string) (end int, ok bool) {
	for i := 0; i < len(text); i++ {
		if text[i] == ' ' {
			begun := at
			for at < len(s) && (s[at] == ' ' || s[at] == '\t') {
				at++
			}
			if at == begun {
				return 0, false
			}
			for i+1 < len(text) && text[i+1] == ' ' {
				i++
			}
			continue
		}
		if at >= len(s) || s[at] != text[i] {
			return 0, false
		}
		at++
	}
	return at, true
}

// match reads a line by a pattern. Each name takes as little as possible; a time takes what can be read as a time.
func (p *parser) match(of pattern, line string, r *record) bool {
	at := 0
	fields := len(r.fields)
	undo := func() bool {
		r.fields, r.timed, r.time, r.message = r.fields[:fields], false, 0, ""
		return false
	}
	for n := 0; n < len(of); n++ {
		part := of[n]
		if part.name == "" {
			end, ok := skip(line, at, part.text)
			if !ok {
				return undo()
			}
			at = end
			continue
		}
		end := len(line)
		if part.name == "time" && !r.timed {
			if t, ok := p.clock.begins(line[at:]); ok {
				r.time, r.guess, r.zone, r.timed = t.time, t.guess, t.zone, true
				at += t.size
				continue
			}
		}
		if n+1 < len(of) {
			end = -1
			for from := at; from <= len(line); from++ {
				if _, ok := skip(line, from, of[n+1].text); ok {
					end = from
					break
				}
			}
			if end < 0 {
				return undo()
			}
		}
		value := strings.TrimSpace(line[at:end])
		switch part.name {
		case "_":
		case "time":
			t, guess, ok := p.clock.parse(value)
			if !ok {
				return undo()
			}
			r.time, r.guess, r.timed = t, guess, true
		case "message":
			r.message = value
		default:
			f := field{name: part.name, text: value}
			if plainNumber.MatchString(value) {
				f.setNumber(value)
			}
			r.fields = append(r.fields, f)
		}
		at = end
	}
	return at == len(line) || undo()
}
