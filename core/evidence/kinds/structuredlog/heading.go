package structuredlog

import (
	"regexp"
	"slices"
	"strings"
)

// heading reads what is before the message in a line of plain text: time, level, thread, logger, place and
// process, each once, in any order, bare, in brackets or between separators. A line counts only if it has a time or
// a level; else all of it is the message.
type heading struct {
	p         *parser
	r         *record
	anchored  bool // it has a time or a level
	level     bool
	short     bool // the level has three letters
	thread    bool
	logger    bool
	caller    bool
	process   bool
	bracketed bool // the last part was in a bracket
	grouped   int  // the field of a thread that was in a bracket
}

// maxParts limits the parts of a heading.
const maxParts = 12

// mostPart limits the bytes of a heading's part.
const mostPart = 160

// heading parses a line. It reports whether the line has a heading.
func (p *parser) heading(line string, r *record) bool {
	h := heading{p: p, r: r}
	fields := len(r.fields)
	rest := line
	if size := h.special(line); size > 0 {
		rest = line[size:]
	} else {
		for n := range maxParts {
			s := rest
			if n > 0 {
				s = afterSeparators(rest)
			}
			size := h.part(s)
			if size == 0 {
				break
			}
			h.bracketed = s[0] == '['
			rest = s[size:]
		}
	}
	if !h.anchored {
		r.fields, r.time, r.timed, r.message = r.fields[:fields], 0, false, line
		return false
	}
	r.message = afterSeparators(rest)
	h.tail()
	return true
}

// afterSeparators skips spaces, and what separates the parts of a heading.
func afterSeparators(s string) string {
	s = strings.TrimLeft(s, " \t")
	for _, separator := range []string{"---", "--", "-", "|", ":", ">", "]", "*"} {
		if rest, ok := strings.CutPrefix(s, separator); ok && (rest == "" || rest[0] == ' ' || rest[0] == '\t') {
			return strings.TrimLeft(rest, " \t")
		}
	}
	if rest, ok := strings.CutPrefix(s, "|"); ok { // also without a space
		return rest
	}
	return s
}

func (h *heading) add(is *bool, name, text string) {
	*is = true
	h.r.add(name, text)
}

// setLevel sets the level.
func (h *heading) setLevel(word string) {
	h.anchored = true
	h.short = len(word) == 3 && word == strings.ToUpper(word)
	h.add(&h.level, "level", word)
}

// setTime sets the time that begins a text, and returns its size.
func (h *heading) setTime(s string) int {
	t, ok := h.p.clock.begins(s)
	if !ok || h.r.timed {
		return 0
	}
	h.r.time, h.r.guess, h.r.zone, h.r.timed, h.anchored = t.time, t.guess, t.zone, true, true
	return t.size
}

