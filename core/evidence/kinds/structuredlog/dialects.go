package structuredlog

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// complete fills in what some libraries write in several fields or in a form of their own.
func (i *importer) complete(r *record, names *found) {
	if names.time < 0 { // seconds and nanoseconds apart, as Log4j writes them
		seconds, ok := r.get("instant.epochSecond")
		if nanos, has := r.get("instant.nanoOfSecond"); ok && has {
			s, err := strconv.ParseInt(seconds, 10, 64)
			n, err2 := strconv.ParseInt(nanos, 10, 64)
			const giga = 1_000_000_000
			if err == nil && err2 == nil && n >= 0 && n < giga && s >= 0 && s < math.MaxInt64/giga {
				r.time, r.timed = s*giga+n, true
			}
		}
	}
	if names.level < 0 { // one letter in s, as MongoDB writes it
		if _, ok := r.get("t.$date"); ok {
			for n := range r.fields {
				if name, letter := levelLetters[strings.TrimRight(r.fields[n].text, "12345")]; letter && r.fields[n].name == "s" {
					r.fields[n].text, names.level = name, n
				}
			}
		}
	}
	if names.message >= 0 && r.fields[names.message].kind == listField { // bytes, as the system journal writes what is not UTF-8
		if text, ok := bytesOf(r.fields[names.message].text); ok {
			r.fields[names.message] = field{name: r.fields[names.message].name, text: text}
		}
	}
}

// bytesOf reads a JSON list of bytes as a text.
func bytesOf(list string) (string, bool) {
	d := jsontext.NewDecoder(strings.NewReader(list))
	if token, err := d.ReadToken(); err != nil || token.Kind() != '[' {
		return "", false
	}
	var out []byte
	for d.PeekKind() == '0' {
		token, err := d.ReadToken()
		if err != nil {
			return "", false
		}
		n, err := strconv.ParseUint(token.String(), 10, 8)
		if err != nil {
			return "", false
		}
		out = append(out, byte(n))
	}
	return string(out), d.PeekKind() == ']' && len(out) > 0
}

// isJournal reports whether a text is the export format of the system journal.
func isJournal(sample []byte) bool {
	return bytes.HasPrefix(sample, []byte("__CURSOR=")) || bytes.HasPrefix(sample, []byte("__REALTIME_TIMESTAMP="))
}

// journal reads one entry in the export format of the system journal: lines NAME=VALUE, or NAME, the size of the
// value in eight bytes and the value; an empty line ends the entry. It returns the size and the number of lines.
func journal(data []byte, r *record) (size, lines int, err error) {
	for size < len(data) {
		line, _, whole := bytes.Cut(data[size:], []byte("\n"))
		lines++
		size += len(line) + 1
		if !whole {
			size--
		}
		if len(line) == 0 {
			break
		}
		if len(r.fields) >= maxFields {
			continue
		}
		name, value, ok := bytes.Cut(line, []byte("="))
		if ok {
			r.add(string(name), string(value))
			continue
		}
		const width = 8
		if size+width > len(data) {
			return len(data), lines, fmt.Errorf("%w: the size of the field %s is missing", ErrLine, name)
		}
		n := binary.LittleEndian.Uint64(data[size:])
		if n > uint64(len(data)-size-width) {
			return len(data), lines, fmt.Errorf("%w: the field %s is cut off", ErrLine, name)
		}
		at := size + width
		size = at + int(n)
		r.add(string(name), string(data[at:size]))
		lines += bytes.Count(data[at:size], []byte("\n"))
		if size < len(data) && data[size] == '\n' {
			size++
			lines++
		}
	}
	return size, lines, nil
}
