package compare

import (
	"cmp"
	"context"
	"encoding/hex"
	"slices"
	"strings"
	"time"
	"unicode"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
	"wraithology/core/timeline"
)

// The ranks of what differs between two traces, the most telling first.
const (
	byStatus    = iota // a span that failed on one side only, the innermost first
	bySpan             // a span that only one side has
	byMessage          // a message or event that only one side has
	byDuration         // a span that took much longer by itself
	byAttribute        // an attribute with another value
	traceRanks
)

// A span took much longer if its own time is this many times longer, and the difference is a share of the trace.
const (
	muchLonger   = 2
	leastOfTrace = 0.05
)

// traces compares two traces of the same operation.
type traces struct {
	ctx         context.Context
	left, right *state.Log
	how         replay.AlignOptions
	whole       [2]time.Duration
	children    [2]map[event.CallID][]event.CallID
	out         replay.Comparison
	found       [traceRanks][]tracePart
}

// tracePart is a difference; depth is that of its span.
type tracePart struct {
	replay.Parting
	depth int
}

// alignTraces compares the failed trace of the left evidence, or the one that how names, with one of the same operation that
// did not fail.
func alignTraces(ctx context.Context, left, right *state.Log, how replay.AlignOptions) (replay.Comparison, error) {
	x := &traces{ctx: ctx, left: left, right: right, how: how, out: replay.Comparison{Of: "span"}}
	a, err := x.leftTrace()
	if err != nil {
		return x.out, err
	}
	b, err := x.rightTrace(a)
	if err != nil {
		return x.out, err
	}
	for i, l := range []*state.Log{left, right} {
		n := []int{a, b}[i]
		info := l.T.TraceAt(n)
		x.whole[i] = time.Duration(info.Duration)
		x.children[i] = childrenIn(l.T, n)
	}
	x.spans(left.T.TraceAt(a).Root, right.T.TraceAt(b).Root, 0)
	x.out.OnlyLeft, x.out.OnlyRight = left.T.TraceCalls(a).Len()-x.out.Aligned, right.T.TraceCalls(b).Len()-x.out.Aligned
	x.rank()
	return x.out, ctx.Err()
}

// rank completes the answer.
func (x *traces) rank() {
	slices.SortStableFunc(x.found[byStatus], func(a, b tracePart) int { return cmp.Compare(b.depth, a.depth) })
	for _, list := range x.found {
		for _, p := range list {
			if first := x.out.First; first == nil || p.Left != event.NoMoment && (first.Left == event.NoMoment || p.Left < first.Left) {
				x.out.First = &p.Parting
			}
			if len(x.out.Causes) < x.how.Causes {
				x.out.Causes = append(x.out.Causes, p.Parting)
			}
		}
	}
}

func childrenIn(t *timeline.Timeline, trace int) map[event.CallID][]event.CallID {
	out := map[event.CallID][]event.CallID{}
	list := t.TraceCalls(trace)
	for i := range list.Len() {
		c := event.CallID(list.At(i))
		if p := t.Call(c).Parent; p != event.NoCall {
			out[p] = append(out[p], c)
		}
	}
	return out
}

// traceNamed returns the number of a trace by its ID.
func traceNamed(l *state.Log, id string) (int, error) {
	for i := range l.T.Traces() {
		if known := l.T.TraceAt(i).ID; hex.EncodeToString(known[:]) == strings.ToLower(id) {
			return i, nil
		}
	}
	return 0, fault.NotFound.New("wraith traces EVIDENCE lists the traces", "trace %q not found", id)
}

// leftTrace chooses the trace that is explained: the named one, else that of the failure, else the first one.
func (x *traces) leftTrace() (int, error) {
	if x.how.Trace != "" {
		return traceNamed(x.left, x.how.Trace)
	}
	t := x.left.T
	if f := x.left.Info().Failure; f != nil {
		c := t.CallOf(f.Moment)
		for i := range t.Traces() {
			list := t.TraceCalls(i)
			if info := t.TraceAt(i); f.Moment < info.First || f.Moment > info.Last {
				continue
			}
			for k := range list.Len() {
				if event.CallID(list.At(k)) == c {
					return i, nil
				}
			}
		}
	}
	return 0, nil
}