var (
	// letterLine is a level's letter, month and day, time, thread and place.
	letterLine = regexp.MustCompile(`^([IWEFD])(\d\d)(\d\d) (\d\d:\d\d:\d\d(?:\.\d+)?) +(\d+) ([^\s\]]+:\d+)\] ?`)
	// letterGroup is a level's letter, a date of six digits, a time and a place, in brackets.
	letterGroup = regexp.MustCompile(`^\[([DIWEC]) (\d\d)(\d\d)(\d\d) (\d\d:\d\d:\d\d) ([\w.-]+):(\d+)\] ?`)
	// namedLetter is a level's letter and a bracket with time and process, then the level and a name.
	namedLetter = regexp.MustCompile(`^[DIWEFA], \[([^ \]]+) #(\d+)\] +([A-Z]+) -- ([^:]*): ?`)
	// roleLine is a process and its role, a time, and a character for the level.
	roleLine = regexp.MustCompile(`^(\d+):([A-Z]) (\d\d? [A-Z][a-z]{2} \d{4} \d\d:\d\d:\d\d(?:\.\d+)?) ([.*#-]) `)
	// elapsedLine is a level and the seconds since the start.
	elapsedLine = regexp.MustCompile(`^([A-Z]{4})\[(\d{4,})\] `)
	// accessLine is a line of the Common Log Format, also with referrer and agent (the combined format).
	accessLine = regexp.MustCompile(`^(\S+) (\S+) (\S+) \[([^\]]+)\] "((?:[^"\\]|\\.)*)" (\d{3}) (\d+|-)(?: "((?:[^"\\]|\\.)*)" "((?:[^"\\]|\\.)*)")?`)
	// colonLine is a level, a logger and the message.
	colonLine = regexp.MustCompile(`^([A-Z]{4,8}):([\w.]+):`)
	// categoryLine is a level, a category and an event's number; the message is on the next lines.
	categoryLine = regexp.MustCompile(`^(trce|dbug|info|warn|fail|crit): ([\w.` + "`" + `+<>]+)\[(-?\d+)\]$`)
	// leveledChannel is a channel and its level.
	leveledChannel = regexp.MustCompile(`^([\w-]+)\.([A-Z]+): `)
	threadNumbers  = regexp.MustCompile(`^(\d+)#(\d+):(?: \*(\d+))? ?`)
	functionPlace  = regexp.MustCompile(`^([\w.<>]+):([\w<>]+):(\d+)\b`)
	filePlace      = regexp.MustCompile(`^([\w./@+~-]+\.(?:go|py|js|mjs|cjs|ts|tsx|jsx|rs|java|kt|scala|rb|c|cc|cpp|cxx|h|hpp|cs|php|ex|exs|pl|swift|vue|m|lua|clj)):(\d+)(?::\d+)?\b`)
	spanContext    = regexp.MustCompile(`^[\w:.-]+\{[^}]*\}(?::[\w:.-]+\{[^}]*\})*:`)
	tracePair      = regexp.MustCompile(`^([\w.-]*),([0-9a-f]{32}|[0-9a-f]{16}),([0-9a-f]{16})(?:,(?:true|false))?$`)
	hexTrace       = regexp.MustCompile(`^([0-9a-f]{32})(?:-([0-9a-f]{16}))?$`)
	namedNumbers   = regexp.MustCompile(`^(pid|tid|thread|client|remote) ([^\s:]+(?:\.[^\s:]+)*(?::\d+)?)(?::tid (\d+))?$`)
	bracketPair    = regexp.MustCompile(`^([A-Za-z_][\w.-]*)=([^\s=]+)$`)
	requestGroup   = regexp.MustCompile(`^(?:req(?:uest)?[-_:]?.*|[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12})$`)
	exponent       = regexp.MustCompile(`^e[+-]?\d{1,2}`)
	prefixWord     = regexp.MustCompile(`^([A-Za-z][\w./-]*): +`)
	threadWord     = regexp.MustCompile(`^[\w./:#@$+-]+(?: \d+)?$`)
	userAt         = regexp.MustCompile(`^([\w.-]+|\[unknown\])@([\w.-]+|\[unknown\]) `)
	trailingPairs  = regexp.MustCompile(`(?:^|( +))([A-Za-z_][\w.-]*=(?:"(?:[^"\\]|\\.)*"|[^\s"=]*)(?: [A-Za-z_][\w.-]*=(?:"(?:[^"\\]|\\.)*"|[^\s"=]*))*) *$`)
)

// roleLevels are the levels of the characters of roleLine.
var roleLevels = map[string]string{".": "debug", "-": "verbose", "*": "notice", "#": "warning"}

