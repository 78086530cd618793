// Package structuredlog imports logs whose lines have fields: JSON Lines, logfmt and syslog (RFC
// 5424), each also in the wrapping of container runtimes and system logs (RFC 3164), and lines of
// plain text that begin with a time. Lines with the same trace, or the same value of another field,
// are a thread with one call from the first line to the last. Each line is a message in it, and its
// fields are values.
package structuredlog

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/intake"
	"wraithology/core/mapped"
	"wraithology/core/traceback"
)

// kindName is the name of the kind.
const kindName = "structured-log"

// ErrNoLines means that there is nothing in a log.
var ErrNoLines = errors.New("no lines")

// Limits of a log. Longer lines are cut; threads beyond the limit share one.
const (
	maxLine    = 16 << 20
	maxThreads = 1 << 16
	maxMore    = 1 << 16  // lines that continue a message
	maxItems   = 1 << 14  // of a list
	released   = 32 << 20 // bytes that are read before they are let go from memory
)

// thread is the lines with one value of the field that distinguishes threads.
type thread struct {
	strand      uint32
	f           *intake.Function // the call that its lines are in
	first, last int64
}

// importer carries out one import.
type importer struct {
	in       intake.Input
	finder   *finder
	tables   *intake.Tables
	events   *intake.Events
	f        *intake.Function // of the thread whose line is being added
	parse    *parser
	patterns []pattern
	threads  map[string]*thread
	writers  []string // the first services, containers or programs that wrote lines
	more     int      // how many others did
	wrote    map[string]bool
	last     int64 // the time of the last record that has one, or intake.Unknown
	line     int64
	r        record
	pending  bool
	follow   traceback.Follower
	started  bool // follow has been given the record's message
	written  notation
	partial  map[string][]byte // what an output has of a line so far
	rest     []byte            // what follows the line
	object   []byte            // a JSON object that continues on the next line
	reading  event.Reading
	sample   event.ReadLine // of the record that is pending
	ids      []event.VariableID
	ends     []int
	values   []byte
	raw      []byte
	ev       intake.Event
}

// Build makes the timeline of a log.
func Build(ctx context.Context, in intake.Input, rules Rules) error {
	i := &importer{in: in, finder: newFinder(rules), tables: intake.NewTables(kindName, "log", in), events: intake.NewEvents(in.Temporary), parse: newParser(in.Written, cmp.Or(rules.Zone, time.UTC)),
		threads: map[string]*thread{}, wrote: map[string]bool{}, partial: map[string][]byte{}, last: intake.Unknown, reading: event.Reading{Samples: []event.ReadLine{}, FirstUnread: []event.ReadLine{}}}
	defer i.events.Close()
	i.patterns = rules.patterns
	i.tables.Where = func() string { return "line " + strconv.FormatInt(i.line, 10) }
	file, err := i.asUTF8(in)
	if err != nil {
		return err
	}
	if file != in.File {
		defer file.Close()
	}
	data, err := mapped.File(i, file)
	if err != nil {
		return err
	}
	if err := i.read(ctx, data); err != nil {
		return err
	}
	if len(i.threads) == 0 {
		return ErrNoLines
	}
	i.tables.Process("", func() event.Process { return event.Process{Program: unnamed} })
	i.tables.Header.Program = i.program()
	i.tables.Header.Reading = &i.reading
	if err := i.endThreads(); err != nil {
		return err
	}
	return i.events.Build(ctx, i.tables, in)
}