// rightTrace chooses the trace beside it: the named one, else the first of the same operation that has no error, which is not the
// same trace.
func (x *traces) rightTrace(left int) (int, error) {
	if x.how.WithTrace != "" {
		return traceNamed(x.right, x.how.WithTrace)
	}
	a := x.left.T.TraceAt(left)
	operation := x.left.FunctionName(a.Root)
	best := -1
	for i := range x.right.T.Traces() {
		b := x.right.T.TraceAt(i)
		if b.ID == a.ID || x.right.FunctionName(b.Root) != operation {
			continue
		}
		if b.Errors == 0 {
			return i, nil
		}
		if best < 0 {
			best = i
		}
	}
	if best < 0 {
		return 0, fault.NotFound.New("name one with --with-trace; wraith traces EVIDENCE lists them", "no other trace of %q in the evidence to compare with", operation)
	}
	return best, nil
}

// spans compares two spans that are counterparts, and what they called.
func (x *traces) spans(a, b event.CallID, depth int) {
	if x.ctx.Err() != nil {
		return
	}
	x.out.Aligned++
	name := x.left.FunctionName(a)
	left, right := attributes(x.left, a), attributes(x.right, b)
	x.compareFacts(name, a, b, left, right, depth)
	x.compareMessages(name, a, b, depth)
	for _, pair := range x.pairs(x.children[0][a], x.children[1][b]) {
		switch {
		case pair[1] == event.NoCall:
			x.alone(x.left, pair[0], a, b, depth, true)
		case pair[0] == event.NoCall:
			x.alone(x.right, pair[1], a, b, depth, false)
		default:
			x.spans(pair[0], pair[1], depth+1)
		}
	}
}

// alone notes a span without a counterpart.
func (x *traces) alone(l *state.Log, c, a, b event.CallID, depth int, isLeft bool) {
	p := replay.Parting{Kind: replay.ByPath, Name: l.FunctionName(c), LeftValue: "a call", RightValue: "none", Left: l.T.Call(c).Enter, Right: x.right.T.Call(b).Enter, Why: "only the left trace has this call"}
	if !isLeft {
		p.LeftValue, p.RightValue, p.Why = "none", "a call", "only the right trace has this call"
		p.Left, p.Right = x.left.T.Call(a).Enter, l.T.Call(c).Enter
	}
	x.found[bySpan] = append(x.found[bySpan], tracePart{p, depth})
}

// pairs pairs the spans that two spans called: by operation in their order, then, as calls can be concurrent, by operation alone.
func (x *traces) pairs(left, right []event.CallID) (list [][2]event.CallID) {
	items := func(l *state.Log, calls []event.CallID) (out []item) {
		for _, c := range calls {
			out = append(out, item{path: uint32(textDigest(l.FunctionName(c))), child: c})
		}
		return out
	}
	a, b := items(x.left, left), items(x.right, right)
	isPaired := make([]bool, len(b))
	match := align(a, b)
	for _, j := range match {
		if j >= 0 {
			isPaired[j] = true
		}
	}
	for i, j := range match {
		if j < 0 {
			for k := range b {
				if !isPaired[k] && b[k].path == a[i].path {
					j = k
					break
				}
			}
		}
		with := event.NoCall
		if j >= 0 {
			isPaired[j], with = true, b[j].child
		}
		list = append(list, [2]event.CallID{a[i].child, with})
	}
	for j, y := range b {
		if !isPaired[j] {
			list = append(list, [2]event.CallID{event.NoCall, y.child})
		}
	}
	return list
}

// attribute is a named value of a span.
type attribute struct {
	name  string
	value event.Value
}

// attributes lists the attributes and facts of a span.
func attributes(l *state.Log, c event.CallID) (list []attribute) {
	f := l.T.FunctionOf(c)
	values, err := l.T.Values(l.T.Call(c).Enter)
	if err != nil {
		return nil
	}
	for i, id := range f.Parameters {
		if i < len(values) && int(id) < len(f.Variables) {
			list = append(list, attribute{f.Variables[id].Name, values[i]})
		}
	}
	return list
}

func valueOf(list []attribute, name string) (event.Value, bool) {
	for _, a := range list {
		if a.name == name {
			return a.value, true
		}
	}
	return event.Value{}, false
}

// ownFacts are the values of a span that are not attributes and differ in each trace, or are compared otherwise.
var ownFacts = []string{"traceID", "spanID", "parentSpanID", "duration", "selfTime", "links", "status", "statusMessage", "startTime"}

