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
	"strconv"
	"strings"

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
	maxItems   = 1 << 10  // of a list
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
	in      intake.Input
	finder  *finder
	tables  *intake.Tables
	events  *intake.Events
	f       *intake.Function // of the thread whose line is being added
	parse   *parser
	threads map[string]*thread
	writers []string // the first services, containers or programs that wrote lines
	more    int      // how many others did
	wrote   map[string]bool
	last    int64
	timed   bool
	line    int64
	r       record
	pending bool
	follow  traceback.Follower
	started bool // follow has been given the record's message
	written notation
	partial map[string][]byte // what an output has of a line so far
	ids     []event.VariableID
	ends    []int
	values  []byte
	raw     []byte
	ev      intake.Event
}

// Build makes the timeline of a log.
func Build(ctx context.Context, in intake.Input, rules Rules) error {
	i := &importer{in: in, finder: newFinder(rules), tables: intake.NewTables(kindName, "log", in), events: intake.NewEvents(in.Temporary), parse: newParser(in.Written),
		threads: map[string]*thread{}, wrote: map[string]bool{}, partial: map[string][]byte{}}
	defer i.events.Close()
	data, err := mapped.File(i, in.File)
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
	if err := i.endThreads(); err != nil {
		return err
	}
	return i.events.Build(ctx, i.tables, in)
}

// read takes the lines one by one.
func (i *importer) read(ctx context.Context, data []byte) error {
	whole, all, free := len(data), data, 0
	data = bytes.TrimPrefix(data, []byte("\ufeff"))
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
		line, rest, _ := bytes.Cut(data, []byte("\n"))
		data = rest
		if len(line) > maxLine {
			i.tables.Gap(fmt.Sprintf("line %d is %d bytes long", i.line, len(line)), fmt.Sprintf("only its first %d bytes are here, as a text", maxLine))
			line = line[:maxLine]
		}
		if err := i.take(bytes.TrimRight(line, "\r")); err != nil {
			return err
		}
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
	u, ok := i.parse.unwrap(line)
	if !ok {
		return i.takeText(line, unwrapped{})
	}
	if u.yearless {
		i.tables.Gap("lines whose times have no year", "the year is that before the last change of the file")
	}
	if part := i.partial[u.output]; len(part) > 0 || u.partial {
		part = append(part, u.text...)
		if u.partial && len(part) <= maxLine {
			i.partial[u.output] = part
			return nil
		}
		u.text = part
		defer func() { i.partial[u.output] = part[:0] }()
	}
	return i.takeText(u.text, u)
}

// takeText takes a line of the program.
func (i *importer) takeText(line []byte, u unwrapped) error {
	n := notationOf(line)
	if n == plainText && i.written == plainText && i.r.output == u.output && i.continues(line) {
		if len(i.r.more) < maxMore {
			_, _, text := leadingTime(string(line[:min(len(line), intake.MaxText)]))
			i.r.more = append(i.r.more, text)
		} else {
			i.tables.Gap("lines beyond the "+strconv.Itoa(maxMore)+" that can continue a message", "they are left out: give the text as a crash text with --as crash-text")
		}
		return nil
	}
	if n == plainText && len(bytes.TrimSpace(line)) == 0 {
		return nil
	}
	if err := i.flush(); err != nil {
		return err
	}
	r := &i.r
	r.reset()
	i.started, i.written, r.writer, r.output = false, n, u.writer, u.output
	var err error
	switch n {
	case jsonLine:
		err = i.parse.json(line, r)
	case logfmtLine:
		err = i.parse.logfmt(line, r)
	case syslogLine:
		err = i.parse.syslog(line, r)
	default:
		i.plain(string(line), r)
	}
	if err != nil {
		i.tables.Gap("invalid lines", "they are shown as text; the first one is line "+strconv.FormatInt(i.line, 10)+": "+firstLine(err))
		r.reset()
		r.message = string(line[:min(len(line), intake.MaxText)])
	}
	for n := range u.fields {
		if _, ok := r.get(u.fields[n].name); !ok {
			r.fields = append(r.fields, u.fields[n])
		}
	}
	if u.timed && !r.timed {
		r.time, r.timed = u.time, true
	}
	i.pending = true
	return nil
}