// special parses lines whose parts mean something only together, and returns the size of the heading.
func (h *heading) special(s string) int {
	head := s[:min(len(s), mostPart)]
	if len(head) < 5 {
		return 0
	}
	switch c := head[0]; {
	case c == '[':
		if m := letterGroup.FindStringSubmatch(head); m != nil && h.setTime("20"+m[2]+"-"+m[3]+"-"+m[4]+" "+m[5]) > 0 {
			h.setLevel(levelLetters[m[1]])
			h.add(&h.caller, "caller", m[6]+":"+m[7])
			return len(m[0])
		}
	case isDigit(c):
		if m := roleLine.FindStringSubmatch(head); m != nil && h.setTime(m[3]) > 0 {
			h.add(&h.process, "pid", m[1])
			h.r.add("role", m[2])
			h.setLevel(roleLevels[m[4]])
			return len(m[0])
		}
	}
	if head[0] >= 'A' && head[0] <= 'Z' {
		if m := letterLine.FindStringSubmatch(head); m != nil {
			if at, ok := h.p.clock.begins(strings.ToUpper(months[:][max(0, min(11, int(m[2][0]-'0')*10+int(m[2][1]-'0')-1))]) + " " + m[3] + " " + m[4]); ok {
				h.r.time, h.r.guess, h.r.timed = at.time, at.guess, true
				h.setLevel(levelLetters[m[1]])
				h.add(&h.thread, "thread", m[5])
				h.add(&h.caller, "caller", m[6])
				return len(m[0])
			}
		}
		if m := namedLetter.FindStringSubmatch(head); m != nil && h.setTime(m[1]) > 0 {
			h.add(&h.process, "pid", m[2])
			h.setLevel(m[3])
			if m[4] = strings.TrimSpace(m[4]); m[4] != "" {
				h.add(&h.logger, "logger", m[4])
			}
			return len(m[0])
		}
		if m := elapsedLine.FindStringSubmatch(head); m != nil && severityOf(m[1]) != noLevel {
			h.setLevel(m[1])
			h.r.add("elapsed_s", m[2])
			return len(m[0])
		}
		if m := colonLine.FindStringSubmatch(head); m != nil && severityOf(m[1]) != noLevel {
			h.setLevel(m[1])
			h.add(&h.logger, "logger", m[2])
			return len(m[0])
		}
	}
	if m := categoryLine.FindStringSubmatch(s); len(s) < mostPart && m != nil {
		h.setLevel(map[string]string{"trce": "TRACE", "dbug": "DEBUG", "info": "INFO", "warn": "WARN", "fail": "ERROR", "crit": "CRITICAL"}[m[1]])
		h.add(&h.logger, "logger", m[2])
		h.r.add("event_id", m[3])
		return len(s)
	}
	return h.access(s)
}

// access parses a line of an access log. Its message is the request.
func (h *heading) access(s string) int {
	if !strings.Contains(s[:min(len(s), 2*mostPart)], `] "`) {
		return 0
	}
	m := accessLine.FindStringSubmatch(s)
	if m == nil || h.setTime(m[4]) == 0 {
		return 0
	}
	for i, name := range []string{"client", "ident", "user", "", "", "status", "bytes", "referrer", "agent"} {
		if name == "" || m[i+1] == "" || m[i+1] == "-" {
			continue
		}
		f := field{name: name, text: m[i+1]}
		if name == "status" || name == "bytes" {
			f = field{name: name}
			f.setNumber(m[i+1])
		}
		h.r.fields = append(h.r.fields, f)
	}
	if words := strings.Fields(m[5]); len(words) == 3 {
		h.r.add("method", words[0])
		h.r.add("path", words[1])
		h.r.add("protocol", words[2])
	}
	h.r.request = m[5]
	return len(m[0])
}

// part parses the part of a heading that begins a text, and returns its size; 0 if the message begins.
func (h *heading) part(s string) int {
	if s == "" {
		return 0
	}
	switch s[0] {
	case '[', '(', '<', '{':
		return h.group(s)
	}
	if size := h.setTime(s); size > 0 {
		return size
	}
	if size := levelAt(s, false); size > 0 && !h.level {
		h.setLevel(s[:size])
		return h.afterLevel(s, size)
	}
	if isDigit(s[0]) {
		return h.numbers(s)
	}
	if !h.anchored {
		if m := prefixWord.FindStringSubmatch(s[:min(len(s), mostPart)]); m != nil && !h.logger { // before the time
			if _, timed := h.p.clock.begins(s[len(m[0]):]); timed {
				h.add(&h.logger, "logger", m[1])
				return len(m[0])
			}
		}
		return 0
	}
	return h.name(s)
}

