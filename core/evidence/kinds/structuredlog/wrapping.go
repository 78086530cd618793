package structuredlog

import (
	"bytes"
	"regexp"
	"strconv"
)

// What is put around the lines of a program.
var (
	// containerLine is a line in the format of container runtimes: time, stream, whether it ends a
	// line of the program (F) or is partial (P), and the text.
	containerLine = regexp.MustCompile(`^(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)) (stdout|stderr) ([FP])(?::\S+)? ?`)
	// systemLine is a line of a system log with a time of RFC 3339: time, host, program and
	// process.
	systemLine = regexp.MustCompile(`^(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:?\d\d)) (\S+) (?:([\w./@-]+)\[(\d+)\]|(kernel)): ?`)
	// oldSystemLine is a line of RFC 3164, section 4.1: the time has no year; the priority is often
	// missing.
	oldSystemLine = regexp.MustCompile(`^(?:<(\d{1,3})>)?((?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) [ \d]\d \d\d:\d\d:\d\d(?:\.\d{1,9})?) (\S+) ([\w./@-]+(?:\([\w-]+\))?)(?:\[(\d+)\])?: ?`)
	// namedLine begins with the name of the service or container that wrote it, before a bar or in
	// brackets.
	namedLine = regexp.MustCompile(`^(?:([A-Za-z][\w.-]*) +\| ?|\[pod/([\w./-]+)\] )`)
)

// unwrapped is what was put around a line.
type unwrapped struct {
	time    int64
	timed   bool
	guess   guess
	writer  string // the service, container or program that wrote the line
	output  string // tells outputs apart whose lines are mixed
	partial bool   // the next line of the output continues with this one
	fields  []field
	text    []byte
}

func (u *unwrapped) add(name, text string) {
	u.fields = append(u.fields, field{name: name, text: text})
}

// unwrap removes the wrappings of a line.
func (p *parser) unwrap(line []byte) (u unwrapped, ok bool) {
	const most = 3
	u.text = line
	for range most {
		if !p.unwrapOnce(&u) {
			break
		}
		ok = true
	}
	return u, ok
}

func (p *parser) unwrapOnce(u *unwrapped) bool {
	if len(u.text) == 0 {
		return false
	}
	switch c := u.text[0]; {
	case c >= '0' && c <= '9':
		if m := containerLine.FindSubmatch(u.text); m != nil {
			u.setTime(p.clock.parse(string(m[1])))
			u.output += string(m[2])
			u.partial = m[3][0] == 'P'
			u.add("stream", string(m[2]))
			u.text = u.text[len(m[0]):]
			return true
		}
		if m := systemLine.FindSubmatch(u.text); m != nil {
			u.setTime(p.clock.parse(string(m[1])))
			u.system(string(m[2]), string(m[3])+string(m[5]), string(m[4]))
			u.text = u.text[len(m[0]):]
			return true
		}
	case c == '<' || c >= 'A' && c <= 'S': // Apr to Sep
		if m := oldSystemLine.FindSubmatch(u.text); m != nil {
			u.setTime(p.clock.parse(string(m[2])))
			if priority, err := strconv.Atoi(string(m[1])); err == nil && priority <= highestPriority {
				u.add("level", syslogLevels[priority&7])
			}
			u.system(string(m[3]), string(m[4]), string(m[5]))
			u.text = u.text[len(m[0]):]
			return true
		}
		return u.named()
	case c == '{':
		return p.unwrapObject(u)
	case c == '[' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z':
		return u.named()
	}
	return false
}

// setTime sets the time; what is further in knows better.
func (u *unwrapped) setTime(t int64, of guess, ok bool) {
	if ok {
		u.time, u.guess, u.timed = t, of, true
	}
}

// system sets the fields of a system log's head.
func (u *unwrapped) system(host, app, pid string) {
	u.writer, u.output = app, u.output+app+" "+pid
	u.add("host", host)
	u.add("app", app)
	if pid != "" {
		f := field{name: "pid"}
		f.setNumber(pid)
		u.fields = append(u.fields, f)
	}
}

// named takes the name of the writer off a line.
func (u *unwrapped) named() bool {
	const farthest = 80
	head := u.text[:min(len(u.text), farthest)]
	if !bytes.Contains(head, []byte(" |")) && !bytes.HasPrefix(head, []byte("[pod/")) {
		return false
	}
	m := namedLine.FindSubmatch(head)
	if m == nil {
		return false
	}
	u.writer = string(m[1]) + string(m[2])
	u.output += u.writer
	u.add("service", u.writer)
	u.text = u.text[len(m[0]):]
	return true
}

// unwrapObject parses the JSON wrapping of container runtimes: an object with text, stream and
// time.
func (p *parser) unwrapObject(u *unwrapped) bool {
	if !bytes.HasPrefix(u.text, []byte(`{"log":`)) {
		return false
	}
	var r record
	if p.json(u.text, &r) != nil || len(r.fields) < 3 {
		return false
	}
	stream, text := "", ""
	var t int64
	guessed, timed := noGuess, false
	for i := range r.fields {
		switch f := &r.fields[i]; f.name {
		case "log":
			text = f.text
		case "stream":
			stream = f.text
		case "time":
			t, guessed, timed = f.moment(&p.clock)
		}
	}
	if stream == "" {
		return false
	}
	u.setTime(t, guessed, timed)
	u.output += stream
	u.add("stream", stream)
	u.partial = len(text) == 0 || text[len(text)-1] != '\n'
	u.text = bytes.TrimRight([]byte(text), "\r\n")
	return true
}

// colour matches the sequences with which terminals are told colours and positions (ECMA-48, section 5.4).
var colour = regexp.MustCompile(`\x1b\[[0-?]*[ -/]*[@-~]`)

// withoutColours removes those sequences from a line.
func withoutColours(line []byte) []byte {
	if bytes.IndexByte(line, 0x1b) < 0 {
		return line
	}
	return colour.ReplaceAll(line, nil)
}
