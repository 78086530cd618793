package eventtrace

import (
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"math"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/intake"
	"wraithology/core/replay/trace"
	"wraithology/core/timeline"
)

// exceptionEvent is the name of exception events (OpenTelemetry semantic conventions, "Exceptions
// on spans").
const exceptionEvent = "exception"

// facts are the names of a span's own values beside its attributes, in the order of the parameters.
var facts = [...]string{"traceID", "spanID", "parentSpanID", "kind", "status", "statusMessage", "duration", "selfTime", "links", "traceState", "startTime"}

const (
	factTrace = iota
	factSpan
	factParent
	factKind
	factStatus
	factStatusMessage
	factDuration
	factSelf
	factLinks
	factTraceState
	factStartTime
)

var kindNames = [...]string{"", "internal", "server", "client", "producer", "consumer"}
var statusNames = [...]string{"unset", "ok", "error"}

// Ranks of items at the same time.
const (
	rankAtEnd = iota
	rankBeginning
	rankLater
)

// emit makes the events of the trace.
func (i *importer) emit() error {
	g := &i.group
	if err := i.arrange(); err != nil || len(g.nodes) == 0 {
		return err
	}
	for s := range g.stacks {
		g.stacks[s] = g.stacks[s][:0]
	}
	begins := i.summary()
	base := i.strand
	i.strand += uint32(len(g.stacks))
	for _, it := range g.items {
		s := &g.nodes[it.node]
		stack := &g.stacks[s.strand-1]
		keep := it.node
		if it.note < 0 {
			keep = s.parent
		}
		ended := func(top int32) bool { return top != keep && g.nodes[top].end <= it.time }
		if err := i.leaveWhile(base, stack, ended); err != nil {
			return err
		}
		if it.note >= 0 {
			if err := i.noted(base, it, *stack); err != nil {
				return err
			}
			continue
		}
		if err := i.enter(base, it.node, begins); err != nil {
			return err
		}
		begins = nil
		*stack = append(*stack, it.node)
	}
	for s := range g.stacks {
		if err := i.leaveWhile(base, &g.stacks[s], func(int32) bool { return true }); err != nil {
			return err
		}
	}
	return nil
}

// arrange orders the beginnings of the spans and what happened in them by time. Log records without
// their span are emitted at once.
func (i *importer) arrange() error {
	g := &i.group
	g.items = g.items[:0]
	for _, n := range g.order {
		g.items = append(g.items, item{g.nodes[n].start, rankBeginning<<24 | min(g.nodes[n].depth, 1<<20), n, -1})
	}
	for k := range g.notes {
		x := &g.notes[k]
		if x.isLog {
			x.node = -1
			if n, ok := g.byID[x.spanID]; ok && x.spanID != 0 {
				x.node = n
			}
		}
		if x.node < 0 {
			i.tables.Gap("log records without their span in this evidence", "they are shown with their service's other logs; look for the trace ID in the case's other evidence")
			if err := i.looseLog(i.message(x.place), x.resource, x.scope); err != nil {
				return err
			}
			continue
		}
		s := &g.nodes[x.node]
		it := item{min(max(x.time+s.shift, s.start), s.end), rankLater << 24, x.node, int32(k)}
		if it.time == s.end && s.start < s.end {
			it.rank = rankAtEnd
		}
		g.items = append(g.items, it)
	}
	slices.SortStableFunc(g.items, func(a, b item) int {
		return cmp.Or(cmp.Compare(a.time, b.time), cmp.Compare(a.rank, b.rank))
	})
	return nil
}

// leaveWhile leaves the spans at the top of a stack for which a condition holds.
func (i *importer) leaveWhile(base uint32, stack *[]int32, ended func(top int32) bool) error {
	for last := len(*stack) - 1; last >= 0 && ended((*stack)[last]); last-- {
		if err := i.leave(base, (*stack)[last], last == 0); err != nil {
			return err
		}
		*stack = (*stack)[:last]
	}
	return nil
}

