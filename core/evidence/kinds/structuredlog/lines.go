package structuredlog

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json/jsontext"
)

// notation is how a line is written.
type notation uint8

const (
	plainText notation = iota
	jsonLine
	logfmtLine
	syslogLine
	patternLine // as a pattern says
)

// ErrLine means that a line is not valid in the notation that it seems to have.
var ErrLine = errors.New("invalid line")

// Bounds of one line.
const (
	maxFields = 1 << 14
	maxNested = 16
)

// parser reads lines.
type parser struct {
	buffer bytes.Buffer
	d      *jsontext.Decoder
	clock  clock
}

var jsonOptions = []jsontext.Options{jsontext.AllowInvalidUTF8(true), jsontext.AllowDuplicateNames(true)}

// newParser returns a parser for a log that was last written at a time, and whose times without a zone are in
// a zone.
func newParser(written time.Time, zone *time.Location) *parser {
	p := &parser{clock: clock{zone: zone, written: written}}
	p.d = jsontext.NewDecoder(&p.buffer, jsonOptions...)
	return p
}

// notationOf tells how a line is written.
func notationOf(line []byte) notation {
	switch trimmed := bytes.TrimLeft(line, " \t\ufeff"); {
	case bytes.HasPrefix(trimmed, []byte("{")):
		return jsonLine
	case syslogHead.Match(trimmed):
		return syslogLine
	case isLogfmt(trimmed):
		return logfmtLine
	}
	return plainText
}

// json parses a JSON object. Members of nested objects have the names of their parents as prefix.
func (p *parser) json(line []byte, r *record) error {
	p.buffer = *bytes.NewBuffer(line)
	p.d.Reset(&p.buffer, jsonOptions...)
	if p.d.PeekKind() != '{' {
		return fmt.Errorf("%w: not a JSON object", ErrLine)
	}
	if err := p.object(r, "", 0); err != nil {
		return fmt.Errorf("%w: at column %d: %w", ErrLine, p.d.InputOffset()+1, err)
	}
	if rest := bytes.TrimSpace(line[p.d.InputOffset():]); len(rest) > 0 {
		return fmt.Errorf("%w: unexpected text after the JSON object, at column %d", ErrLine, p.d.InputOffset()+1)
	}
	return nil
}

func (p *parser) object(r *record, prefix string, depth int) error {
	if _, err := p.d.ReadToken(); err != nil {
		return err
	}
	for p.d.PeekKind() != '}' {
		token, err := p.d.ReadToken()
		if err != nil {
			return err
		}
		name := token.String()
		if prefix != "" {
			name = prefix + "." + name
		}
		if err := p.value(r, name, depth); err != nil {
			return err
		}
	}
	_, err := p.d.ReadToken()
	return err
}

func (p *parser) value(r *record, name string, depth int) error {
	kind := p.d.PeekKind()
	switch {
	case len(r.fields) >= maxFields:
		return p.d.SkipValue()
	case kind == '{' && depth < maxNested:
		return p.object(r, name, depth+1)
	case kind == '{' || kind == '[':
		v, err := p.d.ReadValue()
		if err == nil {
			r.fields = append(r.fields, field{name: name, kind: listField, text: string(v)})
		}
		return err
	}
	token, err := p.d.ReadToken()
	if err != nil {
		return err
	}
	f := scalar(token)
	f.name = name
	r.fields = append(r.fields, f)
	return nil
}

// scalar is a value that has no parts.
func scalar(token jsontext.Token) (f field) {
	switch token.Kind() {
	case 'n':
		f.kind = nullField
	case 't':
		f.kind, f.number = boolField, 1
	case 'f':
		f.kind = boolField
	case '0':
		f.setNumber(token.String())
	default:
		f.text = token.String()
	}
	return f
}

// setNumber parses a number; it is an integer if written as one and in range.
func (f *field) setNumber(s string) {
	if n, err := strconv.ParseInt(s, 10, 64); err == nil {
		f.kind, f.number, f.text = intField, n, ""
		return
	}
	if x, err := strconv.ParseFloat(s, 64); err == nil {
		f.kind, f.float, f.text = floatField, x, s
		return
	}
	f.text = s
}

// items reads the values of a list.
func items(list string, most int) (out []field, more bool) {
	d := jsontext.NewDecoder(strings.NewReader(list), jsonOptions...)
	if token, err := d.ReadToken(); err != nil || token.Kind() != '[' {
		return []field{{text: list}}, false
	}
	for d.PeekKind() != ']' {
		if len(out) == most {
			return out, true
		}
		if k := d.PeekKind(); k == '{' || k == '[' {
			v, err := d.ReadValue()
			if err != nil {
				return out, true
			}
			out = append(out, field{kind: objectField, text: string(v)})
			continue
		}
		token, err := d.ReadToken()
		if errors.Is(err, io.EOF) || err != nil {
			return out, true
		}
		out = append(out, scalar(token))
	}
	return out, false
}

var logfmtPair = regexp.MustCompile(`(?:^|\s)[A-Za-z_@][\w.@/-]*=(?:"(?:[^"\\]|\\.)*"|[^\s"]*)`)

// isLogfmt reports whether a line begins with a pair and has at least two.
func isLogfmt(line []byte) bool {
	const looked = 512
	line = line[:min(len(line), looked)]
	found := logfmtPair.FindAllIndex(line, 2)
	return len(found) == 2 && found[0][0] == 0
}

