package eventtrace

import (
	"bytes"
	"encoding/hex"
	"math"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/intake"
)

// The names of what a note says besides its attributes.
const (
	nameEvent   = "event"
	nameMessage = "message"
	nameLevel   = "level"
	nameLogger  = "logger"
	nameTime    = "time"
)

// severities names OpenTelemetry's ranges of severity numbers.
var severities = [...]string{"TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"}

const severityError = 17

// isFailing reports whether a severity's text is that of an error; named is false if it is no known level.
func isFailing(text string) (failing, named bool) {
	word := strings.TrimRight(strings.ToUpper(text), "0123456789")
	switch word {
	case "TRACE", "DEBUG", "INFO", "INFORMATION", "NOTICE", "WARN", "WARNING":
		return false, true
	case "ERROR", "FATAL", "CRITICAL", "ALERT", "EMERGENCY", "PANIC", "SEVERE":
		return true, true
	}
	return false, false
}

// logTime returns the time of the log record that was parsed last.
func (i *importer) logTime() int64 {
	t := i.log.Time
	if t == 0 {
		t = i.log.Observed
	}
	if t == 0 {
		i.tables.Gap("log records without a time", "they are shown at the time of the one before; the sender does not set one")
		return i.lastLog
	}
	i.lastLog = i.clock(t)
	return i.lastLog
}

// noted adds a log record or an event of a span. If an inner call is open at that time, it records
// that the event belongs to the outer one.
func (i *importer) noted(base uint32, it item, stack []int32) error {
	g := &i.group
	x, s := &g.notes[it.note], &g.nodes[it.node]
	if !s.open { // a span without a duration, which is over
		if x.isLog {
			return i.looseLog(i.message(x.place), x.resource, x.scope)
		}
		return nil
	}
	depth := slices.Index(stack, it.node) + 1
	if depth < len(stack) {
		if err := i.add(base, s, it.time, event.AppendPlain(i.raw[:0], event.Resume, uint32(depth))); err != nil {
			return err
		}
	}
	f, err := i.function(s)
	if err != nil {
		return err
	}
	i.slots.reset()
	k := event.Message
	if x.isLog {
		k, err = i.logSlots(f, i.message(x.place), x.scope)
	} else {
		k, err = i.eventSlots(f, i.message(x.place))
	}
	if err != nil {
		return err
	}
	if it.time != x.time+s.shift {
		i.put(f, nameTime, func(b []byte) []byte { return event.AppendInt(b, intake.Timestamp, x.time) })
		i.tables.Gap("logs and events outside of the time of their span", "they are shown at its beginning or end; time is the time that was sent")
	}
	if err := i.addSlots(base, s, it.time, k, f); err != nil {
		return err
	}
	if depth < len(stack) {
		return i.add(base, s, it.time, event.AppendPlain(i.raw[:0], event.Resume, uint32(len(stack))))
	}
	return nil
}

// attributes adds the attributes that the slots do not have yet.
func (i *importer) attributes(f *intake.Function, list [][]byte, but ...string) (err error) {
	if i.flat, err = flatten(i.flat[:0], list, nil, 0); err != nil {
		return err
	}
	for _, a := range i.flat {
		name := string(a.key)
		if slices.Contains(but, name) {
			continue
		}
		if slices.Contains(facts[:], name) || name == nameEvent || name == nameMessage || name == nameLevel || name == nameLogger || name == nameTime {
			name = "attributes." + name
		}
		i.put(f, name, func(b []byte) []byte { return i.values.value(b, a.value, 0) })
	}
	return nil
}

// find looks an attribute up.
func find(list [][]byte, name string) (otlp.Value, bool) {
	for _, b := range list {
		key, raw, err := otlp.ParseAttribute(b)
		if err != nil || string(key) != name {
			continue
		}
		v, err := otlp.ParseValue(raw)
		return v, err == nil
	}
	return otlp.Value{}, false
}

// eventSlots adds the values of a span's event.
func (i *importer) eventSlots(f *intake.Function, b []byte) (event.Kind, error) {
	e := &i.event
	if err := e.Parse(b); err != nil {
		return 0, err
	}
	if string(e.Name) == exceptionEvent {
		return event.Error, i.exception(f, e.Attributes)
	}
	i.put(f, nameEvent, func(b []byte) []byte { return i.tables.AppendString(b, string(e.Name)) })
	return event.Message, i.attributes(f, e.Attributes)
}

// exception adds the values of an exception, message first.
func (i *importer) exception(f *intake.Function, attributes [][]byte) error {
	const message = "exception.message"
	v, ok := find(attributes, message)
	if !ok {
		if v, ok = find(attributes, "exception.type"); !ok {
			v = otlp.Value{Kind: otlp.StringValue, Bytes: []byte("an exception that says nothing")}
		}
	}
	i.put(f, message, func(b []byte) []byte { return i.values.value(b, v, 0) })
	return i.attributes(f, attributes, message)
}