// afterLevel takes what belongs to a level: a colon, the process that Python's task queues add, and Flask's "in".
func (h *heading) afterLevel(s string, size int) int {
	rest := s[size:]
	if name, ok := strings.CutPrefix(rest, " in "); ok {
		if i := strings.Index(name, ": "); i > 0 && !strings.ContainsAny(name[:i], " \t") {
			h.add(&h.logger, "logger", name[:i])
			return size + len(" in ") + i + 1
		}
	}
	if strings.HasPrefix(rest, ":") {
		size++
	}
	return size
}

// numbers parses the numbers of processes and threads.
func (h *heading) numbers(s string) int {
	if m := threadNumbers.FindStringSubmatch(s[:min(len(s), mostPart)]); m != nil && h.anchored {
		h.add(&h.process, "pid", m[1])
		h.add(&h.thread, "tid", m[2])
		if m[3] != "" {
			h.r.add("connection", m[3])
		}
		return len(m[0])
	}
	end := 0
	for end < len(s) && (isDigit(s[end]) || s[end] == '.') {
		end++
	}
	if m := exponent.FindString(s[end:min(len(s), end+8)]); m != "" {
		end += len(m)
	}
	if end == len(s) || s[end] != ' ' && s[end] != '\t' {
		return 0
	}
	next := strings.TrimLeft(s[end:], " \t")
	digits := s[:end]
	const leastEpoch = len("1000000000")
	if t, ok := sinceEpoch(digits); ok && !h.r.timed && end >= leastEpoch {
		h.r.time, h.r.timed, h.anchored = t, true, true
		return end
	}
	level := !h.level && h.levelFollows(next)
	switch {
	case strings.Contains(digits, "."):
	case h.anchored && strings.HasPrefix(next, "---") && !h.process:
		h.add(&h.process, "pid", digits)
		return end
	case h.anchored && level && !h.thread:
		h.add(&h.thread, "thread", digits)
		return end
	case !h.anchored && strings.HasPrefix(next, "["): // milliseconds since the start, before a thread and a level
		if close := strings.IndexByte(next, ']'); close > 0 && levelAt(afterSeparators(next[close+1:]), false) > 0 {
			h.r.add("elapsed_ms", digits)
			return end
		}
	}
	return 0
}

// groupIsLevel reports whether a bracket holds a level.
func (h *heading) groupIsLevel(s string) bool {
	inner, size := bracketed(s)
	inner = strings.TrimSpace(inner)
	return size > 0 && inner != "" && levelAt(inner, true) == len(inner)
}

// bracketed returns what is in the bracket that begins a text, and the size with the bracket; size is 0 if it has no
// end nearby.
func bracketed(s string) (inner string, size int) {
	closing := map[byte]byte{'[': ']', '(': ')', '<': '>', '{': '}'}[s[0]]
	depth := 0
	for i := 0; i < len(s) && i < mostPart; i++ {
		switch s[i] {
		case s[0]:
			depth++
		case closing:
			if depth--; depth == 0 {
				return s[1:i], i + 1
			}
		}
	}
	return "", 0
}

// group parses a bracket.
func (h *heading) group(s string) int {
	whole, size := bracketed(s)
	inner := strings.TrimSpace(whole)
	if size == 0 {
		return 0
	}
	if t := h.setTime(inner); t > 0 {
		h.inside(inner[t:])
		return size
	}
	if !h.level && inner != "" && levelAt(inner, true) == len(inner) {
		h.setLevel(inner)
		return h.afterLevel(s, size)
	}
	if module, level, ok := strings.Cut(inner, ":"); ok && !h.level && levelAt(level, true) == len(level) && level != "" && !strings.Contains(module, " ") {
		h.setLevel(level)
		if module != "" {
			h.add(&h.logger, "logger", module)
		}
		return size
	}
	if !h.anchored { // a name before the time, or a thread before the level
		next := afterSeparators(s[size:])
		switch _, timed := h.p.clock.begins(strings.TrimPrefix(next, "[")); {
		case !threadWord.MatchString(inner) || s[0] != '[':
			return 0
		case timed:
			h.add(&h.logger, "logger", inner)
			return size
		case h.levelFollows(next):
			h.add(&h.thread, "thread", inner)
			return size
		}
		return 0
	}
	if h.named(inner, s[0]) {
		return size
	}
	return 0
}