// plainNumber matches words that are numbers. Words that begin with a zero or have too many digits
// are rather IDs.
var plainNumber = regexp.MustCompile(`^-?(?:0|[1-9]\d{0,17})(?:\.\d{1,17})?(?:[eE][+-]?\d{1,3})?$`)

// logfmt reads pairs of names and values.
func (p *parser) logfmt(line []byte, r *record) error {
	rest := string(line)
	for rest = strings.TrimLeft(rest, " \t"); rest != "" && len(r.fields) < maxFields; rest = strings.TrimLeft(rest, " \t") {
		end := strings.IndexAny(rest, "= \t")
		if end < 0 {
			end = len(rest)
		}
		name := rest[:end]
		rest = rest[end:]
		if !strings.HasPrefix(rest, "=") {
			if name != "" {
				r.fields = append(r.fields, field{name: name, kind: boolField, number: 1}) // a name alone says that it is so
			}
			continue
		}
		rest = rest[1:]
		if strings.HasPrefix(rest, `"`) {
			text, after, ok := quoted(rest)
			if !ok {
				return fmt.Errorf("%w: missing closing quotation mark for column %d", ErrLine, len(line)-len(rest)+1)
			}
			r.add(name, text)
			rest = after
			continue
		}
		if end = strings.IndexAny(rest, " \t"); end < 0 {
			end = len(rest)
		}
		f := field{name: name}
		switch word := rest[:end]; word {
		case "true", "false":
			f.kind, f.number = boolField, map[bool]int64{true: 1}[word == "true"]
		case "null", "nil":
			f.kind = nullField
		default:
			if f.text = word; plainNumber.MatchString(word) {
				f.setNumber(word)
			}
		}
		r.fields = append(r.fields, f)
		rest = rest[end:]
	}
	return nil
}

// quoted reads a text in quotation marks.
func quoted(s string) (text, rest string, ok bool) {
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			text, err := strconv.Unquote(s[:i+1])
			if err != nil {
				text = s[1:i]
			}
			return text, s[i+1:], true
		}
	}
	return "", s, false
}

// syslogHead begins a line of RFC 5424: priority and version.
var syslogHead = regexp.MustCompile(`^<(\d{1,3})>1 `)

// highestPriority is the highest of RFC 5424, section 6.2.1.
const highestPriority = 191

// syslogLevels name the severities of RFC 5424, section 6.2.1.
var syslogLevels = [...]string{"emergency", "alert", "critical", "error", "warning", "notice", "informational", "debug"}

// syslog parses a line of RFC 5424 (section 6): header fields, structured data as SD-ID.PARAM, and
// the message.
func (p *parser) syslog(line []byte, r *record) error {
	head := syslogHead.FindSubmatch(line)
	if head == nil {
		return fmt.Errorf("%w: missing priority and version", ErrLine)
	}
	priority, _ := strconv.Atoi(string(head[1])) // up to three digits
	if priority > highestPriority {
		return fmt.Errorf("%w: priority %d is greater than %d", ErrLine, priority, highestPriority)
	}
	r.add("level", syslogLevels[priority&7])
	r.fields = append(r.fields, field{name: "facility", kind: intField, number: int64(priority >> 3)})
	rest := string(line[len(head[0]):])
	for _, name := range []string{"timestamp", "host", "app", "pid", "msgID"} {
		word, after, ok := strings.Cut(rest, " ")
		if !ok && name != "msgID" {
			return fmt.Errorf("%w: missing field %s", ErrLine, name)
		}
		rest = after
		switch {
		case word == "-":
		case name == "timestamp":
			if r.time, r.guess, r.timed = p.clock.parse(word); !r.timed {
				r.add(name, word)
			}
		case name == "pid":
			f := field{name: name}
			f.setNumber(word)
			r.fields = append(r.fields, f)
		default:
			r.add(name, word)
		}
	}
	rest, err := structuredData(rest, r)
	if err != nil {
		return err
	}
	r.message = strings.TrimPrefix(strings.TrimPrefix(rest, " "), "\ufeff")
	return nil
}

// structuredData parses structured data (RFC 5424, section 6.3) and returns the rest of the line.
func structuredData(s string, r *record) (string, error) {
	if rest, ok := strings.CutPrefix(s, "-"); ok {
		return rest, nil
	}
	for strings.HasPrefix(s, "[") {
		end := strings.IndexAny(s, " ]")
		if end < 0 {
			return s, fmt.Errorf("%w: missing end of an element of structured data", ErrLine)
		}
		id := s[1:end]
		s = s[end:]
		for !strings.HasPrefix(s, "]") {
			s = strings.TrimLeft(s, " ")
			name, after, ok := strings.Cut(s, `="`)
			if !ok {
				return s, fmt.Errorf("%w: the structured data of %s is malformed", ErrLine, id)
			}
			i := 0
			for i < len(after) && after[i] != '"' {
				if after[i] == '\\' {
					i++
				}
				i++
			}
			if i >= len(after) {
				return s, fmt.Errorf("%w: missing end of a value in the structured data of %s", ErrLine, id)
			}
			if len(r.fields) < maxFields {
				r.add(id+"."+name, strings.NewReplacer(`\"`, `"`, `\\`, `\`, `\]`, `]`).Replace(after[:i]))
			}
			s = after[i+1:]
		}
		s = s[1:]
	}
	return s, nil
}
