package eventtrace

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"time"

	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/ordered"
	"wraithology/core/timeline"
)

// Limits of one trace: its spans, its logs and events, and their total size.
const (
	maxSpans = 1 << 21
	maxBytes = 256 << 20
)

// place is the position of a message in the group's bytes, with its resource and scope.
type place struct {
	at, size        uint32
	resource, scope uint32
}

// node is a span of the trace that is put together.
type node struct {
	place
	id, parentID uint64
	start, end   int64 // corrected by shift
	shift        int64
	self         int64 // time in which no child ran
	counted      int64 // up to which children have been counted
	parent       int32 // -1 for none
	depth        int32
	strand       uint32 // counted within the trace, from 1
	link, linked uint32
	process      uint16
	status       uint8
	kind         uint8
	caller       bool // its parent is on another strand
	explained    bool // an exception or a child says why it failed
	open         bool
}

// note is a log record, or an event of a span.
type note struct {
	place
	spanID uint64
	time   int64
	node   int32
	isLog  bool
}

// group is a trace that is being assembled. Its memory is reused for the next trace.
type group struct {
	key    ordered.Key
	bytes  []byte
	nodes  []node
	notes  []note
	byID   map[uint64]int32
	path   []int32
	order  []int32
	stacks [][]int32 // the open spans of each strand
	items  []item
	trace  uint32
	count  uint32 // of its events
}

// item is the beginning of a span or a note, ordered by time.
type item struct {
	time int64
	rank int32
	node int32
	note int32 // -1 for a beginning
}

// assemble puts the traces together one by one.
func (i *importer) assemble(ctx context.Context, progress func(float64)) error {
	g := &i.group
	g.byID = map[uint64]int32{}
	done, n := int64(0), 0
	begun := false
	err := i.traces.Each(ctx, func(k ordered.Key, record []byte) error {
		if begun && k != g.key {
			if err := i.endGroup(); err != nil {
				return err
			}
		}
		begun, g.key = true, k
		message := record[recordHead:]
		done += int64(len(message))
		if n++; n%(1<<12) == 0 {
			progress(float64(done) / float64(i.bytes))
		}
		if len(g.nodes) >= maxSpans || len(g.notes) >= maxSpans || len(g.bytes)+len(message) > maxBytes {
			i.tables.Gap("spans and logs of a trace that has more than 2 million of them, or 256 MiB", "they are left out; a trace of this length is rarely that of one request")
			return nil
		}
		p := place{uint32(len(g.bytes)), uint32(len(message)), binary.LittleEndian.Uint32(record[1:]), binary.LittleEndian.Uint32(record[5:])}
		g.bytes = append(g.bytes, message...)
		if otlp.Kind(record[0]) == otlp.LogRecord {
			return i.addLog(p)
		}
		return i.addNode(p)
	})
	if err == nil && begun {
		err = i.endGroup()
	}
	return err
}

func (i *importer) message(p place) []byte { return i.group.bytes[p.at : p.at+p.size] }

// clock converts nanoseconds since 1970 to a time for calculations.
func (i *importer) clock(t uint64) int64 {
	if t > math.MaxInt64 {
		i.tables.Gap("times beyond the year 2262", "they are shown there; the sender's clock or its unit is wrong")
		return math.MaxInt64
	}
	if int64(t) > i.future {
		i.tables.Gap("times in the future", "the sender's clock or its unit is wrong; nanoseconds since 1970 are expected")
	}
	return int64(t)
}

func spanID(b []byte) uint64 {
	if len(b) != 8 {
		return 0
	}
	return binary.BigEndian.Uint64(b)
}

func (i *importer) addLog(p place) error {
	if err := i.log.Parse(i.message(p)); err != nil {
		return err
	}
	i.group.notes = append(i.group.notes, note{place: p, spanID: spanID(i.log.SpanID), time: i.logTime(), node: -1, isLog: true})
	return nil
}

