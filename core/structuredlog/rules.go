package structuredlog

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Rules say which fields of a log mean what, where their names do not. Each names
// a field, or is empty.
type Rules struct {
	Time, Level, Message, Trace, Thread, Caller string
}

// ErrRule says that a rule cannot be read.
var ErrRule = errors.New("this is no rule for fields")

// ParseRules reads rules from pairs of what a field means and its name.
func ParseRules(pairs map[string]string) (r Rules, err error) {
	for meaning, name := range pairs {
		into, ok := map[string]*string{"time": &r.Time, "level": &r.Level, "message": &r.Message, "trace": &r.Trace, "thread": &r.Thread, "caller": &r.Caller}[meaning]
		if !ok {
			return r, fmt.Errorf("%s=%s: %w: a field is the time, level, message, trace, thread or caller", meaning, name, ErrRule)
		}
		*into = name
	}
	return r, nil
}

// The names by which fields are known, in the order in which they are looked for.
// Letter case, dots, dashes and underscores do not count.
var (
	timeNames    = []string{"time", "timestamp", "ts", "@timestamp", "datetime", "date", "t", "timeunixnano", "eventtime", "asctime"}
	levelNames   = []string{"level", "severity", "severitytext", "lvl", "loglevel", "levelname", "priority"}
	messageNames = []string{"msg", "message", "body", "event", "text", "log"}
	traceNames   = []string{"traceid"}
	threadNames  = []string{"requestid", "reqid", "correlationid", "goroutine", "thread", "threadid", "threadname", "tid", "pid"}
	callerNames  = []string{"caller", "source"}
	fileNames    = []string{"sourcefile", "file", "filename", "codefilepath", "pathname"}
	lineNames    = []string{"sourceline", "line", "lineno", "codelinenumber", "codelineno"}
	// stackNames are the fields that hold tracebacks.
	stackNames = []string{"exception.stacktrace", "stack_trace", "stacktrace", "stack", "error.stack_trace", "error.stack", "err.stack", "exception", "traceback", "exc_info"}
)

// plainName is a field's name as it is compared with those lists.
func plainName(s string) string {
	ok := true
	for i := range len(s) {
		if c := s[i]; c == '_' || c == '-' || c == '.' || c >= 'A' && c <= 'Z' {
			ok = false
			break
		}
	}
	if ok {
		return s
	}
	return strings.ToLower(strings.NewReplacer("_", "", "-", "", ".", "").Replace(s))
}

// found says which fields of a record mean what, by their numbers; -1 for none.
type found struct {
	time, level, message, thread, caller, file, line int
}

// find looks for the fields that mean something.
func (rules *Rules) find(r *record) found {
	f := found{-1, -1, -1, -1, -1, -1, -1}
	rank := [7]int{100, 100, 100, 100, 100, 100, 100}
	into := [7]*int{&f.time, &f.level, &f.message, &f.thread, &f.caller, &f.file, &f.line}
	chosen := [7]string{rules.Time, rules.Level, rules.Message, rules.Thread, rules.Caller, "", ""}
	lists := [7][]string{timeNames, levelNames, messageNames, threadNames, callerNames, fileNames, lineNames}
	const thread = 3
	for i := range r.fields {
		name := r.fields[i].name
		plain := plainName(name)
		for k := range into {
			at := -1
			switch {
			case chosen[k] != "":
				if name == chosen[k] {
					at = 0
				}
			case k == thread && (name == rules.Trace && name != "" || rules.Trace == "" && slices.Contains(traceNames, plain)):
				at = 0
			default:
				if at = slices.Index(lists[k], plain); at >= 0 {
					at++
				}
			}
			if at >= 0 && at < rank[k] {
				rank[k], *into[k] = at, i
			}
		}
	}
	return f
}

// errorLevel reports whether a level is that of an error. Numbers count by tens, as
// many loggers do: 40 is a warning, 50 an error.
func errorLevel(f *field) bool {
	if f.kind == intField {
		return f.number == 50 || f.number == 60
	}
	switch strings.ToLower(f.text) {
	case "error", "err", "fatal", "critical", "crit", "alert", "emerg", "emergency", "panic", "severe", "dpanic":
		return true
	}
	return false
}

// isLevel reports whether a word is a level.
func isLevel(word string) bool {
	switch strings.ToLower(word) {
	case "trace", "debug", "info", "notice", "warn", "warning":
		return true
	}
	return errorLevel(&field{text: word})
}

// Is reports whether the beginning of a text is that of a structured log: most of
// its lines are written in one of the notations, or wrapped by a container.
func Is(sample []byte) bool {
	p := newParser()
	const most = 100
	good, all := 0, 0
	for len(sample) > 0 && all < most {
		line, rest, whole := bytes.Cut(sample, []byte("\n"))
		sample = rest
		line = bytes.TrimSpace(line)
		if len(line) == 0 {
			continue
		}
		if all++; !whole && bytes.HasPrefix(line, []byte("{")) {
			good++ // it was cut off
			continue
		}
		_, wrapped := p.unwrap(line)
		var r record
		switch n := notationOf(line); {
		case wrapped, n == syslogLine, n == logfmtLine, n == jsonLine && p.json(line, &r) == nil:
			good++
		}
	}
	return all > 0 && good*2 >= all
}

// HasTimes reports whether lines of plain text begin with times.
func HasTimes(sample []byte) bool {
	const most = 100
	good, all := 0, 0
	for len(sample) > 0 && all < most {
		line, rest, _ := bytes.Cut(sample, []byte("\n"))
		sample = rest
		if len(bytes.TrimSpace(line)) == 0 || line[0] == ' ' || line[0] == '\t' {
			continue
		}
		all++
		if _, ok, _ := leadingTime(string(line)); ok {
			good++
		}
	}
	return all > 0 && good*3 >= all
}
