package structuredlog

import (
	"bytes"
	"regexp"
)

// containerLine is a line as container runtimes write what a program puts out: its
// time, the stream, whether it is the end of a line of the program (F) or is
// continued (P), and the text.
var containerLine = regexp.MustCompile(`^(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)) (stdout|stderr) ([FP])(?::\S+)? ?`)

// unwrapped is what a container runtime put around a line.
type unwrapped struct {
	time    int64
	timed   bool
	stream  string
	partial bool // the next line of the stream goes on with this one
	text    []byte
}

// unwrap takes the container's wrapping off a line.
func (p *parser) unwrap(line []byte) (u unwrapped, ok bool) {
	if len(line) > 0 && line[0] >= '0' && line[0] <= '9' {
		m := containerLine.FindSubmatch(line)
		if m == nil {
			return u, false
		}
		u = unwrapped{stream: string(m[2]), partial: m[3][0] == 'P', text: line[len(m[0]):]}
		u.time, u.timed = parseTime(string(m[1]))
		return u, true
	}
	if !bytes.HasPrefix(line, []byte(`{"log":`)) { // the other form: an object with the text, the stream and the time
		return u, false
	}
	var r record
	if p.json(line, &r) != nil || len(r.fields) < 3 {
		return u, false
	}
	for i := range r.fields {
		switch f := &r.fields[i]; f.name {
		case "log":
			u.text = []byte(f.text)
		case "stream":
			u.stream = f.text
		case "time":
			u.time, u.timed = f.moment()
		}
	}
	if u.stream == "" {
		return u, false
	}
	u.partial = !bytes.HasSuffix(u.text, []byte("\n"))
	u.text = bytes.TrimRight(u.text, "\r\n")
	return u, true
}
