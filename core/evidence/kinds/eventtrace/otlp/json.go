package otlp

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
	"google.golang.org/protobuf/encoding/protowire"
)

// The JSON form of OTLP (OTLP specification, "JSON Protobuf Encoding") is converted to the binary
// form by tables of the members. Unknown members are skipped, as the specification requires.

type memberKind uint8

const (
	textMember memberKind = iota + 1
	hexMember
	base64Member
	fixed64Member
	fixed32Member
	varintMember
	enumMember
	boolMember
	doubleMember
	messageMember
)

type member struct {
	number protowire.Number
	kind   memberKind
	of     messageType
}

type messageType map[string]member

var (
	valueType     = messageType{}
	attributeType = messageType{"key": {1, textMember, nil}, "value": {2, messageMember, valueType}}
	valuesType    = messageType{"values": {1, messageMember, valueType}}
	entriesType   = messageType{"values": {1, messageMember, attributeType}}
	resourceType  = messageType{"attributes": {1, messageMember, attributeType}}
	scopeType     = messageType{"name": {1, textMember, nil}, "version": {2, textMember, nil}, "attributes": {3, messageMember, attributeType}}
	eventType     = messageType{"timeunixnano": {1, fixed64Member, nil}, "name": {2, textMember, nil}, "attributes": {3, messageMember, attributeType}, "droppedattributescount": {4, varintMember, nil}}
	linkType      = messageType{"traceid": {1, hexMember, nil}, "spanid": {2, hexMember, nil}, "tracestate": {3, textMember, nil}, "attributes": {4, messageMember, attributeType}}
	statusType    = messageType{"message": {2, textMember, nil}, "code": {3, enumMember, nil}}
	spanType      = messageType{
		"traceid": {1, hexMember, nil}, "spanid": {2, hexMember, nil}, "tracestate": {3, textMember, nil}, "parentspanid": {4, hexMember, nil}, "name": {5, textMember, nil},
		"kind": {6, enumMember, nil}, "starttimeunixnano": {7, fixed64Member, nil}, "endtimeunixnano": {8, fixed64Member, nil}, "attributes": {9, messageMember, attributeType},
		"droppedattributescount": {10, varintMember, nil}, "events": {11, messageMember, eventType}, "droppedeventscount": {12, varintMember, nil},
		"links": {13, messageMember, linkType}, "droppedlinkscount": {14, varintMember, nil}, "status": {15, messageMember, statusType}, "flags": {16, fixed32Member, nil},
	}
	logType = messageType{
		"timeunixnano": {1, fixed64Member, nil}, "severitynumber": {2, enumMember, nil}, "severitytext": {3, textMember, nil}, "body": {5, messageMember, valueType},
		"attributes": {6, messageMember, attributeType}, "droppedattributescount": {7, varintMember, nil}, "flags": {8, fixed32Member, nil}, "traceid": {9, hexMember, nil},
		"spanid": {10, hexMember, nil}, "observedtimeunixnano": {11, fixed64Member, nil}, "eventname": {12, textMember, nil},
	}
)

func init() { // the type of values leads back to itself
	for name, m := range map[string]member{"stringvalue": {1, textMember, nil}, "boolvalue": {2, boolMember, nil}, "intvalue": {3, varintMember, nil}, "doublevalue": {4, doubleMember, nil},
		"arrayvalue": {5, messageMember, valuesType}, "kvlistvalue": {6, messageMember, entriesType}, "bytesvalue": {7, base64Member, nil}} {
		valueType[name] = m
	}
}

// plainKey normalises a member's name: the specification lets senders write lowerCamelCase, and
// readers should accept the names of the fields too.
func plainKey(s string) string { return strings.ToLower(strings.ReplaceAll(s, "_", "")) }

// enumNames are the names of enumerated numbers that are used here.
var enumNames = map[string]uint64{
	"SPAN_KIND_INTERNAL": 1, "SPAN_KIND_SERVER": 2, "SPAN_KIND_CLIENT": 3, "SPAN_KIND_PRODUCER": 4, "SPAN_KIND_CONSUMER": 5, "STATUS_CODE_OK": 1, "STATUS_CODE_ERROR": 2,
	"SEVERITY_NUMBER_TRACE": 1, "SEVERITY_NUMBER_DEBUG": 5, "SEVERITY_NUMBER_INFO": 9, "SEVERITY_NUMBER_WARN": 13, "SEVERITY_NUMBER_ERROR": 17, "SEVERITY_NUMBER_FATAL": 21,
}

// Limits of a part of the output, and of the data that is kept until it can be written.
const (
	partSize   = 1 << 20
	maxPending = 256 << 20
)

// ErrOther means that a JSON value contains neither traces nor logs of OTLP.
var ErrOther = errors.New("not OTLP traces or logs")

// Transcoder writes OTLP's JSON form as the binary one.
type Transcoder struct {
	d        *jsontext.Decoder
	w        io.Writer
	resource []byte
	scope    []byte
	records  []byte
	pending  []byte // whole scopes that wait for their resource
	buf      []byte
	known    bool // the resource has been read
	// Others counts values that are neither traces nor logs, such as metrics.
	Others int
}