// inside parses what follows the time in a bracket.
func (h *heading) inside(s string) {
	for n := 0; n < maxParts; n++ {
		s = strings.TrimLeft(s, " \t:,/-|")
		if s == "" {
			return
		}
		end := strings.IndexAny(s, " \t/,")
		if end < 0 {
			end = len(s)
		}
		word := s[:end]
		switch size := levelAt(word, true); {
		case size > 0 && !h.level:
			h.setLevel(word[:size])
			end = size
		case filePlace.MatchString(word) && !h.caller:
			h.add(&h.caller, "caller", word)
		case strings.HasPrefix(word, "#"):
			h.add(&h.process, "pid", word[1:])
		case strings.Contains(word, "::") || strings.Contains(word, ".") && !h.logger:
			h.add(&h.logger, "logger", word)
		case !h.thread:
			h.add(&h.thread, "thread", word)
		}
		s = s[end:]
	}
}

// named parses what is in a bracket after a time or a level, and reports whether it is part of the heading.
func (h *heading) named(inner string, open byte) bool {
	switch m := namedNumbers.FindStringSubmatch(inner); {
	case inner == "" || inner == "-":
	case m != nil:
		h.r.add(m[1], m[2])
		if m[3] != "" {
			h.r.add("tid", m[3])
		}
	case tracePair.MatchString(inner):
		m := tracePair.FindStringSubmatch(inner)
		if m[1] != "" {
			h.r.add("service", m[1])
		}
		h.r.add("trace_id", m[2])
		h.r.add("span_id", m[3])
	case hexTrace.MatchString(inner):
		m := hexTrace.FindStringSubmatch(inner)
		h.r.add("trace_id", m[1])
		if m[2] != "" {
			h.r.add("span_id", m[2])
		}
	case bracketPair.MatchString(inner):
		m := bracketPair.FindStringSubmatch(inner)
		h.r.add(m[1], m[2])
	case filePlace.MatchString(inner) && !h.caller:
		h.add(&h.caller, "caller", filePlace.FindString(inner))
	case requestGroup.MatchString(inner) && len(inner) > len("request"):
		h.r.add("request_id", inner)
	case isNumber(inner):
		if h.process && h.thread {
			return false
		}
		if !h.process {
			h.add(&h.process, "pid", inner)
		} else {
			h.add(&h.thread, "thread", inner)
		}
	case open == '{' || open == '<' || !threadWord.MatchString(inner):
		return false
	case open == '[' && isDotted(inner) && !h.logger:
		h.add(&h.logger, "logger", inner)
	case !h.thread:
		h.grouped = len(h.r.fields)
		h.add(&h.thread, "thread", inner)
	case h.grouped > 0 && h.grouped == len(h.r.fields)-1: // a bracket with the application's name was before it
		h.r.fields[h.grouped].name = "service"
		h.r.add("thread", inner)
	default:
		return false
	}
	return true
}

func isNumber(s string) bool {
	return s != "" && strings.Trim(s, "0123456789") == ""
}

// notLoggers are endings of dotted words that are files and hosts rather than loggers.
var notLoggers = strings.Fields("yaml yml json txt log conf cfg xml toml ini csv sql sh html css pem crt key so exe dll zip gz tar pdf png jpg com org net io dev local internal")

// isDotted reports whether a word looks like the name of a logger: names with dots or colons between.
func isDotted(word string) bool {
	if strings.Contains(word, "://") || strings.HasPrefix(word, "/") || strings.HasSuffix(word, ".") || strings.ContainsAny(word, `"'=,;()`) {
		return false
	}
	if strings.Contains(word, "::") {
		return true
	}
	last := strings.LastIndexByte(word, '.')
	return last > 0 && !isNumber(strings.ReplaceAll(word, ".", "")) && !slices.Contains(notLoggers, strings.ToLower(word[last+1:]))
}

