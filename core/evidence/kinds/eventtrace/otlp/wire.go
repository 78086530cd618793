// Package otlp reads the messages of the OpenTelemetry protocol (OTLP 1.x, opentelemetry-proto v1:
// trace.proto, logs.proto, common.proto, resource.proto) in place, without building objects. It
// converts the JSON form to the binary form.
package otlp

import (
	"errors"
	"fmt"
	"math"

	"google.golang.org/protobuf/encoding/protowire"
)

// ErrMalformed means that bytes are no OTLP message.
var ErrMalformed = errors.New("malformed OTLP")

// fields iterates over the fields of a message. The first error stays.
type fields struct {
	b      []byte
	whole  int
	number protowire.Number
	kind   protowire.Type
	plain  uint64 // the value of a number
	bytes  []byte // the value of a text, byte string or message
	err    error
}

func fieldsOf(b []byte) fields { return fields{b: b, whole: len(b)} }

// at returns where the next field begins.
func (f *fields) at() int { return f.whole - len(f.b) }

func (f *fields) next() bool {
	if len(f.b) == 0 || f.err != nil {
		return false
	}
	n := 0
	if f.b[0] < 0x80 { // the tags of all known fields have one byte, except for flags
		f.number, f.kind, n = protowire.Number(f.b[0]>>3), protowire.Type(f.b[0]&7), 1
		if f.number == 0 {
			return f.fail()
		}
	} else if f.number, f.kind, n = protowire.ConsumeTag(f.b); n < 0 {
		return f.fail()
	}
	rest := f.b[n:]
	f.plain, f.bytes = 0, nil
	switch f.kind {
	case protowire.VarintType:
		f.plain, n = protowire.ConsumeVarint(rest)
	case protowire.Fixed64Type:
		f.plain, n = protowire.ConsumeFixed64(rest)
	case protowire.Fixed32Type:
		var x uint32
		x, n = protowire.ConsumeFixed32(rest)
		f.plain = uint64(x)
	case protowire.BytesType:
		f.bytes, n = protowire.ConsumeBytes(rest)
	default: // groups, which OTLP does not use
		n = protowire.ConsumeFieldValue(f.number, f.kind, rest)
	}
	if n < 0 {
		return f.fail()
	}
	f.b = rest[n:]
	return true
}

func (f *fields) fail() bool {
	f.err = fmt.Errorf("%w: incomplete field at byte %d of a message of %d bytes", ErrMalformed, f.at(), f.whole)
	return false
}

// is reports whether the field has a number and is of bytes.
func (f *fields) is(n protowire.Number) bool {
	return f.number == n && f.kind == protowire.BytesType
}

// Kind says what a record is.
type Kind uint8

// The kinds of record.
const (
	SpanRecord Kind = 1
	LogRecord  Kind = 2
)

// Record is one span or log record: its message, with the messages of its resource and scope. At is
// the offset of the message in the data.
type Record struct {
	Kind     Kind
	Resource []byte
	Scope    []byte
	Message  []byte
	At       int64
}