// read takes the lines one by one.
func (i *importer) read(ctx context.Context, data []byte) error {
	whole, all, free := len(data), data, 0
	data = bytes.TrimPrefix(data, []byte("\ufeff"))
	exported := isJournal(data)
	for len(data) > 0 {
		if i.line++; i.line%(1<<13) == 0 {
			if err := ctx.Err(); err != nil {
				return err
			}
			read := whole - len(data)
			i.in.Report(float64(read) / float64(whole) * 0.7)
			if read-free > released {
				mapped.Release(all[free:read])
				free = read
			}
		}
		if exported {
			size, err := i.entry(data)
			if err != nil {
				return err
			}
			data = data[size:]
			continue
		}
		line, rest, _ := bytes.Cut(data, []byte("\n"))
		data, i.rest = rest, rest
		i.reading.Lines++
		if len(line) > maxLine {
			i.tables.Gap(fmt.Sprintf("line %d is %d bytes long", i.line, len(line)), fmt.Sprintf("only its first %d bytes are here, as a text", maxLine))
			line = line[:maxLine]
		}
		if err := i.take(bytes.TrimRight(line, "\r")); err != nil {
			return err
		}
	}
	if err := i.endObject(); err != nil {
		return err
	}
	for output, text := range i.partial {
		if len(text) > 0 {
			i.tables.Gap("incomplete lines of a container's log", "the log was cut off, or rotated: look at the file before or after")
			if err := i.takeText(text, unwrapped{output: output}); err != nil {
				return err
			}
		}
	}
	return i.flush()
}

// take removes a container's wrapping from a line and joins partial lines.
func (i *importer) take(line []byte) error {
	if bytes.IndexByte(line, 0) >= 0 {
		i.tables.Gap("lines with NUL bytes", "these are left out: the file was emptied or cut off while a program wrote to it")
		line = bytes.ReplaceAll(line, []byte{0}, nil)
	}
	line = withoutColours(line)
	u, ok := i.parse.unwrap(line)
	if !ok {
		return i.takeText(line, unwrapped{})
	}
	if part := i.partial[u.output]; len(part) > 0 || u.partial {
		part = append(part, u.text...)
		if u.partial && len(part) <= maxLine {
			i.partial[u.output] = part
			i.reading.Continuations++
			return nil
		}
		u.text = part
		defer func() { i.partial[u.output] = part[:0] }()
	}
	return i.takeText(u.text, u)
}

// takeText takes a line of the program.
func (i *importer) takeText(line []byte, u unwrapped) error {
	if taken, err := i.joins(line, u); taken || err != nil {
		return err
	}
	n := notationOf(line)
	matched, isMatched := i.matched(line)
	if isMatched {
		n = patternLine
	}
	if n == plainText && i.written == plainText && i.r.output == u.output && i.continues(line) {
		i.reading.Continuations++
		if len(i.r.more) < maxMore {
			i.r.more = append(i.r.more, i.withoutHeading(string(line)))
		} else {
			i.tables.Gap("lines beyond the "+strconv.Itoa(maxMore)+" that can continue a message", "they are left out: give the text as a crash text with --as crash-text")
		}
		return nil
	}
	if n == plainText && len(bytes.TrimSpace(line)) == 0 {
		i.reading.Blank++
		return nil
	}
	if n == plainText && i.completes(string(line)) {
		i.reading.Continuations++
		return nil
	}
	if err := i.flush(); err != nil {
		return err
	}
	p := &i.r
	p.reset()
	i.started, i.written = false, n
	var err error
	read := true
	switch n {
	case patternLine:
		*p = matched
	case jsonLine:
		err = i.parse.json(line, p)
	case logfmtLine:
		err = i.parse.logfmt(line, p)
	case syslogLine:
		err = i.parse.syslog(line, p)
	default:
		read = i.plain(string(line), p) || len(u.fields) > 0
	}
	if err != nil {
		i.tables.Gap("invalid lines", "they are shown as text; the first one is line "+strconv.FormatInt(i.line, 10)+": "+firstLine(err))
		p.reset()
		p.message, read = string(line), false
	}
	i.note(line, read)
	i.r.writer, i.r.output = u.writer, u.output
	return i.begins(u)
}

// matched reads a line by the first pattern that matches it.
func (i *importer) matched(line []byte) (r record, ok bool) {
	for _, of := range i.patterns {
		if i.parse.match(of, string(line), &r) {
			return r, true
		}
	}
	return r, false
}

// mostSample limits the bytes of a line in the account of how it was read, samples the number of lines.
const mostSample, samples = 240, 3

// note counts a line that begins a record, or that could not be read.
func (i *importer) note(line []byte, read bool) {
	i.sample = event.ReadLine{}
	if read {
		i.reading.Records++
	} else {
		i.reading.Unread++
	}
	if read && len(i.reading.Samples) < samples || !read && len(i.reading.FirstUnread) < samples {
		i.sample = event.ReadLine{Line: i.line, Text: intake.Clean(string(line[:min(len(line), mostSample)]))}
	}
	if i.r.unread = !read; !read && i.sample.Line > 0 {
		i.reading.FirstUnread = append(i.reading.FirstUnread, i.sample)
	}
}