// plain parses a line of plain text: a time, a level and a message, or a time before a line in
// another notation.
func (i *importer) plain(line string, r *record) {
	r.time, r.timed, r.message = leadingTime(line)
	if !r.timed {
		return
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
	default:
		if level, rest, ok := strings.Cut(r.message, " "); ok {
			if level = strings.Trim(level, "[]:"); isLevel(level) {
				r.message = strings.TrimLeft(rest, " ")
				r.add("level", level)
			}
		}
	}
	if err != nil {
		*r = before
	}
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
	if len(line) > 0 && (line[0] == ' ' || line[0] == '\t') {
		if i.started {
			i.follow.GoesOn(string(line))
		}
		return true
	}
	if !i.started {
		i.started = true
		i.follow.Begin(i.begun())
	}
	_, _, rest := leadingTime(string(line))
	return i.follow.GoesOn(rest)
}

// begun is what the record that is pending says so far.
func (i *importer) begun() string {
	return strings.Join(append([]string{i.r.message}, i.r.more...), "\n")
}

// leadingTime removes the time at the beginning of a line of plain text.
func leadingTime(line string) (t int64, ok bool, rest string) {
	if line == "" || (line[0] < '0' || line[0] > '9') && line[0] != '[' {
		return 0, false, line
	}
	text := strings.TrimPrefix(line, "[")
	end, spaces := 0, 0
	for end < len(text) && end < 48 {
		if c := text[end]; c == ']' || c == ' ' {
			if t, ok := parseTime(text[:end]); ok {
				if next := text[end:]; c == ' ' && len(next) > 1 && next[1] >= '0' && next[1] <= '9' && spaces == 0 && end <= len("2006-01-02") {
					spaces++
					end++
					continue // a date alone; its time of day follows
				}
				if zoned, after, ok := withZone(text, end); ok {
					return zoned, true, strings.TrimLeft(after, "] ")
				}
				return t, true, strings.TrimLeft(text[end:], "] ")
			}
			if spaces++; spaces > 2 {
				break
			}
		}
		end++
	}
	return 0, false, line
}

// withZone parses the time at the beginning of text with a numeric zone after the time of day,
// which ends at end. It returns the text after the zone.
func withZone(text string, end int) (t int64, after string, ok bool) {
	rest := text[end:]
	if len(rest) < 3 || rest[0] != ' ' || rest[1] != '+' && rest[1] != '-' {
		return 0, "", false
	}
	size := strings.IndexAny(rest[1:], " ]") + 1
	if size == 0 {
		size = len(rest)
	}
	t, ok = parseTime(text[:end+size])
	return t, rest[size:], ok
}