func (i *importer) addNode(p place) error {
	g, s := &i.group, &i.span
	if err := s.Parse(i.message(p)); err != nil {
		return err
	}
	i.now = nowAt{append(i.now.trace[:0], s.TraceID...), spanID(s.SpanID)}
	n := node{place: p, id: spanID(s.SpanID), parentID: spanID(s.ParentID), parent: -1, depth: -1, process: i.senders[p.resource].process, status: s.Status, kind: s.Kind}
	n.start, n.end = i.clock(s.Start), i.clock(s.End)
	switch {
	case s.Start == 0 && s.End == 0:
		i.tables.Gap("spans without a time", "they are shown at the time of the span that they belong to; the sender does not set one")
	case s.Start == 0:
		n.start = n.end
		i.tables.Gap("spans without a start", "they are shown at their ends")
	case s.End == 0:
		n.end = n.start
		i.tables.Gap("spans without an end", "they are shown at their starts; their services did not end them")
	case n.end < n.start:
		n.end = n.start
		i.tables.Gap("spans that end before they start", "they are shown at their starts, without a duration; the sender's clock was set back, or its times are mixed up")
	}
	if s.Dropped > 0 {
		i.tables.Gap("spans with attributes, events or links dropped by the sender", "raise the limits of the sender")
	}
	if n.id == 0 {
		i.tables.Gap("spans without a valid span ID", "they cannot have children; the sender does not follow W3C Trace Context")
	} else if other, ok := g.byID[n.id]; ok {
		if o := &g.nodes[other]; o.start == n.start && o.end == n.end {
			i.tables.Gap("spans that arrived more than once", "each is shown once")
			return nil
		}
		i.tables.Gap("spans that have another one's ID", "their children are shown with the other one")
	} else {
		g.byID[n.id] = int32(len(g.nodes))
	}
	for _, b := range s.Events {
		if len(g.notes) >= maxSpans {
			break
		}
		if err := i.event.Parse(b); err != nil {
			return err
		}
		e := note{place: p, node: int32(len(g.nodes)), time: i.clock(i.event.Time)}
		e.at, e.size = e.at+uint32(cap(i.message(p))-cap(b)), uint32(len(b)) // b is in the message
		if string(i.event.Name) == exceptionEvent {
			n.explained = true
		}
		g.notes = append(g.notes, e)
	}
	g.nodes = append(g.nodes, n)
	return nil
}

// endGroup makes events of a trace that is whole.
func (i *importer) endGroup() error {
	g := &i.group
	i.trace++
	g.trace, g.count = i.trace, 0
	i.findParents()
	i.correctClocks()
	g.order = g.order[:0]
	for n := range g.nodes {
		g.order = append(g.order, int32(n))
	}
	slices.SortFunc(g.order, func(a, b int32) int {
		x, y := &g.nodes[a], &g.nodes[b]
		return cmp.Or(cmp.Compare(x.start, y.start), cmp.Compare(x.depth, y.depth), cmp.Compare(a, b))
	})
	i.measure()
	i.assignStrands()
	err := i.emit()
	i.now.trace = i.now.trace[:0]
	g.nodes, g.notes, g.bytes = g.nodes[:0], g.notes[:0], g.bytes[:0]
	clear(g.byID)
	return err
}

// findParents links spans to their parents and cuts cycles.
func (i *importer) findParents() {
	g := &i.group
	for n := range g.nodes {
		x := &g.nodes[n]
		i.now.span = x.id
		if x.parentID == 0 {
			continue
		}
		p, ok := g.byID[x.parentID]
		switch {
		case !ok:
			i.tables.Gap("spans without their parent in this evidence", "the parent was not sampled, was sent elsewhere or has not ended: look for its trace ID in the case's other evidence")
		case int(p) == n:
			i.tables.Gap("spans that are their own ancestors", "the cycle is cut; the sender uses IDs twice")
		default:
			x.parent = p
		}
	}
	const pending = -2
	for n := range g.nodes {
		g.path = g.path[:0]
		at := int32(n)
		for at >= 0 && g.nodes[at].depth == -1 {
			g.nodes[at].depth = pending
			g.path = append(g.path, at)
			at = g.nodes[at].parent
		}
		depth := int32(-1)
		if at >= 0 {
			if g.nodes[at].depth == pending {
				i.tables.Gap("spans that are their own ancestors", "the cycle is cut; the sender uses IDs twice")
				g.nodes[g.path[len(g.path)-1]].parent = -1
			} else {
				depth = g.nodes[at].depth
			}
		}
		for _, x := range slices.Backward(g.path) {
			depth++
			g.nodes[x].depth = depth
		}
	}
}