// summary describes the trace by its first span without a parent.
func (i *importer) summary() *timeline.Trace {
	g := &i.group
	t := &timeline.Trace{Started: math.MaxInt64, Spans: uint32(len(g.nodes))}
	binary.BigEndian.PutUint64(t.ID[:], g.key.High)
	binary.BigEndian.PutUint64(t.ID[8:], g.key.Low)
	end := int64(math.MinInt64)
	for n := range g.nodes {
		x := &g.nodes[n]
		t.Started, end = min(t.Started, x.start), max(end, x.end)
		if x.status == uint8(timeline.StatusError) {
			t.Errors++
			t.Status = timeline.StatusError
		}
		if x.status == uint8(timeline.StatusOK) && x.parent < 0 && t.Status == timeline.StatusUnset {
			t.Status = timeline.StatusOK
		}
	}
	t.Duration = end - t.Started
	return t
}

// add adds an event of the trace.
func (i *importer) add(base uint32, x *node, time int64, raw []byte) error {
	g := &i.group
	if g.count == math.MaxUint32 {
		return nil
	}
	g.count++
	i.ev = intake.Event{Time: time, Trace: g.trace, Order: g.count, Strand: base + x.strand, Process: x.process, Pooled: true, Raw: raw}
	return i.events.Add(&i.ev)
}

func (i *importer) leave(base uint32, n int32, last bool) error {
	g := &i.group
	x := &g.nodes[n]
	x.open = false
	if x.status == uint8(timeline.StatusError) && !x.explained {
		f, err := i.function(x)
		if err != nil {
			return err
		}
		text := "the span ended in an error"
		if len(i.span.StatusMessage) > 0 {
			text = string(i.span.StatusMessage)
		}
		i.slots.reset()
		i.put(f, "error", func(b []byte) []byte { return i.tables.AppendString(b, text) })
		if err := i.addSlots(base, x, x.end, event.Error, f); err != nil {
			return err
		}
	}
	g.count++
	status := event.AppendText(nil, intake.String, statusNames[min(int(x.status), len(statusNames)-1)])
	i.raw = append(event.AppendEvent(i.raw[:0], event.Leave, 0, 1), status...)
	i.ev = intake.Event{Time: x.end, Trace: g.trace, Order: g.count, Strand: base + x.strand, Process: x.process, Pooled: true, Ends: last, Span: true, Raw: i.raw}
	return i.events.Add(&i.ev)
}

// function parses the span of a node and returns its function.
func (i *importer) function(x *node) (*intake.Function, error) {
	if err := i.span.Parse(i.message(x.place)); err != nil {
		return nil, err
	}
	service := i.senders[x.resource].service
	k := append(append(i.key[:0], service...), 0)
	k = binary.LittleEndian.AppendUint32(k, x.scope)
	k = append(k, i.span.Name...)
	i.key = k
	return i.tables.Function(k, func() event.Function {
		operation := intake.Clean(string(i.span.Name))
		outer := append([]event.Named{{Name: "service", Data: i.tables.AppendString(nil, service)}, {Name: "operation", Data: i.tables.AppendString(nil, operation)}}, i.outer[x.scope]...)
		f := event.Function{Name: operationName(service, operation), Own: true, Outer: outer}
		i.locate(&f)
		return f
	}), nil
}

// operationName names an operation with its service.
func operationName(service, operation string) string {
	if operation == "" {
		operation = "(no name)"
	}
	if strings.HasPrefix(operation, service+"/") {
		return operation
	}
	return service + "/" + operation
}

// locate returns the line of a span's code, if the span has it (semantic conventions, "Source code
// attributes", also with the names before 1.33).
func (i *importer) locate(f *event.Function) {
	for _, b := range i.span.Attributes {
		key, raw, err := otlp.ParseAttribute(b)
		if err != nil {
			return
		}
		v, err := otlp.ParseValue(raw)
		if err != nil {
			return
		}
		switch string(key) {
		case "code.file.path", "code.filepath":
			f.File = i.tables.File(intake.Clean(string(v.Bytes)))
		case "code.line.number", "code.lineno":
			f.Line = int(min(v.Plain, math.MaxInt32))
		}
	}
}

// put adds a value under a name that is not a parameter.
func (i *importer) put(f *intake.Function, name string, value func([]byte) []byte) {
	id, ok := f.Variable([]byte(name))
	if !ok {
		i.tables.Gap("attributes beyond the "+strconv.Itoa(intake.MaxVariables)+" names that an operation can have", "they are left out: names that hold numbers or IDs are better values")
		return
	}
	i.slots.put(id, value(i.slots.bytes))
}

