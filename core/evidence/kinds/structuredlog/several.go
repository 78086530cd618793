package structuredlog

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"unicode/utf16"
	"unicode/utf8"

	"wraithology/core/intake"
)

// mostObject limits the bytes of a JSON object over several lines.
const mostObject = 1 << 20

// joins takes a line of a JSON object that is written over several lines. It reports whether it took the line.
func (i *importer) joins(line []byte, u unwrapped) (taken bool, err error) {
	trimmed := bytes.TrimSpace(line)
	switch {
	case len(i.object) == 0:
		if len(trimmed) != 1 || trimmed[0] != '{' {
			return false, nil
		}
	case len(i.object)+len(line) > mostObject, bytes.HasPrefix(line, []byte("{")):
		return false, i.endObject()
	}
	i.object = append(append(i.object, line...), '\n')
	end := len(line) > 0 && line[0] == '}' // not indented
	if !end {
		i.reading.Continuations++
		return true, nil
	}
	whole := bytes.TrimRight(bytes.TrimSpace(i.object), ",]")
	if err := i.flush(); err != nil {
		return true, err
	}
	i.object = i.object[:0]
	i.r.reset()
	if i.parse.json(whole, &i.r) != nil {
		i.r.reset()
		i.r.message = string(whole)
	}
	i.started, i.written = false, jsonLine
	i.note(whole, i.r.message == "")
	i.r.writer, i.r.output = u.writer, u.output
	return true, i.begins(u)
}

// endObject takes what there is of an object whose end is missing as a text.
func (i *importer) endObject() error {
	if len(i.object) == 0 {
		return nil
	}
	if err := i.flush(); err != nil {
		return err
	}
	i.tables.Gap("JSON objects without an end", "their lines are shown as text")
	i.r.reset()
	i.r.message = string(bytes.TrimSpace(i.object))
	i.object = i.object[:0]
	i.reading.Continuations-- // its first line counts as unread
	i.note([]byte(i.r.message), false)
	i.started, i.written = false, jsonLine
	return i.begins(unwrapped{})
}

// entry takes an entry of the system journal.
func (i *importer) entry(data []byte) (size int, err error) {
	if err := i.flush(); err != nil {
		return 0, err
	}
	i.r.reset()
	size, lines, err := journal(data, &i.r)
	i.reading.Lines += int64(lines)
	if err != nil {
		i.tables.Gap("entries of the system journal that are cut off", "export them again; the first one is at line "+fmt.Sprint(i.line)+": "+firstLine(err))
	}
	if len(i.r.fields) == 0 {
		i.reading.Blank += int64(lines)
		i.line += int64(lines) - 1
		return size, nil
	}
	i.reading.Continuations += int64(lines) - 1
	i.note(data[:min(size, mostSample)], true)
	i.line += int64(lines) - 1
	i.started, i.written = false, jsonLine
	return size, i.begins(unwrapped{})
}

// asUTF8 returns the file, or a copy in UTF-8 if a byte-order mark says that it is in UTF-16 (RFC 2781).
func (i *importer) asUTF8(in intake.Input) (*os.File, error) {
	order, ok := utf16Order(in.File)
	if !ok {
		return in.File, nil
	}
	out, err := os.CreateTemp(in.Temporary, "utf8-*")
	if err != nil {
		return nil, fmt.Errorf("create a file for the log in UTF-8: %w", err)
	}
	_ = os.Remove(out.Name()) // it lasts as long as it is open
	const mark = 2
	r, w := bufio.NewReader(io.NewSectionReader(in.File, mark, in.Size-mark)), bufio.NewWriter(out)
	if err = toUTF8(r, w, order); err == nil {
		err = w.Flush()
	}
	if err != nil {
		out.Close()
		return nil, fmt.Errorf("convert the log to UTF-8: %w", err)
	}
	return out, nil
}

// utf16Order returns the byte order of a file that begins with a byte-order mark of UTF-16.
func utf16Order(r io.ReaderAt) (binary.ByteOrder, bool) {
	var mark [2]byte
	if n, _ := r.ReadAt(mark[:], 0); n < len(mark) {
		return nil, false
	}
	return orderOf(mark[:])
}

func orderOf(b []byte) (binary.ByteOrder, bool) {
	switch {
	case bytes.HasPrefix(b, []byte{0xff, 0xfe}):
		return binary.LittleEndian, true
	case bytes.HasPrefix(b, []byte{0xfe, 0xff}):
		return binary.BigEndian, true
	}
	return nil, false
}

// toUTF8 converts UTF-16. Half a pair becomes U+FFFD.
func toUTF8(r io.Reader, w *bufio.Writer, order binary.ByteOrder) error {
	next := func() (rune, error) {
		var b [2]byte
		if _, err := io.ReadFull(r, b[:]); err != nil {
			return 0, err
		}
		return rune(order.Uint16(b[:])), nil
	}
	c, err := next()
	for err == nil {
		var following rune
		if following, err = next(); utf16.IsSurrogate(c) && err == nil {
			if pair := utf16.DecodeRune(c, following); pair != utf8.RuneError {
				c = pair
				following, err = next()
			} else {
				c = utf8.RuneError
			}
		}
		if _, failed := w.WriteRune(c); failed != nil {
			return failed
		}
		c = following
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil
	}
	return err
}

// sampleAsUTF8 returns the beginning of a file in UTF-8.
func sampleAsUTF8(sample []byte) []byte {
	order, ok := orderOf(sample)
	if !ok {
		return sample
	}
	var out bytes.Buffer
	w := bufio.NewWriter(&out)
	if toUTF8(bytes.NewReader(sample[2:]), w, order) != nil || w.Flush() != nil {
		return sample
	}
	return out.Bytes()
}
