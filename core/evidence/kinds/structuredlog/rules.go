package structuredlog

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"wraithology/core/fault"
	"wraithology/core/intake"
)

// Rules name the fields of a log with a meaning. An empty rule leaves it to the names of the
// fields.
type Rules struct {
	Time, Level, Message, Trace, Thread, Caller string
	// Zone is that of times without one; nil for UTC.
	Zone *time.Location

	patterns []pattern // of lines, which are tried before everything else
}

// ParseRules parses rules from a map of meanings to names.
func ParseRules(pairs map[string]string) (r Rules, err error) {
	for meaning, name := range pairs {
		switch meaning {
		case "zone":
			if r.Zone, err = ParseZone(name); err != nil {
				return r, err
			}
			continue
		case intake.LongestText:
			if n, err := strconv.Atoi(name); err != nil || n < 1 {
				return r, fmt.Errorf("%s=%s: %w: it is a number of bytes", meaning, name, fault.InvalidRule)
			}
			continue
		case "pattern":
			if r.patterns, err = parsePatterns(name); err != nil {
				return r, err
			}
			continue
		}
		into, ok := map[string]*string{"time": &r.Time, "level": &r.Level, "message": &r.Message, "trace": &r.Trace, "thread": &r.Thread, "caller": &r.Caller}[meaning]
		if !ok {
			return r, fmt.Errorf("%s=%s: %w: a field is the time, level, message, trace, thread, caller, zone or pattern", meaning, name, fault.InvalidRule)
		}
		*into = name
	}
	return r, nil
}

// The names of fields with a meaning, in order of preference. Letter case, dots, hyphens and
// underscores are ignored.
var (
	timeNames = []string{"time", "timestamp", "ts", "@timestamp", "datetime", "date", "t", "timeunixnano", "eventtime", "asctime", "@t", "t$date", "recordtimetimestamp", "recordtimerepr", "timemillis",
		"sourcerealtimetimestamp", "realtimetimestamp", "isotimestamp", "createdat", "created", "logtime"}
	levelNames   = []string{"level", "severity", "severitytext", "lvl", "loglevel", "levelname", "recordlevelname", "@l", "priority", "levelvalue", "levelno", "severitynumber"}
	messageNames = []string{"msg", "message", "body", "recordmessage", "event", "text", "log", "@m", "shortmessage", "fieldsmessage", "@mt", "bodystringvalue"}
	traceNames   = []string{"traceid", "oteltraceid"}
	sharedNames  = []string{"requestid", "reqid", "correlationid"}                                                                                                 // of a thread that runs through several processes
	threadNames  = append(sharedNames, "goroutine", "thread", "threadname", "processthreadname", "recordthreadname", "threadid", "tid", "ctx", "pid", "processid") // the others mean something within one process
	callerNames  = []string{"caller", "source"}
	loggerNames  = []string{"logger", "loggername", "loglogger", "channel", "target", "sourcecontext", "category", "recordname", "c"}
	fileNames    = []string{"sourcefile", "file", "filename", "codefilepath", "pathname", "codefile", "recordfilepath", "logoriginfilename"}
	lineNames    = []string{"sourceline", "line", "lineno", "codelinenumber", "codelineno", "codeline", "recordline", "logoriginfileline"}
	hostNames    = []string{"hostname", "host", "podname"}
	serviceNames = []string{"servicename", "service", "app", "application", "program", "syslogidentifier", "systemdunit"}
	// stackNames are the fields that hold tracebacks.
	stackNames = []string{"exception.stacktrace", "stack_trace", "stacktrace", "stack", "error.stack_trace", "error.stack", "err.stack", "exception", "traceback", "exc_info", "full_message", "thrown.extendedStackTrace", "@x", "exception.stackTrace", "stacktrace_text"}
)

var nameLetters = strings.NewReplacer("_", "", "-", "", ".", "")

// plainName normalises a field's name for those lists.
func plainName(s string) string {
	return strings.ToLower(nameLetters.Replace(s))
}

// found are the indexes of the fields with a meaning, -1 for none.
type found struct {
	time, level, message, thread, caller, file, line, service, host, logger int
	local                                                                   bool // the thread's name is unique within one process only
}