// eachSlots calls add for the events that the slots need: the event itself with the first MaxArgs
// values, then Fields events with the others.
func (i *importer) eachSlots(k event.Kind, add func(k event.Kind, from, to int) error) error {
	n := len(i.slots.ids)
	if i.tables.Full() && n > 1 {
		i.tables.Gap("logs and events with too many different sets of attributes", "only their messages are kept: names that hold numbers or IDs are better values")
		n = 1
	}
	for from := 0; from == 0 || from < n; from += event.MaxArgs {
		if err := add(k, from, min(from+event.MaxArgs, n)); err != nil {
			return err
		}
		k = event.Fields
	}
	return nil
}

// encodeSlots encodes an event with some of the slots.
func (i *importer) encodeSlots(f *intake.Function, line int, k event.Kind, from, to int) {
	site := i.tables.Site(f, 0, line, i.slots.ids[from:to])
	i.raw = event.AppendEvent(i.raw[:0], k, uint32(site), to-from)
	for n := from; n < to; n++ {
		i.raw = append(i.raw, i.slots.at(n)...)
	}
}

// addSlots adds an event with the values of the slots.
func (i *importer) addSlots(base uint32, x *node, time int64, k event.Kind, f *intake.Function) error {
	return i.eachSlots(k, func(k event.Kind, from, to int) error {
		i.encodeSlots(f, f.Line, k, from, to)
		return i.add(base, x, time, i.raw)
	})
}

// enter adds the beginning of a span with its own values and attributes.
func (i *importer) enter(base uint32, n int32, begins *timeline.Trace) error {
	g := &i.group
	x := &g.nodes[n]
	x.open = true
	f, err := i.function(x)
	if err != nil {
		return err
	}
	i.spanFacts(f, x)
	if i.flat, err = flatten(i.flat[:0], i.span.Attributes, nil, 0); err != nil {
		return err
	}
	for _, a := range i.flat {
		i.attribute(f, a)
	}
	i.raw = event.AppendEvent(i.raw[:0], event.Enter, uint32(f.ID), i.positioned())
	for p := range i.positioned() {
		if slot := i.position[p]; slot >= 0 {
			i.raw = append(i.raw, i.slots.at(int(slot))...)
		} else {
			i.raw = event.AppendUnknown(i.raw, intake.String)
		}
	}
	g.count++
	i.ev = intake.Event{Time: x.start, Trace: g.trace, Order: g.count, Strand: base + x.strand, Process: x.process, Pooled: true, Span: true, Root: x.parent < 0, Begins: begins, Link: x.link, Linked: x.linked, Raw: i.raw}
	if x.caller {
		i.ev.Caller = g.nodes[x.parent].link
	}
	if err := i.events.Add(&i.ev); err != nil || len(i.beyond.ids) == 0 {
		return err
	}
	i.slots, i.beyond = i.beyond, i.slots
	err = i.addSlots(base, x, x.start, event.Fields, f)
	i.slots, i.beyond = i.beyond, i.slots
	return err
}

// positioned returns the number of parameters up to the last one with a value.
func (i *importer) positioned() int { return i.highest + 1 }

// parameter adds a value that is known when a call begins.
func (i *importer) parameter(f *intake.Function, name []byte, value func(b []byte) []byte) {
	id, position, ok := f.Parameter(name)
	switch {
	case !ok:
		i.tables.Gap("attributes beyond the "+strconv.Itoa(intake.MaxVariables)+" that an operation can have", "they are left out: names that hold numbers or IDs are better values")
	case position < 0:
		i.beyond.put(id, value(i.beyond.bytes))
	default:
		i.position[position] = int32(len(i.slots.ids))
		i.highest = max(i.highest, position)
		i.slots.put(id, value(i.slots.bytes))
	}
}

func (i *importer) attribute(f *intake.Function, a attribute) {
	name := a.key
	if len(name) == 0 {
		name = []byte("(no name)")
	}
	if slices.Contains(facts[:], string(name)) {
		name = append([]byte("attributes."), name...)
	}
	i.parameter(f, name, func(b []byte) []byte { return i.values.value(b, a.value, 0) })
}