// logSlots puts what a log record says into the slots.
func (i *importer) logSlots(f *intake.Function, b []byte, scope uint32) (event.Kind, error) {
	l := &i.log
	if err := l.Parse(b); err != nil {
		return 0, err
	}
	body, err := otlp.ParseValue(l.Body)
	if err != nil {
		return 0, err
	}
	k := event.Message
	message := i.values.text(body, 0)
	if body.Kind == 0 {
		message = string(l.EventName)
	}
	_, isException := find(l.Attributes, "exception.type")
	failing, named := isFailing(string(l.SeverityText))
	if named && failing || !named && l.Severity >= severityError || isException {
		k = event.Error
	}
	i.put(f, nameMessage, func(b []byte) []byte { return i.tables.AppendString(b, message) })
	level := string(l.SeverityText)
	if n := int(l.Severity); level == "" && n > 0 && n <= 4*len(severities) {
		level = severities[(n-1)/4]
	}
	if level != "" {
		i.put(f, nameLevel, func(b []byte) []byte { return i.tables.AppendString(b, level) })
	}
	if l.Dropped > 0 {
		i.tables.Gap("log records with attributes dropped by the sender", "raise the limits of the sender")
	}
	for _, v := range i.outer[scope] {
		if v.Name != "scope.name" {
			i.put(f, v.Name, func(b []byte) []byte { return append(b, v.Data...) })
		}
	}
	if name := i.scopeList[scope].Name; len(name) > 0 {
		i.put(f, nameLogger, func(b []byte) []byte { return i.tables.AppendString(b, string(name)) })
	}
	if len(l.EventName) > 0 {
		i.put(f, nameEvent, func(b []byte) []byte { return i.tables.AppendString(b, string(l.EventName)) })
	}
	if body.Kind == otlp.MapValue {
		items, err := body.Items()
		if err != nil {
			return 0, err
		}
		if err := i.attributes(f, items); err != nil {
			return 0, err
		}
	}
	return k, i.attributes(f, l.Attributes)
}

// looseLogs are the logs of a process without a span: one call from the first to the last.
type looseLogs struct {
	f           *intake.Function
	strand      uint32
	count       uint32
	first, last int64
}

// looseLog adds a log record that belongs to no span.
func (i *importer) looseLog(message []byte, resource, scope uint32) error {
	from := i.senders[resource]
	l := i.loose[from.process]
	if l == nil {
		i.strand++
		l = &looseLogs{strand: i.strand, first: math.MaxInt64, last: math.MinInt64}
		l.f = i.tables.Function(append([]byte("\x00log\x00"), from.service...), func() event.Function {
			return event.Function{Name: from.service + "/log", Own: true}
		})
		i.loose[from.process] = l
		i.events.Strand(l.strand, event.Thread{Name: from.service + " log"})
	}
	i.slots.reset()
	k, err := i.logSlots(l.f, message, scope)
	if err != nil {
		return err
	}
	for _, id := range []struct {
		name string
		id   []byte
	}{{facts[factTrace], i.log.TraceID}, {facts[factSpan], i.log.SpanID}} {
		if len(bytes.Trim(id.id, "\x00")) > 0 {
			i.put(l.f, id.name, func(b []byte) []byte { return event.AppendText(b, intake.String, hex.EncodeToString(id.id)) })
		}
	}
	t := i.logTime()
	l.first, l.last = min(l.first, t), max(l.last, t)
	return i.addLoose(l, from.process, t, k)
}

// addLoose adds the event of the slots.
func (i *importer) addLoose(l *looseLogs, process uint16, time int64, k event.Kind) error {
	return i.eachSlots(k, func(k event.Kind, from, to int) error {
		i.encodeSlots(l.f, 0, k, from, to)
		l.count = min(l.count+1, math.MaxUint32-1)
		i.ev = intake.Event{Time: time, Order: l.count, Strand: l.strand, Process: process, Raw: i.raw}
		return i.events.Add(&i.ev)
	})
}

// endLoose adds the calls that the loose logs are in.
func (i *importer) endLoose() error {
	for process, l := range i.loose {
		if l.count == 0 {
			continue
		}
		i.ev = intake.Event{Time: l.first, Strand: l.strand, Process: process, Raw: event.AppendEvent(nil, event.Enter, uint32(l.f.ID), 0)}
		if err := i.events.Add(&i.ev); err != nil {
			return err
		}
		i.ev = intake.Event{Time: l.last, Order: math.MaxUint32, Strand: l.strand, Process: process, Ends: true, Raw: event.AppendEvent(nil, event.Leave, 0, 0)}
		if err := i.events.Add(&i.ev); err != nil {
			return err
		}
	}
	return nil
}
