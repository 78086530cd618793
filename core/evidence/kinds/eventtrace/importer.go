// Package eventtrace imports spans and log records of the OpenTelemetry protocol. The start of a
// span is a call and its end a return. Its events and logs are in between, and its attributes are
// values. Each service is a process, whose threads are strands of spans that follow each other or
// are nested.
package eventtrace

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/intake"
	"wraithology/core/mapped"
	"wraithology/core/ordered"
)

// kindName is the name of the kind.
const kindName = "event-trace"

// ErrNoEvents means that there is nothing in what was read.
var ErrNoEvents = errors.New("no spans or log records")

// importer carries out one import.
type importer struct {
	tables *intake.Tables
	traces *ordered.Sorter // records, by their trace
	events *intake.Events
	data   []byte
	bytes  int64 // of all messages

	resources map[string]uint32
	scopes    map[string]uint32
	senders   []sender
	scopeList []otlp.Scope
	outer     [][]event.Named // of scopes
	strand    uint32
	link      uint32
	trace     uint32
	loose     map[uint16]*looseLogs
	skew      map[clocks]int64
	future    int64 // times after this are doubted
	lastLog   int64

	now      nowAt
	span     otlp.Span
	event    otlp.Event
	log      otlp.Log
	values   valueWriter
	group    group
	flat     []attribute
	slots    slots
	beyond   slots                // parameters beyond those that an event holds
	position [event.MaxArgs]int32 // by parameter: its slot, or -1
	highest  int
	key, raw []byte
	ev       intake.Event
}

// sender is a process with the data that each record needs.
type sender struct {
	process uint16
	service string
}

// doubted is how far in the future a time can be before it is doubted.
const doubted = 24 * time.Hour

// Build builds the timeline of OTLP messages. If json is set, they are in the JSON form.
func Build(ctx context.Context, in intake.Input, json bool) error {
	i := &importer{tables: intake.NewTables(kindName, "service", in), traces: ordered.New(in.Temporary, ordered.Piece), events: intake.NewEvents(in.Temporary),
		resources: map[string]uint32{}, scopes: map[string]uint32{}, loose: map[uint16]*looseLogs{}, future: time.Now().Add(doubted).UnixNano()}
	defer i.traces.Close()
	defer i.events.Close()
	i.values.tables = i.tables
	i.tables.Where = i.where
	source := in.File
	if json {
		var err error
		if source, err = i.transcode(ctx, in); err != nil {
			return err
		}
		defer source.Close()
	}
	data, err := mapped.File(i, source)
	if err != nil {
		return err
	}
	i.data = data
	if err := i.gather(ctx, func(done float64) { in.Report(done / 4) }); err != nil {
		return err
	}
	if err := i.assemble(ctx, func(done float64) { in.Report(0.25 + done/2) }); err != nil {
		return err
	}
	in.Report(0.75)
	if err := i.traces.Close(); err != nil { // what it holds is needed no more
		return err
	}
	if err := i.endLoose(); err != nil {
		return err
	}
	i.tellSkew()
	i.describe()
	return i.events.Build(ctx, i.tables, in)
}

// where names what is being read: the trace and the span.
func (i *importer) where() string {
	switch {
	case len(i.now.trace) == 0 && len(i.log.TraceID) > 0:
		return fmt.Sprintf("trace %x, span %x", i.log.TraceID, i.log.SpanID)
	case len(i.now.trace) == 0:
		return ""
	}
	return fmt.Sprintf("trace %x, span %016x", i.now.trace, i.now.span)
}

// nowAt is the span that is being read.
type nowAt struct {
	trace []byte
	span  uint64
}