// begins makes the record pending.
func (i *importer) begins(u unwrapped) error {
	r := &i.r
	for n := range u.fields {
		if _, ok := r.get(u.fields[n].name); !ok {
			r.fields = append(r.fields, u.fields[n])
		}
	}
	if u.timed && !r.timed {
		r.time, r.guess, r.timed = u.time, u.guess, true
	}
	i.pending = true
	return nil
}

// plain parses a line of plain text: a heading and a message, or a time before a line in another notation.
func (i *importer) plain(line string, r *record) (read bool) {
	if read = i.parse.heading(line, r); !r.timed || len(r.fields) > 0 {
		return read
	}
	before := *r
	var err error
	switch notationOf([]byte(r.message)) {
	case jsonLine:
		err = i.parse.json([]byte(r.message), r)
		r.message = ""
	case logfmtLine:
		err = i.parse.logfmt([]byte(r.message), r)
		r.message = ""
	}
	if err != nil {
		*r = before
	}
	return read
}

// withoutHeading returns a line of plain text without the heading that each line of a traceback may have.
func (i *importer) withoutHeading(line string) string {
	var r record
	i.parse.heading(line, &r)
	return r.message
}

// completes adds a line to the record before, if that has a time and a logger but no message, and the line has a
// level and a message: java.util.logging writes records in two lines.
func (i *importer) completes(line string) bool {
	r := &i.r
	if !i.pending || i.written != plainText || !r.timed || len(r.more) > 0 {
		return false
	}
	if _, has := r.get("level"); has {
		return false
	}
	if _, has := r.get("logger"); !has {
		return false
	}
	var second record
	if !i.parse.heading(line, &second) || second.timed || len(second.fields) != 1 {
		return false
	}
	if r.message != "" {
		r.add("function", r.message)
	}
	r.fields = append(r.fields, second.fields...)
	r.message = second.message
	return true
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// continues reports whether a line of plain text continues the message before: it is indented, or
// part of a traceback that the message began.
func (i *importer) continues(line []byte) bool {
	if !i.pending {
		return false
	}
	if i.belongs(string(line)) {
		i.started = false
		return true
	}
	if len(line) > 0 && (line[0] == ' ' || line[0] == '\t') {
		if i.started {
			i.follow.GoesOn(string(line))
		}
		return true
	}
	if strings.HasPrefix(string(line), "Traceback (most recent call last)") && i.written == plainText && !i.r.unread && len(i.r.more) == 0 {
		return false // of a program that ended; below a record of an error it belongs to that
	}
	if !i.started {
		i.started = true
		i.follow.Begin(i.begun())
	}
	return i.follow.GoesOn(i.withoutHeading(string(line)))
}

// errorHead is the line of an error with its type, before its frames.
var errorHead = regexp.MustCompile(`^(?:[A-Za-z_][\w$]*[.:\\]{1,2})*[A-Za-z_][\w$]*(?:Exception|Error|Throwable|Failure|Interrupt|Warning|Exit|Fault)\b`)

// frameLine is a line of a frame below the line of an error.
var frameLine = regexp.MustCompile(`^\s+(?:at |File "|from |in |#\d+ )|^#\d+ `)

// belongs reports whether a line without a heading begins the traceback that a logger writes below a record of an
// error. What a program prints by itself is a record of its own.
func (i *importer) belongs(line string) bool {
	if i.written != plainText || i.r.unread || len(i.r.more) > 0 {
		return false
	}
	if level, ok := i.r.get("level"); ok && severityOf(level) != failing && !strings.HasPrefix(strings.ToLower(level), "w") {
		return false
	}
	return strings.HasPrefix(line, "Traceback (most recent call last)") || errorHead.MatchString(line) && frameLine.MatchString(i.next())
}

// next is the next line of the program.
func (i *importer) next() string {
	line, _, _ := bytes.Cut(i.rest, []byte("\n"))
	u, _ := i.parse.unwrap(bytes.TrimRight(line[:min(len(line), mostLooked)], "\r"))
	return string(u.text)
}

// begun is what the record that is pending says so far.
func (i *importer) begun() string {
	return strings.Join(append([]string{i.r.message}, i.r.more...), "\n")
}

// flush makes an event of the record that is pending.
func (i *importer) flush() error {
	if !i.pending {
		return nil
	}
	i.pending = false
	r := &i.r
	names := i.finder.find(r)
	i.complete(r, &names)
	switch {
	case r.timed:
	case names.time >= 0:
		if r.time, r.guess, r.timed = r.fields[names.time].moment(&i.parse.clock); r.timed {
			r.fields[names.time].name = "" // the moment has it
		}
	}
	if !r.timed {
		r.time = i.last
		i.tables.Gap("lines without a time", "they are shown after the line before, as undated; --field time=NAME names the field with the time")
	}
	i.last = r.time
	if r.timed {
		i.parse.clock.last = time.Unix(0, r.time)
	}
	switch r.guess {
	case guessedYear:
		i.tables.Gap("lines whose times have no year", "the year is that before the last change of the file")
	case guessedDate:
		i.tables.Gap("lines whose times have no date", "the date is a guess: the first line is on the day before the last change of the file, or on it, and the others follow")
	}
	if r.zone != "" {
		i.tables.Gap("times in the zone "+r.zone+", which several countries use with different offsets", "they are read as without a zone: say which one with --zone")
	}
	return i.message(r, names)
}

// writer returns who wrote a record, or an empty text.
func (i *importer) writer(r *record, names found) string {
	const most, named = 1 << 12, 3
	w := r.writer
	if names.service >= 0 && w == "" {
		w = r.fields[names.service].String()
	}
	if w == "" {
		return ""
	}
	if w = intake.Clean(w); !i.wrote[w] && len(i.wrote) < most {
		if i.wrote[w] = true; len(i.writers) < named {
			i.writers = append(i.writers, w)
		} else {
			i.more++
		}
	}
	return w
}

// program names who wrote the log.
func (i *importer) program() string {
	names := strings.Join(i.writers, ", ")
	if i.more > 0 {
		names += fmt.Sprintf(" and %d more", i.more)
	}
	return names
}

// put adds a value under a name.
func (i *importer) put(name string, value func(b []byte) []byte) {
	id, ok := i.f.Variable([]byte(name))
	if !ok {
		i.tables.Gap("fields beyond the "+strconv.Itoa(intake.MaxVariables)+" names that a log can have", "they are left out: names that hold numbers or IDs are better values")
		return
	}
	i.ids, i.values = append(i.ids, id), value(i.values)
	i.ends = append(i.ends, len(i.values))
}

// account adds a record to the account of how the log was read.
func (i *importer) account(r *record, names found, text string) {
	if r.unread {
		return
	}
	textOf := func(n int) string {
		if n < 0 {
			return ""
		}
		return intake.Clean(shorten(r.fields[n].String()))
	}
	if r.timed {
		i.reading.Timed++
	}
	if names.level >= 0 {
		i.reading.Leveled++
	}
	if s := i.sample; s.Line > 0 {
		if r.timed {
			s.Time = time.Unix(0, r.time).UTC().Format(time.RFC3339Nano)
		}
		s.Level, s.Thread, s.Logger, s.Message = textOf(names.level), textOf(names.thread), textOf(names.logger), intake.Clean(shorten(text))
		i.reading.Samples = append(i.reading.Samples, s)
	}
}

func shorten(s string) string { return s[:min(len(s), mostSample)] }

// message adds the event of a record: its message first, then its fields.
func (i *importer) message(r *record, names found) error {
	i.ids, i.ends, i.values = i.ids[:0], i.ends[:0], i.values[:0]
	t := i.threadOf(r, names)
	i.f = t.f
	if r.message == "" && len(r.more) > 0 {
		r.message, r.more = strings.TrimSpace(r.more[0]), r.more[1:]
	}
	messageName, text := "message", cmp.Or(r.message, r.request)
	if names.message >= 0 {
		f := &r.fields[names.message]
		messageName, text = f.name, f.String()
		f.name = ""
	}
	i.account(r, names, text)
	k := event.Message
	if names.level >= 0 && errorLevel(&r.fields[names.level]) {
		k = event.Error
	}
	i.put(messageName, func(b []byte) []byte { return i.tables.AppendString(b, text) })
	whole := text
	if len(r.more) > 0 {
		whole = strings.Join(append([]string{text}, r.more...), "\n")
		i.put("text", func(b []byte) []byte { return i.tables.AppendString(b, strings.Join(r.more, "\n")) })
	}
	if c, ended, ok := i.crash(r, whole); ok {
		k = event.Error
		if _, ok := r.get("exception.type"); !ok && c.Type != "" {
			i.put("exception.type", func(b []byte) []byte { return i.tables.AppendString(b, c.Type) })
			i.put("exception.message", func(b []byte) []byte { return i.tables.AppendString(b, c.Message) })
		}
		if ended || r.unread {
			i.put(event.Unhandled, func(b []byte) []byte { return event.AppendBool(b, intake.Bool, true) })
		}
	}
	for n := range r.fields {
		if f := &r.fields[n]; f.name != "" {
			i.put(f.name, func(b []byte) []byte { return i.appended(b, f) })
		}
	}
	file, line := i.place(r, names)
	return i.add(t, r.time, k, file, line)
}

// crash looks for a traceback in what a record says: its cause, and whether it ended a program.
func (i *importer) crash(r *record, whole string) (c traceback.Cause, ended, ok bool) {
	texts := []string{whole}
	for _, n := range i.finder.stacks {
		switch f := &r.fields[n]; f.kind {
		case listField:
			list, _ := items(f.text, maxItems)
			var objects []string
			for _, x := range list {
				objects = append(objects, x.text)
			}
			if _, c, ok := traceback.FromObjects(objects); ok {
				of := func(names ...string) string {
					for _, name := range names {
						if v, ok := r.get(name); ok {
							return v
						}
					}
					return ""
				}
				return traceback.Cause{
					Type:    cmp.Or(c.Type, of("thrown.name", "exception.exceptionType", "exception.type", "error.type", "err.type", "errorType", "error_type")),
					Message: cmp.Or(c.Message, of("thrown.message", "exception.message", "error.message", "err.message", "error", "errorMessage")),
				}, false, true
			}
		case textField:
			texts = append(texts, f.text)
		}
	}
	for _, t := range texts {
		if (strings.Contains(t, "\n") || traceback.EndsProgram(t)) && traceback.Is([]byte(t)) {
			if c, ended := traceback.Outermost(t); c.Type != "" || c.Message != "" {
				return c, ended, true
			}
		}
	}
	return traceback.Cause{}, false, false
}

// stackEndings are endings of the names of fields with lists of frames.
var stackEndings = []string{"stack", "stacktrace", "frames", "exception", "traceback", "excinfo"}

// add adds the values in as many events as necessary.
func (i *importer) add(t *thread, time int64, k event.Kind, file event.FileID, line int) error {
	n := len(i.ids)
	if i.tables.Full() && n > 1 {
		i.tables.Gap("lines with too many different sets of fields", "only their messages are kept: names that hold numbers or IDs are better values")
		n = 1
	}
	for from := 0; from == 0 || from < n; from += event.MaxArgs {
		if err := i.addSome(t, time, k, file, line, from, min(from+event.MaxArgs, n)); err != nil {
			return err
		}
		k = event.Fields
	}
	return nil
}

func (i *importer) addSome(t *thread, time int64, k event.Kind, file event.FileID, line, from, to int) error {
	site := i.tables.Site(i.f, file, line, i.ids[from:to])
	begin := 0
	if from > 0 {
		begin = i.ends[from-1]
	}
	i.raw = append(event.AppendEvent(i.raw[:0], k, uint32(site), to-from), i.values[begin:i.ends[to-1]]...)
	t.first, t.last = min(t.first, time), max(t.last, time)
	i.ev = intake.Event{Time: time, Trace: uint32(i.line>>32) + 1, Order: uint32(i.line), Strand: t.strand, Undated: !i.r.timed, Raw: i.raw}
	return i.events.Add(&i.ev)
}

// threadName returns the name of a record's thread. A thread of one process is distinguished from
// those of other programs and hosts.
func (i *importer) threadName(r *record, names found, writer string) string {
	host := ""
	if names.host >= 0 {
		host = intake.Clean(r.fields[names.host].String())
		h := &i.tables.Header
		if h.Host = cmp.Or(h.Host, host); host == h.Host {
			host = ""
		}
	}
	name := writer
	if names.thread >= 0 {
		f := &r.fields[names.thread]
		if v := f.String(); v != "" {
			name = f.name + " " + intake.Clean(v)
			if !names.local {
				return name
			}
			if writer != unnamed {
				name = writer + " " + name
			}
		}
	}
	if host != "" {
		name += " on " + host
	}
	return name
}

// unnamed is the name of a writer of which nothing is known.
const unnamed = "log"

// threadOf returns the thread that a record belongs to.
func (i *importer) threadOf(r *record, names found) *thread {
	writer := cmp.Or(i.writer(r, names), unnamed)
	name := i.threadName(r, names, writer)
	t := i.threads[name]
	if t == nil && len(i.threads) >= maxThreads {
		i.tables.Gap("lines of threads beyond the first "+strconv.Itoa(maxThreads), "they share one thread; --field thread=NAME chooses the field that tells threads apart")
		name = "other threads"
		t = i.threads[name]
	}
	if t == nil {
		f := i.tables.Function([]byte(writer), func() event.Function { return event.Function{Name: writer, Own: true} })
		t = &thread{strand: uint32(len(i.threads) + 1), f: f, first: math.MaxInt64, last: math.MinInt64}
		i.threads[name] = t
		i.events.Strand(t.strand, event.Thread{Number: uint64(t.strand), Name: name})
	}
	return t
}

// endThreads adds the calls that contain the lines of threads.
func (i *importer) endThreads() error {
	for _, t := range i.threads {
		i.ev = intake.Event{Time: t.first, Strand: t.strand, Raw: event.AppendEvent(nil, event.Enter, uint32(t.f.ID), 0)}
		if err := i.events.Add(&i.ev); err != nil {
			return err
		}
		i.ev = intake.Event{Time: t.last, Trace: math.MaxUint32, Order: math.MaxUint32, Strand: t.strand, Ends: true, Raw: event.AppendEvent(nil, event.Leave, 0, 0)}
		if err := i.events.Add(&i.ev); err != nil {
			return err
		}
	}
	return nil
}

// place returns the line of the program that wrote a record, if the record has it.
func (i *importer) place(r *record, names found) (event.FileID, int) {
	file, line := "", 0
	if names.caller >= 0 {
		text := r.fields[names.caller].String()
		if colon := strings.LastIndexByte(text, ':'); colon > 0 {
			if n, err := strconv.Atoi(text[colon+1:]); err == nil {
				file, line = text[:colon], n
			}
		}
	}
	if names.file >= 0 {
		file = r.fields[names.file].String()
	}
	if names.line >= 0 && r.fields[names.line].kind == intField {
		line = int(min(max(r.fields[names.line].number, 0), math.MaxInt32))
	}
	if file == "" || line <= 0 {
		return 0, 0
	}
	return i.tables.File(path.Clean(intake.Clean(file))), line
}

// appended writes a field as a value.
func (i *importer) appended(b []byte, f *field) []byte {
	switch f.kind {
	case intField:
		return event.AppendInt(b, intake.Int, f.number)
	case floatField:
		return event.AppendFloat(b, intake.Double, f.float)
	case boolField:
		return event.AppendBool(b, intake.Bool, f.number != 0)
	case nullField:
		return event.AppendNil(b, intake.String)
	case objectField:
		return i.tables.AppendObject(b, f.text)
	case listField:
		if strings.HasPrefix(f.text, "[") {
			list, more := items(f.text, maxItems)
			if more {
				i.tables.Gap("lists of more than "+strconv.Itoa(maxItems)+" values", "their ends are left out")
			}
			b = event.AppendList(b, intake.List, len(list))
			for n := range list {
				b = event.AppendElement(b, i.appended(nil, &list[n]))
			}
			return b
		}
		return i.tables.AppendObject(b, f.text)
	}
	return i.tables.AppendString(b, f.text)
}