// NewTranscoder returns a transcoder from the JSON values in r to messages in w.
func NewTranscoder(r io.Reader, w io.Writer) *Transcoder {
	return &Transcoder{d: jsontext.NewDecoder(r, jsontext.AllowInvalidUTF8(true), jsontext.AllowDuplicateNames(true)), w: w}
}

// At returns how many bytes have been read.
func (t *Transcoder) At() int64 { return t.d.InputOffset() }

// Next transcodes the next value: an export request or a TracesData. It returns io.EOF if there is
// none. Other errors wrap ErrMalformed or ErrOther.
func (t *Transcoder) Next() error {
	if t.d.PeekKind() == 0 { // invalid, or the end
		_, err := t.d.ReadToken()
		if errors.Is(err, io.EOF) {
			return io.EOF
		}
		return malformed(err)
	}
	found := false
	err := t.object(func(name string) error {
		switch name {
		case "resourcespans", "resourcelogs":
			found = true
			return t.array(t.resourceOf)
		case "resourcemetrics", "resourceprofiles":
			found = true
			t.Others++
		}
		return t.skip()
	})
	if err == nil && !found {
		err = ErrOther
	}
	return err
}

// malformed wraps an error of the JSON reader in ErrMalformed. Errors of writing stay as they are.
func malformed(err error) error {
	if err == nil || errors.Is(err, ErrMalformed) || errors.Is(err, ErrOther) {
		return err
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("%w: unexpected end of the JSON text", ErrMalformed)
	}
	return fmt.Errorf("%w: %w", ErrMalformed, err)
}

func (t *Transcoder) skip() error { return malformed(t.d.SkipValue()) }

// object reads an object and calls f for the value of each member.
func (t *Transcoder) object(f func(name string) error) error {
	if there, err := t.begin('{', "an object"); !there {
		return err
	}
	for t.d.PeekKind() != '}' {
		token, err := t.d.ReadToken()
		if err != nil {
			return malformed(err)
		}
		if err := f(plainKey(token.String())); err != nil {
			return err
		}
	}
	_, err := t.d.ReadToken()
	return malformed(err)
}

// begin reads the beginning of an object or an array. It returns false for null.
func (t *Transcoder) begin(k jsontext.Kind, what string) (there bool, err error) {
	token, err := t.d.ReadToken()
	switch {
	case err != nil:
		return false, malformed(err)
	case token.Kind() == 'n':
		return false, nil
	case token.Kind() != k:
		return false, fmt.Errorf("%w: expected %s at byte %d of the JSON text", ErrMalformed, what, t.At())
	}
	return true, nil
}

// array reads an array, and has each element read by f.
func (t *Transcoder) array(f func() error) error {
	if there, err := t.begin('[', "an array"); !there {
		return err
	}
	for t.d.PeekKind() != ']' {
		if err := f(); err != nil {
			return err
		}
	}
	_, err := t.d.ReadToken()
	return malformed(err)
}

func (t *Transcoder) resourceOf() error {
	t.resource, t.pending, t.known = t.resource[:0], t.pending[:0], false
	err := t.object(func(name string) (err error) {
		switch name {
		case "resource":
			t.known = true
			t.resource, err = t.message(t.resource[:0], resourceType, 0)
			return err
		case "scopespans", "scopelogs", "instrumentationlibraryspans":
			return t.array(t.scopeOf)
		}
		return t.skip()
	})
	if err != nil {
		return err
	}
	return t.emit()
}

func (t *Transcoder) scopeOf() error {
	t.scope, t.records = t.scope[:0], t.records[:0]
	scopeKnown := false
	err := t.object(func(name string) (err error) {
		switch name {
		case "scope", "instrumentationlibrary":
			scopeKnown = true
			t.scope, err = t.message(t.scope[:0], scopeType, 0)
			return err
		case "spans", "logrecords":
			of := spanType
			if name == "logrecords" {
				of = logType
			}
			return t.array(func() error {
				if t.buf, err = t.message(t.buf[:0], of, 0); err != nil {
					return err
				}
				t.records = protowire.AppendBytes(protowire.AppendTag(t.records, 2, protowire.BytesType), t.buf)
				if len(t.records) > maxPending {
					return fmt.Errorf("%w: too many records before their scope", ErrMalformed)
				}
				if len(t.records) > partSize && t.known && scopeKnown {
					t.endScope()
					return t.emit()
				}
				return nil
			})
		}
		return t.skip()
	})
	if err != nil {
		return err
	}
	t.endScope()
	if t.known {
		return t.emit()
	}
	if len(t.pending) > maxPending {
		return fmt.Errorf("%w: too many scopes before their resource", ErrMalformed)
	}
	return nil
}

// endScope moves the records into a scope of their own.
func (t *Transcoder) endScope() {
	if len(t.records) == 0 {
		return
	}
	scope := protowire.AppendBytes(protowire.AppendTag(nil, 1, protowire.BytesType), t.scope)
	t.pending = protowire.AppendVarint(protowire.AppendTag(t.pending, 2, protowire.BytesType), uint64(len(scope)+len(t.records)))
	t.pending = append(append(t.pending, scope...), t.records...)
	t.records = t.records[:0]
}