// compareFacts compares status, own time and attributes.
func (x *traces) compareFacts(name string, a, b event.CallID, left, right []attribute, depth int) {
	add := func(rank int, kind replay.PartingKind, what, l, r, why string) {
		x.found[rank] = append(x.found[rank], tracePart{replay.Parting{Kind: kind, Name: what, LeftValue: l, RightValue: r, Left: x.left.T.Call(a).Enter, Right: x.right.T.Call(b).Enter, Why: why}, depth})
	}
	text := func(list []attribute, name string) string {
		v, ok := valueOf(list, name)
		if !ok {
			return "none"
		}
		return replay.Value{Value: v}.Text()
	}
	if l, r := text(left, "status"), text(right, "status"); l != r && (strings.Contains(l+r, "error")) {
		withMessage := func(status string, list []attribute) string {
			if m := text(list, "statusMessage"); m != "none" && m != "" {
				return status + ": " + m
			}
			return status
		}
		add(byStatus, replay.ByPath, name+": status", withMessage(l, left), withMessage(r, right), "its status differs")
	}
	own := func(list []attribute) time.Duration {
		v, _ := valueOf(list, "selfTime")
		return time.Duration(v.Int)
	}
	l, r := own(left), own(right)
	if long, short := max(l, r), min(l, r); long >= muchLonger*short && float64(long-short) >= leastOfTrace*float64(max(x.whole[0], x.whole[1])) {
		add(byDuration, replay.ByValue, name+": own time", l.String(), r.String(), "without the calls that it waits for")
	}
	for _, p := range left {
		if slices.Contains(ownFacts, p.name) || x.how.Ignores(p.name) {
			continue
		}
		l, r := text(left, p.name), text(right, p.name)
		if l != r && !(isIdentifier(l) && isIdentifier(r)) {
			add(byAttribute, replay.ByValue, name+": "+p.name, l, r, "the attribute differs")
		}
	}
	for _, p := range right {
		if _, ok := valueOf(left, p.name); !ok && !slices.Contains(ownFacts, p.name) && !x.how.Ignores(p.name) {
			add(byAttribute, replay.ByValue, name+": "+p.name, "none", text(right, p.name), "only the right span has this attribute")
		}
	}
}

// isIdentifier reports whether a text looks like an identifier, which differs in each trace: digits and letters mixed, or a long
// number.
func isIdentifier(text string) bool {
	const long = 6
	digits, letters := 0, 0
	for _, r := range strings.Trim(text, `"`) {
		switch {
		case unicode.IsDigit(r):
			digits++
		case unicode.IsLetter(r):
			letters++
		case r != '-' && r != '_':
			return false
		}
	}
	return digits >= long || digits >= 2 && letters >= 2 && digits+letters >= 2*long
}

// compareMessages notes messages and events that only one of two spans has. Numbers in them do not count.
func (x *traces) compareMessages(name string, a, b event.CallID, depth int) {
	type said struct {
		at   event.Moment
		text string
	}
	messages := func(l *state.Log, c event.CallID) (list []said) {
		lines := l.T.CallLines(c)
		for i := range lines.Len() {
			m := lines.At(i)
			if k := l.T.Kind(m); k == event.Message || k == event.Error {
				list = append(list, said{m, l.Text(m)})
			}
		}
		return list
	}
	without := func(list []said, of []said) (out []said) {
		seen := map[string]int{}
		for _, s := range of {
			seen[pattern(s.text)]++
		}
		for _, s := range list {
			if key := pattern(s.text); seen[key] > 0 {
				seen[key]--
			} else {
				out = append(out, s)
			}
		}
		return out
	}
	left, right := messages(x.left, a), messages(x.right, b)
	for _, s := range without(left, right) {
		x.found[byMessage] = append(x.found[byMessage], tracePart{replay.Parting{Kind: replay.ByPath, Name: name + ": message", LeftValue: s.text, RightValue: "none", Left: s.at, Right: x.right.T.Call(b).Enter, Why: "only the left span has this message"}, depth})
	}
	for _, s := range without(right, left) {
		x.found[byMessage] = append(x.found[byMessage], tracePart{replay.Parting{Kind: replay.ByPath, Name: name + ": message", LeftValue: "none", RightValue: s.text, Left: x.left.T.Call(a).Enter, Right: s.at, Why: "only the right span has this message"}, depth})
	}
}

// pattern is a message without its numbers.
func pattern(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) {
			return -1
		}
		return r
	}, s)
}

// notComparable says which kinds of evidence can be compared.
func notComparable(left, right replay.Recording) error {
	return fault.NoHistory.New("compare two execution logs, two event traces, two core dumps or two crash texts", "evidence of the kinds %s and %s is not compared", left.Info().Kind, right.Info().Kind)
}