// correctClocks shifts spans that begin before their caller, or end after it had their answer, because the clocks of two
// services differ: to the middle of the caller if they fit, else to its beginning. Their callees are shifted
// with them.
func (i *importer) correctClocks() {
	g := &i.group
	g.order = g.order[:0]
	for n := range g.nodes {
		g.order = append(g.order, int32(n))
	}
	slices.SortFunc(g.order, func(a, b int32) int { return cmp.Compare(g.nodes[a].depth, g.nodes[b].depth) })
	for _, n := range g.order {
		x := &g.nodes[n]
		i.now.span = x.id
		if x.parent < 0 {
			continue
		}
		p := &g.nodes[x.parent]
		switch {
		case x.start == 0 && x.end == 0: // without a time
			x.start, x.end = p.start, p.start
		case x.process == p.process:
			x.shift = p.shift
			x.start, x.end = x.start+x.shift, x.end+x.shift
			if x.start < p.start {
				i.tables.Gap("spans that begin before the span that they belong to, by the same clock", "they are shown beside it; a clock was set back, or the sender mixes up IDs")
			}
		case x.start < p.start:
			x.shift = p.start - x.start
			if spare := (p.end - p.start) - (x.end - x.start); spare > 0 {
				x.shift += spare / 2
			}
			x.start, x.end = x.start+x.shift, x.end+x.shift
			i.skewed(x, p)
		case x.kind == kindServer && p.kind == kindClient && x.end > p.end && x.end-x.start <= p.end-p.start:
			// The caller had its answer before it was given: the other clock is ahead.
			x.shift = p.start + (p.end-p.start-(x.end-x.start))/2 - x.start
			x.start, x.end = x.start+x.shift, x.end+x.shift
			i.skewed(x, p)
		}
		if x.start > p.end && x.kind != kindConsumer {
			i.tables.Gap("spans that begin after their parent has ended", "the work continued elsewhere, or the parent was ended too early; they are shown at their time")
		}
	}
}

// Kinds of spans (OpenTelemetry protocol, Span.SpanKind).
const (
	kindServer   = 2
	kindClient   = 3
	kindConsumer = 5
)

type clocks struct{ ahead, behind string }

// skewed records that the clocks of two services differ.
func (i *importer) skewed(x, p *node) {
	pair := clocks{i.senders[p.resource].service, i.senders[x.resource].service}
	if i.skew == nil {
		i.skew = map[clocks]int64{}
	}
	const most = 256
	if len(i.skew) < most && abs(x.shift) > abs(i.skew[pair]) {
		i.skew[pair] = x.shift
	}
}

func abs(n int64) int64 { return max(n, -n) }

// tellSkew adds gaps for differing clocks.
func (i *importer) tellSkew() {
	for pair, shift := range i.skew {
		if shift < 0 {
			i.tables.Gap(fmt.Sprintf("the clock of %s is ahead of that of %s: spans end after their callers have the answer", pair.behind, pair.ahead),
				fmt.Sprintf("they are shown earlier than they say, by up to %s; set the clocks of both", time.Duration(-shift)))
			continue
		}
		i.tables.Gap(fmt.Sprintf("the clock of %s is behind that of %s: spans begin before their callers", pair.behind, pair.ahead),
			fmt.Sprintf("they are shown later than they say, by up to %s; set the clocks of both", time.Duration(shift)))
	}
}

// measure computes the time of each span without its children.
func (i *importer) measure() {
	g := &i.group
	for _, n := range g.order {
		x := &g.nodes[n]
		x.self, x.counted = x.end-x.start, x.start
		if x.parent < 0 {
			continue
		}
		p := &g.nodes[x.parent]
		if from, to := max(x.start, p.counted), min(x.end, p.end); p.counted >= p.start && to > from && from >= p.start {
			p.self -= to - from
			p.counted = to
		}
		if x.status == uint8(timeline.StatusError) {
			p.explained = true
		}
	}
}

// assignStrands assigns a strand to each span: that of its parent, if the parent is of the same
// process, is idle, and does not end earlier; else a new one.
func (i *importer) assignStrands() {
	g := &i.group
	g.stacks = g.stacks[:0]
	for _, n := range g.order {
		x := &g.nodes[n]
		if x.parent >= 0 {
			p := &g.nodes[x.parent]
			if p.strand != 0 && p.process == x.process && x.end <= p.end {
				stack := g.stacks[p.strand-1]
				for len(stack) > 0 && stack[len(stack)-1] != x.parent && g.nodes[stack[len(stack)-1]].end <= x.start {
					stack = stack[:len(stack)-1]
				}
				if len(stack) > 0 && stack[len(stack)-1] == x.parent {
					x.strand = p.strand
					g.stacks[p.strand-1] = append(stack, n)
					continue
				}
				g.stacks[p.strand-1] = stack
			}
			if p.strand != 0 {
				x.caller = true
				if p.linked++; p.link == 0 {
					i.link++
					p.link = i.link
				}
			}
		}
		x.strand = uint32(i.newStack(n))
	}
}

// newStack begins a strand.
func (i *importer) newStack(n int32) int {
	g := &i.group
	if len(g.stacks) < cap(g.stacks) {
		g.stacks = g.stacks[:len(g.stacks)+1]
		g.stacks[len(g.stacks)-1] = append(g.stacks[len(g.stacks)-1][:0], n)
	} else {
		g.stacks = append(g.stacks, []int32{n})
	}
	return len(g.stacks)
}