// Walk calls yield for the records of data: a TracesData, a LogsData, an export request, or several
// of them in sequence. base is the offset of data. For a malformed part it calls trouble with the
// offset, and continues with the next part if trouble returns nil. An error of yield ends the walk
// and is returned.
func Walk(data []byte, base int64, yield func(*Record) error, trouble func(at int64, err error) error) error {
	top := fieldsOf(data)
	for top.next() {
		if !top.is(1) {
			continue
		}
		at := base + int64(top.at()-len(top.bytes))
		if err := walkResource(top.bytes, at, yield); errors.Is(err, ErrMalformed) {
			if err := trouble(at, err); err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
	}
	if top.err != nil {
		return trouble(base+int64(top.at()), top.err)
	}
	return nil
}

func walkResource(b []byte, base int64, yield func(*Record) error) error {
	var r Record
	f := fieldsOf(b)
	for f.next() {
		if f.is(1) {
			r.Resource = f.bytes
		}
	}
	if f.err != nil {
		return f.err
	}
	for f = fieldsOf(b); f.next(); {
		if !f.is(2) {
			continue
		}
		if err := walkScope(f.bytes, base+int64(f.at()-len(f.bytes)), r, yield); err != nil {
			return err
		}
	}
	return nil
}

func walkScope(b []byte, base int64, r Record, yield func(*Record) error) error {
	f := fieldsOf(b)
	for f.next() {
		if f.is(1) {
			r.Scope = f.bytes
		}
	}
	if f.err != nil {
		return f.err
	}
	for f = fieldsOf(b); f.next(); {
		if !f.is(2) {
			continue
		}
		r.Message, r.At = f.bytes, base+int64(f.at()-len(f.bytes))
		var err error
		if r.Kind, err = kindOf(f.bytes); err != nil {
			return err
		}
		if err := yield(&r); err != nil {
			return err
		}
	}
	return nil
}

// kindOf distinguishes spans and log records: their fields with the same number have different
// types.
func kindOf(b []byte) (Kind, error) {
	f := fieldsOf(b)
	for f.next() {
		switch {
		case f.number == 1 && f.kind == protowire.Fixed64Type, f.number == 2 && f.kind == protowire.VarintType, f.number == 11 && f.kind == protowire.Fixed64Type:
			return LogRecord, nil
		case f.number == 1, f.number == 2, f.number == 7 && f.kind == protowire.Fixed64Type, f.number == 11:
			return SpanRecord, nil
		}
	}
	return LogRecord, f.err // without a time or an ID it can only be a log record
}

// Span is a span. Its byte slices are in the message.
type Span struct {
	TraceID, SpanID, ParentID, State, Name []byte
	Start, End                             uint64 // nanoseconds since 1970
	Kind                                   uint8
	Status                                 uint8
	StatusMessage                          []byte
	Attributes, Events, Links              [][]byte
	Dropped                                uint64 // attributes, events and links that the sender left out
}

// Parse reads a span; what it held before is gone.
func (s *Span) Parse(b []byte) error {
	*s = Span{Attributes: s.Attributes[:0], Events: s.Events[:0], Links: s.Links[:0]}
	f := fieldsOf(b)
	for f.next() {
		switch f.number {
		case 1:
			s.TraceID = f.bytes
		case 2:
			s.SpanID = f.bytes
		case 3:
			s.State = f.bytes
		case 4:
			s.ParentID = f.bytes
		case 5:
			s.Name = f.bytes
		case 6:
			s.Kind = uint8(min(f.plain, math.MaxUint8))
		case 7:
			s.Start = f.plain
		case 8:
			s.End = f.plain
		case 9:
			s.Attributes = append(s.Attributes, f.bytes)
		case 10, 12, 14:
			s.Dropped += f.plain
		case 11:
			s.Events = append(s.Events, f.bytes)
		case 13:
			s.Links = append(s.Links, f.bytes)
		case 15:
			status := fieldsOf(f.bytes)
			for status.next() {
				switch status.number {
				case 2:
					s.StatusMessage = status.bytes
				case 3:
					s.Status = uint8(min(status.plain, math.MaxUint8))
				}
			}
			if status.err != nil {
				return status.err
			}
		}
	}
	return f.err
}

// Event is an event of a span.
type Event struct {
	Time       uint64
	Name       []byte
	Attributes [][]byte
	Dropped    uint64
}

// Parse reads an event of a span.
func (e *Event) Parse(b []byte) error {
	*e = Event{Attributes: e.Attributes[:0]}
	f := fieldsOf(b)
	for f.next() {
		switch f.number {
		case 1:
			e.Time = f.plain
		case 2:
			e.Name = f.bytes
		case 3:
			e.Attributes = append(e.Attributes, f.bytes)
		case 4:
			e.Dropped = f.plain
		}
	}
	return f.err
}

// ParseLink reads the span and trace of a link.
func ParseLink(b []byte) (traceID, spanID []byte, err error) {
	f := fieldsOf(b)
	for f.next() {
		switch f.number {
		case 1:
			traceID = f.bytes
		case 2:
			spanID = f.bytes
		}
	}
	return traceID, spanID, f.err
}

// ParseLinkAttributes reads what a link says besides the span that it leads to.
func ParseLinkAttributes(b []byte) (state []byte, attributes [][]byte, err error) {
	f := fieldsOf(b)
	for f.next() {
		switch f.number {
		case 3:
			state = f.bytes
		case 4:
			attributes = append(attributes, f.bytes)
		}
	}
	return state, attributes, f.err
}

// Log is a log record.
type Log struct {
	Time, Observed  uint64
	Severity        uint8
	SeverityText    []byte
	Body            []byte // an AnyValue
	EventName       []byte
	Attributes      [][]byte
	TraceID, SpanID []byte
	Dropped         uint64
}

// Parse reads a log record.
func (l *Log) Parse(b []byte) error {
	*l = Log{Attributes: l.Attributes[:0]}
	f := fieldsOf(b)
	for f.next() {
		switch f.number {
		case 1:
			l.Time = f.plain
		case 2:
			l.Severity = uint8(min(f.plain, math.MaxUint8))
		case 3:
			l.SeverityText = f.bytes
		case 5:
			l.Body = f.bytes
		case 6:
			l.Attributes = append(l.Attributes, f.bytes)
		case 7:
			l.Dropped = f.plain
		case 9:
			l.TraceID = f.bytes
		case 10:
			l.SpanID = f.bytes
		case 11:
			l.Observed = f.plain
		case 12:
			l.EventName = f.bytes
		}
	}
	return f.err
}

// Scope is an instrumentation scope or a resource: its attributes, and for a scope its name and
// version.
type Scope struct {
	Name, Version []byte
	Attributes    [][]byte
}

// ParseScope reads an instrumentation scope.
func ParseScope(b []byte) (s Scope, err error) {
	f := fieldsOf(b)
	for f.next() {
		switch f.number {
		case 1:
			s.Name = f.bytes
		case 2:
			s.Version = f.bytes
		case 3:
			s.Attributes = append(s.Attributes, f.bytes)
		}
	}
	return s, f.err
}

// ParseResource reads the attributes of a resource.
func ParseResource(b []byte) (attributes [][]byte, err error) {
	f := fieldsOf(b)
	for f.next() {
		if f.number == 1 {
			attributes = append(attributes, f.bytes)
		}
	}
	return attributes, f.err
}

// ParseAttribute reads a key and its AnyValue.
func ParseAttribute(b []byte) (key, value []byte, err error) {
	f := fieldsOf(b)
	for f.next() {
		switch f.number {
		case 1:
			key = f.bytes
		case 2:
			value = f.bytes
		}
	}
	return key, value, f.err
}

// ValueKind says what an AnyValue is.
type ValueKind uint8

// The kinds of value, by their field numbers; 0 is no value.
const (
	StringValue ValueKind = 1
	BoolValue   ValueKind = 2
	IntValue    ValueKind = 3
	DoubleValue ValueKind = 4
	ArrayValue  ValueKind = 5
	MapValue    ValueKind = 6
	BytesValue  ValueKind = 7
)

// Value is an AnyValue. Bytes hold a text, a byte string, or the message of a list.
type Value struct {
	Kind  ValueKind
	Bytes []byte
	Plain uint64
}

// Int returns a whole number.
func (v Value) Int() int64 { return int64(v.Plain) }

// Double returns a broken number.
func (v Value) Double() float64 { return math.Float64frombits(v.Plain) }

// Items lists the AnyValues of an array, or the KeyValues of a map.
func (v Value) Items() (items [][]byte, err error) { return ParseResource(v.Bytes) }

// ParseValue reads an AnyValue.
func ParseValue(b []byte) (v Value, err error) {
	f := fieldsOf(b)
	for f.next() {
		wanted := protowire.BytesType
		switch ValueKind(f.number) {
		case BoolValue, IntValue:
			wanted = protowire.VarintType
		case DoubleValue:
			wanted = protowire.Fixed64Type
		case StringValue, ArrayValue, MapValue, BytesValue:
		default:
			continue
		}
		if f.kind != wanted {
			return v, fmt.Errorf("%w: a value is of the wrong type", ErrMalformed)
		}
		v = Value{ValueKind(f.number), f.bytes, f.plain}
	}
	return v, f.err
}

// TraceID reads the whole record and returns the ID of its trace, if it has one.
func (r *Record) TraceID() ([]byte, error) { return traceID(r.Kind, r.Message) }

func traceID(k Kind, message []byte) ([]byte, error) {
	if k == SpanRecord {
		return bytesField(message, 1)
	}
	return bytesField(message, 9)
}

// bytesField reads a whole message and returns one field.
func bytesField(b []byte, n protowire.Number) (value []byte, err error) {
	f := fieldsOf(b)
	for f.next() {
		if f.is(n) {
			value = f.bytes
		}
	}
	return value, f.err
}