// name parses a name after a time or a level: of a place, a user or a logger.
func (h *heading) name(s string) int {
	head := s[:min(len(s), mostPart)]
	if m := filePlace.FindString(head); m != "" && !h.caller {
		h.add(&h.caller, "caller", m)
		return len(m) + len(colonAfter(s[len(m):]))
	}
	if m := functionPlace.FindStringSubmatch(head); m != nil && !h.caller && !h.logger {
		h.add(&h.logger, "logger", m[1])
		h.add(&h.caller, "function", m[2])
		line := field{name: "line"}
		line.setNumber(m[3])
		h.r.fields = append(h.r.fields, line)
		return len(m[0])
	}
	if m := leveledChannel.FindStringSubmatch(head); m != nil && !h.level && severityOf(m[2]) != noLevel {
		h.add(&h.logger, "logger", m[1])
		h.setLevel(m[2])
		return len(m[0])
	}
	if m := userAt.FindStringSubmatch(head); m != nil && !h.level {
		h.r.add("user", m[1])
		h.r.add("database", m[2])
		return len(m[0]) - 1
	}
	if m := spanContext.FindString(head); m != "" {
		h.r.add("spans", strings.TrimSuffix(m, ":"))
		return len(m)
	}
	if h.logger {
		return 0
	}
	end := strings.IndexAny(head, " \t|")
	if end < 0 {
		return 0
	}
	word, after := head[:end], head[end:]
	plain := strings.TrimSuffix(word, ":")
	if plain == "" || !isLetter(plain[0]) && plain[0] != '_' || strings.ContainsAny(plain, `"'=,;()[]{}`) {
		return 0
	}
	spaced := strings.TrimLeft(after, " \t")
	apart := len(after) > 0 && (after[0] == '\t' || after[0] == '|') ||
		strings.HasPrefix(spaced, "- ") || strings.HasPrefix(spaced, "-- ") || strings.HasPrefix(spaced, ": ") || strings.HasPrefix(spaced, "| ")
	switch {
	case word != plain && isDotted(plain), word == plain && apart && (!h.level && h.levelFollows(after) || isDotted(word) || h.level && len(word) > 2 && (h.bracketed || isUpper(rune(word[0])) || after[0] != ' ')):
	case word == plain && strings.Count(word, ".") >= 2 && isDotted(word) && strings.IndexFunc(word, isUpper) > 0: // a class, or a class and its method
	default:
		return 0
	}
	h.add(&h.logger, "logger", plain)
	return end
}

// levelFollows reports whether the next part is a level.
func (h *heading) levelFollows(s string) bool {
	next := afterSeparators(s)
	return levelAt(next, false) > 0 || strings.HasPrefix(next, "[") && h.groupIsLevel(next)
}

func isUpper(c rune) bool { return c >= 'A' && c <= 'Z' }

// colonAfter returns the colon that begins a text, or nothing.
func colonAfter(s string) string {
	if strings.HasPrefix(s, ":") {
		return ":"
	}
	return ""
}

// tail parses the pairs or the object at the end of a message. They are taken off it where they are set apart.
func (h *heading) tail() {
	message := h.r.message
	if i := strings.LastIndex(message, "\t{"); i >= 0 && strings.HasSuffix(message, "}") {
		n := len(h.r.fields)
		if h.p.json([]byte(message[i+1:]), h.r) == nil {
			h.r.message = message[:i]
			return
		}
		h.r.fields = h.r.fields[:n]
	}
	const longest = 4096
	if len(message) > longest || !strings.Contains(message, "=") {
		return
	}
	m := trailingPairs.FindStringSubmatchIndex(message)
	if m == nil || m[2] < 0 {
		return
	}
	pairs := message[m[4]:m[5]]
	if h.p.logfmt([]byte(pairs), h.r) != nil {
		return
	}
	if h.short || m[3]-m[2] > 1 {
		h.r.message = message[:m[0]]
	}
}
