// Package compare puts two recordings of a program beside each other: it aligns their calls and finds where they part.
package compare

import (
	"context"
	"hash/maphash"
	"iter"
	"math"
	"path/filepath"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// digest stands for a part of a recording; equal parts have equal digests.
type digest uint64

// seed is the same for all digests of a process, which are never stored.
var seed = maphash.MakeSeed()

func textDigest(s string) digest { return digest(maphash.String(seed, s)) }

// mix combines digests, in their order.
func (d digest) mix(o digest) digest {
	const odd = 0x9e3779b97f4a7c15
	x := (uint64(d) ^ uint64(o)) * odd
	return digest(x ^ x>>29 + uint64(o)*odd)
}

// side is one of the two recordings.
type side struct {
	*state.Log
	how       replay.AlignOptions
	functions map[event.FunctionID]digest
	sites     map[event.SiteID]digest
	variables map[variable]digest
	sources   map[event.FileID][]string  // lines of each file
	linesOf   map[event.FunctionID][]int // lines with statements, nil until they are needed

	calls    []digest // of each call, with all that it called on its thread
	children [][]event.CallID
	roots    map[event.ThreadID][]event.CallID
}

type variable struct {
	function event.FunctionID
	id       event.VariableID
}

func newSide(ctx context.Context, l *state.Log, how replay.AlignOptions) (*side, error) {
	s := &side{Log: l, how: how, functions: map[event.FunctionID]digest{}, sites: map[event.SiteID]digest{}, variables: map[variable]digest{}, sources: map[event.FileID][]string{}, roots: map[event.ThreadID][]event.CallID{}}
	for id, f := range l.T.Files {
		s.sources[id] = strings.Split(f.Text, "\n")
	}
	for id, f := range l.T.Functions {
		s.functions[id] = textDigest(f.Name)
		for v, x := range f.Variables {
			s.variables[variable{id, event.VariableID(v)}] = textDigest(x.Name)
		}
	}
	for id, x := range l.T.Sites {
		s.sites[id] = s.siteDigest(&x)
	}
	return s, s.digestAll(ctx)
}

// siteDigest is that of the text of a line: another version of the program may have it elsewhere.
func (s *side) siteDigest(x *event.Site) digest {
	f := s.T.Function(x.Function)
	file := f.File
	if x.File != 0 {
		file = x.File
	}
	text := s.line(file, x.Line)
	if text == "" {
		return s.functions[x.Function].mix(textDigest(filepath.Base(s.T.Files[file].Path))).mix(digest(x.Line))
	}
	return s.functions[x.Function].mix(textDigest(text))
}

// line returns a line of source text, empty if there is none.
func (s *side) line(file event.FileID, n int) string {
	if lines := s.sources[file]; n > 0 && n <= len(lines) {
		return strings.TrimSpace(lines[n-1])
	}
	return ""
}

// digestAll computes the digests of all calls in one pass over the events.
func (s *side) digestAll(ctx context.Context) error {
	n := s.T.Calls()
	s.calls, s.children = make([]digest, n), make([][]event.CallID, n)
	const betweenLooks = 1 << 16
	for m := range s.T.Len() {
		if m%betweenLooks == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		c := s.T.CallOf(m)
		if c == event.NoCall {
			continue
		}
		if x, ok := s.item(m, c); ok {
			s.calls[c] = s.calls[c].mix(digest(x.path)).mix(x.value)
		}
	}
	for c := range event.CallID(n) {
		call := s.T.Call(c)
		if p := call.Parent; p != event.NoCall && s.T.Call(p).Thread == call.Thread {
			s.children[p] = append(s.children[p], c)
		} else {
			s.roots[call.Thread] = append(s.roots[call.Thread], c)
		}
	}
	for c := n - 1; c >= 0; c-- { // those that a call makes have greater numbers
		for _, child := range s.children[c] {
			s.calls[c] = s.calls[c].mix(s.calls[child])
		}
	}
	return nil
}

// item is an event of a call, or a call that it makes. What happens is its path; value is the rest of it. There are
// many: the path is a short digest.
type item struct {
	at    event.Moment
	value digest
	path  uint32
	child event.CallID // event.NoCall for events
}

// item returns what an event of a call is compared by. ok is false for events that depend on when other threads ran, or
// on what the recorder had to look at again.
func (s *side) item(m event.Moment, c event.CallID) (x item, ok bool) {
	kind := s.T.Kind(m)
	path := digest(kind)
	x = item{at: m, child: event.NoCall}
	function := s.T.Call(c).Function
	switch kind {
	case event.Enter:
		path = path.mix(s.functions[function])
		x.value = s.values(m, c)
	case event.Line:
		path = path.mix(s.sites[event.SiteID(s.T.ID(m))])
	case event.Write, event.Cell:
		path = digest(event.Write).mix(s.variables[variable{function, event.VariableID(s.T.ID(m))}])
		x.value = s.values(m, c)
	case event.Leave, event.Store, event.Element, event.Delete, event.Receive, event.Send, event.Output, event.Message, event.Error, event.Panic:
		x.value = s.values(m, c)
	case event.Unwind, event.Recover, event.Failure, event.Exit:
	default:
		return x, false
	}
	x.path = uint32(path)
	return x, true
}

// names returns the names of the variables whose values an event of a call has; nil for events without.
func (s *side) names(m event.Moment, c event.CallID) (out []string) {
	f := s.T.FunctionOf(c)
	var list []event.VariableID
	switch s.T.Kind(m) {
	case event.Enter:
		list = f.Parameters
	case event.Leave:
		list = f.Results
	case event.Write, event.Cell:
		list = []event.VariableID{event.VariableID(s.T.ID(m))}
	}
	for _, id := range list {
		name := ""
		if int(id) < len(f.Variables) {
			name = f.Variables[id].Name
		}
		out = append(out, name)
	}
	return out
}

// values is the digest of the values of an event of a call, of those that are not ignored.
func (s *side) values(m event.Moment, c event.CallID) (d digest) {
	list, err := s.T.Values(m)
	if err != nil {
		return 0
	}
	var names []string
	if s.how.Ignore != nil {
		names = s.names(m, c)
	}
	for i, v := range list {
		if i < len(names) && s.how.Ignores(names[i]) {
			continue
		}
		d = d.mix(s.value(v, 0))
	}
	return d
}

// value is the digest of a value without what differs in every run: addresses and times.
func (s *side) value(v event.Value, depth int) digest {
	const deepest = 8
	d := textDigest(string(v.State))
	if v.Type == nil || v.State != event.Known || depth > deepest {
		return d
	}
	switch {
	case v.Nil:
		return d.mix(1)
	case v.Type.Name == "time.Time":
		return d.mix(2)
	}
	d = d.mix(digest(v.Type.Form))
	switch v.Type.Form {
	case event.Int:
		d = d.mix(digest(v.Int))
	case event.Uint, event.Bool:
		d = d.mix(digest(v.Uint))
	case event.Float, event.Complex:
		d = d.mix(digest(math.Float64bits(v.Float))).mix(digest(math.Float64bits(v.Imag)))
	case event.Text:
		d = d.mix(textDigest(v.Text))
	case event.Slice, event.Map:
		d = d.mix(digest(v.Length))
	case event.Func:
		d = d.mix(textDigest(v.Text))
	}
	for i, x := range v.Items {
		if v.Type.Form == event.Struct && i < len(v.Type.Fields) && s.how.Ignores(v.Type.Fields[i].Name) {
			continue
		}
		d = d.mix(s.value(x, depth+1))
	}
	for _, x := range v.Pairs {
		d = d.mix(s.value(x, depth+1))
	}
	return d
}

// items yields what a call does itself and the calls that it makes, in order.
func (s *side) items(c event.CallID) iter.Seq[item] {
	call := s.T.Call(c)
	_, last := s.T.Span(call.Thread)
	if call.Leave != event.NoMoment {
		last = call.Leave
	}
	return func(yield func(item) bool) {
		children := s.children[c]
		for m := call.Enter; m != event.NoMoment && m <= last; m = s.T.Next(call.Thread, m) {
			if s.T.CallOf(m) == c {
				if x, ok := s.item(m, c); ok && !yield(x) {
					return
				}
				continue
			}
			for len(children) > 0 && s.T.Call(children[0]).Enter < m {
				children = children[1:]
			}
			if len(children) == 0 || s.T.Call(children[0]).Enter != m {
				continue
			}
			child := children[0]
			path := digest(event.Enter).mix(s.functions[s.T.Call(child).Function])
			if !yield(item{at: m, path: uint32(path), value: s.calls[child], child: child}) {
				return
			}
			if m = s.T.Call(child).Leave; m == event.NoMoment {
				return
			}
		}
	}
}