// spanFacts adds what each span says of itself.
func (i *importer) spanFacts(f *intake.Function, x *node) {
	s := &i.span
	i.slots.reset()
	i.beyond.reset()
	for p := range i.position {
		i.position[p] = -1
	}
	i.highest = -1
	if len(f.Parameters) == 0 {
		for _, name := range facts {
			f.Parameter([]byte(name))
		}
		for k, v := range f.Variables {
			if v.Name == facts[factStatus] {
				f.Results = []event.VariableID{event.VariableID(k)}
			}
		}
	}
	text := func(fact int, value string) {
		i.parameter(f, []byte(facts[fact]), func(b []byte) []byte { return event.AppendText(b, intake.String, value) })
	}
	var digits [32]byte
	id := func(fact int, b []byte) {
		if len(b) > 0 && len(b) <= len(digits)/2 {
			text(fact, string(digits[:hex.Encode(digits[:], b)]))
		}
	}
	id(factTrace, s.TraceID)
	id(factSpan, s.SpanID)
	id(factParent, s.ParentID)
	if k := int(s.Kind); k > 0 && k < len(kindNames) {
		text(factKind, kindNames[k])
	}
	text(factStatus, statusNames[min(int(s.Status), len(statusNames)-1)])
	if len(s.StatusMessage) > 0 {
		i.parameter(f, []byte(facts[factStatusMessage]), func(b []byte) []byte { return i.tables.AppendString(b, string(s.StatusMessage)) })
	}
	number := func(fact int, n int64) {
		i.parameter(f, []byte(facts[fact]), func(b []byte) []byte { return event.AppendInt(b, intake.Duration, n) })
	}
	number(factDuration, x.end-x.start)
	number(factSelf, x.self)
	if len(s.State) > 0 {
		i.parameter(f, []byte(facts[factTraceState]), func(b []byte) []byte { return i.tables.AppendString(b, string(s.State)) })
	}
	if x.shift != 0 { // the time that was sent
		i.parameter(f, []byte(facts[factStartTime]), func(b []byte) []byte { return event.AppendInt(b, intake.Timestamp, x.start-x.shift) })
	}
	if len(s.Links) > 0 {
		i.parameter(f, []byte(facts[factLinks]), i.links)
		i.linkAttributes(f)
	}
}

// maxLinks limits the links of a span whose attributes are kept.
const maxLinks = 64

// linkAttributes adds what the span's links say besides the spans that they lead to.
func (i *importer) linkAttributes(f *intake.Function) {
	for n, raw := range i.span.Links {
		state, attributes, err := otlp.ParseLinkAttributes(raw)
		if err != nil || len(state)+len(attributes) == 0 {
			continue
		}
		if n >= maxLinks {
			i.tables.Gap("spans with attributes on more than "+strconv.Itoa(maxLinks)+" links", "those of the others are left out")
			return
		}
		prefix := trace.LinkPrefix(n)
		if len(state) > 0 {
			i.parameter(f, []byte(prefix+facts[factTraceState]), func(b []byte) []byte { return i.tables.AppendString(b, string(state)) })
		}
		flat, err := flatten(nil, attributes, nil, 0)
		if err != nil {
			continue
		}
		for _, a := range flat {
			i.parameter(f, append([]byte(prefix), a.key...), func(b []byte) []byte { return i.values.value(b, a.value, 0) })
		}
	}
}

// links appends a span's links as a list of "trace/span".
func (i *importer) links(b []byte) []byte {
	list := i.span.Links[:min(len(i.span.Links), maxItems)]
	if len(list) < len(i.span.Links) {
		i.tables.Gap("spans with more than "+strconv.Itoa(maxItems)+" links", "the others are left out")
	}
	b = event.AppendList(b, intake.List, len(list))
	for _, raw := range list {
		trace, span, err := otlp.ParseLink(raw)
		if err != nil {
			trace, span = nil, nil
		}
		b = event.AppendElement(b, i.tables.AppendString(nil, hex.EncodeToString(trace)+"/"+hex.EncodeToString(span)))
	}
	return b
}