// emit writes the pending scopes with their resource.
func (t *Transcoder) emit() error {
	if len(t.pending) == 0 {
		return nil
	}
	resource := protowire.AppendBytes(protowire.AppendTag(nil, 1, protowire.BytesType), t.resource)
	head := protowire.AppendVarint(protowire.AppendTag(nil, 1, protowire.BytesType), uint64(len(resource)+len(t.pending)))
	for _, b := range [][]byte{head, resource, t.pending} {
		if _, err := t.w.Write(b); err != nil {
			return fmt.Errorf("write converted messages: %w", err)
		}
	}
	t.pending = t.pending[:0]
	return nil
}

// message appends the message of the next object.
func (t *Transcoder) message(b []byte, of messageType, depth int) ([]byte, error) {
	if depth > maxDepth {
		return b, fmt.Errorf("%w: values nested more than %d levels", ErrMalformed, maxDepth)
	}
	err := t.object(func(name string) (err error) {
		m, ok := of[name]
		if !ok {
			return t.skip()
		}
		if t.d.PeekKind() == 'n' { // as if it were left off
			return t.skip()
		}
		if m.kind == messageMember && t.d.PeekKind() == '[' {
			return t.array(func() (err error) {
				b, err = t.member(b, m, depth)
				return err
			})
		}
		b, err = t.member(b, m, depth)
		return err
	})
	return b, err
}

func (t *Transcoder) member(b []byte, m member, depth int) ([]byte, error) {
	if m.kind == messageMember {
		b = protowire.AppendTag(b, m.number, protowire.BytesType)
		from := len(b)
		b, err := t.message(b, m.of, depth+1)
		if err != nil {
			return b, err
		}
		size := len(b) - from
		b = protowire.AppendVarint(b, uint64(size)) // makes room
		copy(b[from+protowire.SizeVarint(uint64(size)):], b[from:from+size])
		protowire.AppendVarint(b[:from], uint64(size))
		return b, nil
	}
	token, err := t.d.ReadToken()
	if err != nil {
		return b, malformed(err)
	}
	b, ok := appendMember(b, m, token)
	if !ok {
		return b, fmt.Errorf("%w: unexpected type of the value that ends at byte %d of the JSON text", ErrMalformed, t.At())
	}
	return b, nil
}

func appendMember(b []byte, m member, token jsontext.Token) ([]byte, bool) {
	isText, isNumber := token.Kind() == '"', token.Kind() == '0'
	switch m.kind {
	case textMember:
		return protowire.AppendString(protowire.AppendTag(b, m.number, protowire.BytesType), token.String()), isText
	case hexMember:
		id, err := hex.DecodeString(token.String())
		return protowire.AppendBytes(protowire.AppendTag(b, m.number, protowire.BytesType), id), isText && err == nil
	case base64Member:
		text := strings.TrimRight(strings.NewReplacer("-", "+", "_", "/").Replace(token.String()), "=")
		x, err := base64.RawStdEncoding.DecodeString(text)
		return protowire.AppendBytes(protowire.AppendTag(b, m.number, protowire.BytesType), x), isText && err == nil
	case boolMember:
		return protowire.AppendVarint(protowire.AppendTag(b, m.number, protowire.VarintType), protowire.EncodeBool(token.Kind() == 't')), token.Kind() == 't' || token.Kind() == 'f'
	case doubleMember:
		x, err := strconv.ParseFloat(token.String(), 64) // NaN and Infinity are written as texts
		return protowire.AppendFixed64(protowire.AppendTag(b, m.number, protowire.Fixed64Type), math.Float64bits(x)), (isText || isNumber) && err == nil
	}
	if !isText && !isNumber {
		return b, false
	}
	n, ok := wholeNumber(token.String())
	if !ok && m.kind == enumMember {
		n, ok = enumNames[token.String()]
		ok = ok || strings.HasSuffix(token.String(), "_UNSPECIFIED") || strings.HasSuffix(token.String(), "_UNSET")
	}
	switch m.kind {
	case fixed64Member:
		b = protowire.AppendFixed64(protowire.AppendTag(b, m.number, protowire.Fixed64Type), n)
	case fixed32Member:
		b = protowire.AppendFixed32(protowire.AppendTag(b, m.number, protowire.Fixed32Type), uint32(n))
	default:
		b = protowire.AppendVarint(protowire.AppendTag(b, m.number, protowire.VarintType), n)
	}
	return b, ok
}

// wholeNumber reads a whole number; 64-bit ones are written as texts.
func wholeNumber(s string) (uint64, bool) {
	if n, err := strconv.ParseUint(s, 10, 64); err == nil {
		return n, true
	}
	if n, err := strconv.ParseInt(s, 10, 64); err == nil {
		return uint64(n), true
	}
	x, err := strconv.ParseFloat(s, 64) // such as 1.5e18
	if err != nil || x != math.Trunc(x) || math.Abs(x) >= 1<<63 {
		return 0, false
	}
	return uint64(int64(x)), true
}