// flush makes an event of the record that is pending.
func (i *importer) flush() error {
	if !i.pending {
		return nil
	}
	i.pending = false
	r := &i.r
	names := i.finder.find(r)
	switch {
	case r.timed:
	case names.time >= 0:
		if r.time, r.timed = r.fields[names.time].moment(); r.timed {
			r.fields[names.time].name = "" // the moment has it
		}
	}
	if !r.timed {
		r.time = i.last
		if !i.timed {
			i.tables.Gap("lines before the first one with a time", "they are shown at the beginning")
		} else {
			i.tables.Gap("lines without a time", "they are shown at the time of the line before; --field time=NAME names the field with the time")
		}
	} else {
		i.timed = true
	}
	i.last = r.time
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

// message adds the event of a record: its message first, then its fields.
func (i *importer) message(r *record, names found) error {
	i.ids, i.ends, i.values = i.ids[:0], i.ends[:0], i.values[:0]
	t := i.threadOf(r, names)
	i.f = t.f
	messageName, text := "message", r.message
	if names.message >= 0 {
		f := &r.fields[names.message]
		messageName, text = f.name, f.String()
		f.name = ""
	}
	k := event.Message
	if names.level >= 0 && errorLevel(&r.fields[names.level]) {
		k = event.Error
	}
	i.put(messageName, func(b []byte) []byte { return intake.AppendString(b, text) })
	whole := text
	if len(r.more) > 0 {
		whole = strings.Join(append([]string{text}, r.more...), "\n")
		i.put("text", func(b []byte) []byte { return intake.AppendString(b, strings.Join(r.more, "\n")) })
	}
	if c, ok := i.crash(r, whole); ok {
		k = event.Error
		if _, ok := r.get("exception.type"); !ok && c.Type != "" {
			i.put("exception.type", func(b []byte) []byte { return intake.AppendString(b, c.Type) })
			i.put("exception.message", func(b []byte) []byte { return intake.AppendString(b, c.Message) })
		}
	}
	for n := range r.fields {
		if f := &r.fields[n]; f.name != "" {
			i.put(f.name, f.append)
		}
	}
	file, line := i.place(r, names)
	return i.add(t, r.time, k, file, line)
}

// crash looks for a traceback in what a record says.
func (i *importer) crash(r *record, whole string) (traceback.Cause, bool) {
	texts := []string{whole}
	for _, name := range stackNames {
		if v, ok := r.get(name); ok {
			texts = append(texts, v)
		}
	}
	for _, t := range texts {
		if (strings.Contains(t, "\n") || traceback.EndsProgram(t)) && traceback.Is([]byte(t)) {
			if c := traceback.Outermost(t); c.Type != "" || c.Message != "" {
				return c, true
			}
		}
	}
	return traceback.Cause{}, false
}

// add adds the values in as many events as necessary.
func (i *importer) add(t *thread, time int64, k event.Kind, file event.FileID, line int) error {
	n := len(i.ids)
	if i.tables.Full() && n > 1 {
		i.tables.Gap("lines with too many different sets of fields", "only their messages are kept: names that hold numbers or IDs are better values")
		n = 1
	}
	for from := event.MaxArgs; from < n; from += event.MaxArgs {
		if err := i.addSome(t, time, event.Fields, file, line, from, min(from+event.MaxArgs, n)); err != nil {
			return err
		}
	}
	return i.addSome(t, time, k, file, line, 0, min(n, event.MaxArgs))
}

func (i *importer) addSome(t *thread, time int64, k event.Kind, file event.FileID, line, from, to int) error {
	site := i.tables.Site(i.f, file, line, i.ids[from:to])
	begin := 0
	if from > 0 {
		begin = i.ends[from-1]
	}
	i.raw = append(event.AppendEvent(i.raw[:0], k, uint32(site), to-from), i.values[begin:i.ends[to-1]]...)
	t.first, t.last = min(t.first, time), max(t.last, time)
	i.ev = intake.Event{Time: time, Trace: uint32(i.line>>32) + 1, Order: uint32(i.line), Strand: t.strand, Raw: i.raw}
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

// append writes a field as a value.
func (f *field) append(b []byte) []byte {
	switch f.kind {
	case intField:
		return event.AppendInt(b, intake.Int, f.number)
	case floatField:
		return event.AppendFloat(b, intake.Double, f.float)
	case boolField:
		return event.AppendBool(b, intake.Bool, f.number != 0)
	case nullField:
		return event.AppendNil(b, intake.String)
	case listField:
		if strings.HasPrefix(f.text, "[") {
			list, _ := items(f.text, maxItems)
			b = event.AppendList(b, intake.List, len(list))
			for n := range list {
				b = event.AppendElement(b, list[n].append(nil))
			}
			return b
		}
	}
	return intake.AppendString(b, f.text)
}