const meanings = 11

// ranks say how well a field's name fits each meaning: lower is better, noRank is not at all.
type ranks [meanings]int

const noRank = 1 << 20

// finder finds the fields with a meaning. It caches names.
type finder struct {
	rules Rules
	known map[string]ranks
	// stacks are the fields of the last record that may hold tracebacks.
	stacks []int
}

func newFinder(rules Rules) *finder { return &finder{rules: rules, known: map[string]ranks{}} }

// rank says what a name means.
func (f *finder) rank(name string) ranks {
	r, ok := f.known[name]
	if ok {
		return r
	}
	chosen := [meanings]string{f.rules.Time, f.rules.Level, f.rules.Message, f.rules.Thread, f.rules.Caller, "", "", "", "", "", ""}
	lists := [meanings][]string{timeNames, levelNames, messageNames, threadNames, callerNames, fileNames, lineNames, serviceNames, hostNames, loggerNames, nil}
	const thread = 3
	plain := plainName(name)
	for k := range r {
		r[k] = noRank
		switch {
		case chosen[k] != "":
			if name == chosen[k] {
				r[k] = 0
			}
		case k == thread && (name == f.rules.Trace && name != "" || f.rules.Trace == "" && slices.Contains(traceNames, plain)):
			r[k] = 0
		default:
			if at := slices.Index(lists[k], plain); at >= 0 {
				r[k] = at + 1
			}
		}
	}
	if slices.Contains(stackNames, name) || slices.ContainsFunc(stackEndings, func(s string) bool { return strings.HasSuffix(plain, s) }) {
		r[meanings-1] = 0
	}
	const most = 1 << 16
	if len(f.known) < most {
		f.known[strings.Clone(name)] = r
	}
	return r
}

// find finds the fields of a record with a meaning.
func (f *finder) find(r *record) found {
	out := found{time: -1, level: -1, message: -1, thread: -1, caller: -1, file: -1, line: -1, service: -1, host: -1, logger: -1}
	f.stacks = f.stacks[:0]
	into := [meanings - 1]*int{&out.time, &out.level, &out.message, &out.thread, &out.caller, &out.file, &out.line, &out.service, &out.host, &out.logger}
	const level, thread, numbered = 1, 3, 100
	best := ranks{noRank, noRank, noRank, noRank, noRank, noRank, noRank, noRank, noRank, noRank}
	for i := range r.fields {
		of := f.rank(r.fields[i].name)
		if of[meanings-1] == 0 {
			f.stacks = append(f.stacks, i)
		}
		for k, rank := range of[:meanings-1] {
			if k == thread && rank == 0 && f.rules.Thread == "" && strings.Trim(r.fields[i].String(), "0") == "" {
				continue // loggers write zeros if there is no trace
			}
			if k == level && rank > 0 && rank < noRank && r.fields[i].kind != textField {
				rank += numbered // a level's name tells more than its number
			}
			if rank < best[k] {
				best[k], *into[k] = rank, i
			}
		}
	}
	out.local = best[thread] > len(sharedNames)
	return out
}

// Is reports whether a text begins like a structured log: most lines are in one of the notations,
// or in the wrapping of a container or a system log.
func Is(sample []byte) bool {
	if isJournal(sample) {
		return true
	}
	p := newParser(time.Now(), time.UTC)
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

// HasHeadings reports whether at least a third of the lines of plain text begin with a time or a level.
// Lines that continue others are not counted.
func HasHeadings(sample []byte) bool {
	p := newParser(time.Now(), time.UTC)
	const most = 100
	good, all := 0, 0
	for len(sample) > 0 && all < most {
		line, rest, _ := bytes.Cut(sample, []byte("\n"))
		sample = rest
		if len(bytes.TrimSpace(line)) == 0 || line[0] == ' ' || line[0] == '\t' {
			continue
		}
		all++
		if p.heading(string(withoutColours(line[:min(len(line), mostLooked)])), &record{}) {
			good++
		}
	}
	return all > 0 && good*3 >= all
}

// mostLooked limits the bytes of a line that are looked at to recognise a log.
const mostLooked = 4 << 10