// transcode converts the JSON text of f to messages in a temporary file. Malformed lines are
// skipped.
func (i *importer) transcode(ctx context.Context, in intake.Input) (*os.File, error) {
	text, err := mapped.File(i, in.File)
	if err != nil {
		return nil, err
	}
	out, err := os.CreateTemp(in.Temporary, "otlp-*")
	if err != nil {
		return nil, fmt.Errorf("create a file for the messages: %w", err)
	}
	_ = os.Remove(out.Name()) // it lasts as long as it is open
	w := &bufferedWriter{w: out}
	for at := int64(0); at < int64(len(text)); {
		t := otlp.NewTranscoder(bytes.NewReader(text[at:]), w)
		for err = nil; err == nil; {
			if err = ctx.Err(); err == nil {
				err = t.Next()
			}
		}
		if t.Others > 0 {
			i.tables.Gap("batches of metrics or profiles", "they contain no spans or logs and are ignored")
		}
		switch {
		case errors.Is(err, io.EOF):
			at = int64(len(text))
		case errors.Is(err, otlp.ErrOther):
			i.tables.Gap("JSON values that are not OTLP traces or logs", "check that the file is of one kind")
			at += t.At()
		case errors.Is(err, otlp.ErrMalformed):
			at += t.At()
			i.tables.Gap(fmt.Sprintf("at byte %d: %s", at, firstLine(err)), "what follows on that line is left out; fetch the file again if it was cut off")
			if line := bytes.IndexByte(text[at:], '\n'); line >= 0 {
				at += int64(line) + 1
			} else {
				at = int64(len(text))
			}
		default:
			out.Close()
			return nil, err
		}
	}
	if err := w.flush(); err != nil {
		out.Close()
		return nil, err
	}
	return out, nil
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

type bufferedWriter struct {
	w   io.Writer
	buf []byte
}

func (w *bufferedWriter) Write(b []byte) (int, error) {
	w.buf = append(w.buf, b...)
	if len(w.buf) > 1<<20 {
		return len(b), w.flush()
	}
	return len(b), nil
}

func (w *bufferedWriter) flush() error {
	_, err := w.w.Write(w.buf)
	w.buf = w.buf[:0]
	if err != nil {
		return fmt.Errorf("write the messages: %w", err)
	}
	return nil
}

// recordHead is the size of the head of a record in the first sorting: kind, resource and scope.
const recordHead = 1 + 4 + 4

// released is the number of bytes after which memory is released.
const released = 32 << 20

// gather finds all records and sorts them by trace. Logs without a trace become events at once.
func (i *importer) gather(ctx context.Context, progress func(float64)) error {
	var buf []byte
	n, free := 0, int64(0)
	var last struct {
		resource, scope     []byte
		resourceID, scopeID uint32
	}
	err := otlp.Walk(i.data, 0, func(r *otlp.Record) error {
		if n++; n%(1<<14) == 0 {
			if err := ctx.Err(); err != nil {
				return err
			}
			progress(float64(r.At) / float64(len(i.data)))
			if r.At-free > 2*released {
				mapped.Release(i.data[free : r.At-released])
				free = r.At - released
			}
		}
		if n == 1 || !same(r.Resource, last.resource) {
			id, err := i.resourceID(r.Resource)
			if err != nil {
				return err
			}
			last.resource, last.resourceID = r.Resource, id
		}
		if n == 1 || !same(r.Scope, last.scope) {
			id, err := i.scopeID(r.Scope)
			if err != nil {
				return err
			}
			last.scope, last.scopeID = r.Scope, id
		}
		id, err := r.TraceID()
		if err != nil {
			return err
		}
		var key ordered.Key
		switch {
		case otlp.ValidID(id, 16):
			key = ordered.Key{High: binary.BigEndian.Uint64(id), Low: binary.BigEndian.Uint64(id[8:])}
		case r.Kind == otlp.LogRecord:
			return i.looseLog(r.Message, last.resourceID, last.scopeID)
		default:
			i.tables.Gap("spans without a valid trace ID", "each is shown as a trace of its own; the sender does not follow W3C Trace Context")
			key = ordered.Key{High: math.MaxUint64, Low: uint64(r.At)}
		}
		i.bytes += int64(len(r.Message))
		buf = append(buf[:0], byte(r.Kind))
		buf = binary.LittleEndian.AppendUint32(buf, last.resourceID)
		buf = binary.LittleEndian.AppendUint32(buf, last.scopeID)
		return i.traces.Add(key, append(buf, r.Message...))
	}, func(at int64, err error) error {
		i.tables.Gap(fmt.Sprintf("at byte %d: %s", at, firstLine(err)), "the copy is damaged or was cut off there: fetch it again; the rest is here")
		return nil
	})
	if err != nil {
		return err
	}
	if n == 0 {
		return ErrNoEvents
	}
	return nil
}

func same(a, b []byte) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// named converts attributes to values that hold for many records.
func (i *importer) named(prefix string, attributes [][]byte) ([]event.Named, map[string]string, error) {
	var list []event.Named
	texts := map[string]string{}
	for _, b := range attributes {
		key, raw, err := otlp.ParseAttribute(b)
		if err != nil {
			return nil, nil, err
		}
		v, err := otlp.ParseValue(raw)
		if err != nil {
			return nil, nil, err
		}
		if len(list) == event.MaxArgs {
			i.tables.Gap(fmt.Sprintf("resources or scopes with more than %d attributes", event.MaxArgs), "the rest of them is left out")
			break
		}
		name := intake.Clean(prefix + string(key))
		if v.Kind == otlp.StringValue {
			texts[string(key)] = string(v.Bytes)
		}
		list = append(list, event.Named{Name: name, Data: i.values.value(nil, v, 0)})
	}
	return list, texts, nil
}

func (i *importer) resourceID(b []byte) (uint32, error) {
	if id, ok := i.resources[string(b)]; ok {
		return id, nil
	}
	attributes, err := otlp.ParseResource(b)
	if err != nil {
		return 0, err
	}
	outer, texts, err := i.named("", attributes)
	if err != nil {
		return 0, err
	}
	service := intake.Clean(texts["service.name"])
	if service == "" {
		service = "unknown_service"
	}
	process := i.tables.Process(string(b), func() event.Process {
		p := event.Process{Program: service, Outer: outer, Host: texts["host.name"]}
		for _, key := range []string{"service.instance.id", "k8s.pod.name", "host.name"} {
			if texts[key] != "" {
				p.Args = []string{intake.Clean(texts[key])}
				break
			}
		}
		return p
	})
	id := uint32(len(i.senders))
	i.senders = append(i.senders, sender{process, service})
	i.resources[string(b)] = id
	return id, nil
}

func (i *importer) scopeID(b []byte) (uint32, error) {
	if id, ok := i.scopes[string(b)]; ok {
		return id, nil
	}
	scope, err := otlp.ParseScope(b)
	if err != nil {
		return 0, err
	}
	outer, _, err := i.named("scope.", scope.Attributes)
	if err != nil {
		return 0, err
	}
	if len(scope.Name) > 0 {
		outer = append(outer, event.Named{Name: "scope.name", Data: i.tables.AppendString(nil, string(scope.Name))})
	}
	if len(scope.Version) > 0 {
		outer = append(outer, event.Named{Name: "scope.version", Data: i.tables.AppendString(nil, string(scope.Version))})
	}
	id := uint32(len(i.scopeList))
	if id >= 1<<16 {
		i.tables.Gap("more than 65536 instrumentation scopes", "the others are shown under the last one")
		return id - 1, nil
	}
	i.scopeList = append(i.scopeList, scope)
	i.outer = append(i.outer, outer)
	i.scopes[string(b)] = id
	return id, nil
}

// describe says in the header what the evidence is.
func (i *importer) describe() {
	h := &i.tables.Header
	seen := map[string]bool{}
	var services []string
	for _, s := range i.senders {
		if !seen[s.service] {
			seen[s.service] = true
			services = append(services, s.service)
		}
	}
	const most = 6
	h.Program = strings.Join(services[:min(len(services), most)], ", ")
	if len(services) > most {
		h.Program += fmt.Sprintf(" and %d more", len(services)-most)
	}
	h.Language = "OpenTelemetry"
	hosts := map[string]bool{}
	for _, p := range i.tables.Processes {
		if p.Host != "" && !hosts[p.Host] {
			hosts[p.Host] = true
			h.Host = p.Host
		}
	}
	if len(hosts) > 1 {
		h.Host = fmt.Sprintf("%d hosts", len(hosts))
	}
}
