package replay

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"strconv"
	"strings"
	"sync"

	"wraithology/core/event"
	"wraithology/core/execlog"
)

// Search says what is looked for among all recorded values: a text that a value
// has in it, a number that it equals, an object that it refers to. Type, if not
// empty, is the value's type name, or its end after a dot.
type Search struct {
	Text    string
	Number  *float64
	Type    string
	Object  uint64 // an address; 0 for none
	Process uint16 // of the address
}

// NewSearch reads what is looked for: a number also finds texts that hold it.
func NewSearch(text, typeName string) Search {
	s := Search{Text: text, Type: typeName}
	if n, err := strconv.ParseFloat(text, 64); err == nil {
		s.Number = &n
	}
	if unquoted, err := strconv.Unquote(text); err == nil {
		s.Text, s.Number = unquoted, nil
	}
	return s
}

// Found are the places at which a value was found: how many there are, and a page.
type Found struct {
	Total int
	Page  []FoundValue
}

// FoundValue is one place at which a value was found.
type FoundValue struct {
	Place
	Name  string
	Value Value
}

type foundAt struct {
	at    event.Moment
	name  string
	value event.Value
}

// pieceOfSearch is how many moments are searched in one go.
const pieceOfSearch = 1 << 16

// Search implements Replay. It looks at each recorded value once, on all
// processors.
func (r *logRecording) Search(ctx context.Context, s Search, page Page) (Found, error) {
	n := int((int64(r.t.Len()) + pieceOfSearch - 1) / pieceOfSearch)
	pieces := make([][]foundAt, n)
	next := make(chan int)
	var done sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), n) {
		done.Go(func() {
			for i := range next {
				from := event.Moment(i) * pieceOfSearch
				pieces[i] = r.searchPiece(s, from, min(from+pieceOfSearch, r.t.Len()))
			}
		})
	}
	for i := range n {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	done.Wait()
	if err := ctx.Err(); err != nil {
		return Found{}, err
	}
	var out Found
	for _, piece := range pieces {
		for _, f := range piece {
			if out.Total >= page.From && len(out.Page) < page.Count {
				place, err := r.Place(f.at)
				if err != nil {
					return out, err
				}
				out.Page = append(out.Page, FoundValue{place, f.name, Value{Value: f.value, Memory: r.memoryAt(r.t.Process(f.at), f.at, 0)}})
			}
			out.Total++
		}
	}
	return out, nil
}

func (r *logRecording) searchPiece(s Search, from, to event.Moment) []foundAt {
	var out []foundAt
	for m := from; m < to; m++ {
		switch r.t.Kind(m) {
		case event.Line, event.Resume, event.Unwind, event.Exit, event.Wait, event.Pass, event.Release, event.Move:
			continue
		}
		names, values := r.valuesOf(m)
		for i, v := range values {
			s.look(names(i), v, 0, func(name string, v event.Value) { out = append(out, foundAt{m, name, v}) })
		}
	}
	return out
}

// valuesOf decodes the values of a moment and says how each is named.
func (r *logRecording) valuesOf(m event.Moment) (names func(i int) string, values []event.Value) {
	e := r.t.Event(m)
	types := r.t.Types(r.t.Process(m))
	variables := func(ids []event.VariableID) func(int) string {
		f := r.t.FunctionOf(r.t.CallOf(m))
		return func(i int) string {
			if i < len(ids) && int(ids[i]) < len(f.Variables) {
				return f.Variables[ids[i]].Name
			}
			return "value " + strconv.Itoa(i+1)
		}
	}
	c := r.t.CallOf(m)
	names = func(int) string { return e.Kind.String() }
	if c != event.NoCall {
		switch f := r.t.FunctionOf(c); e.Kind {
		case event.Enter:
			names = variables(f.Parameters)
		case event.Leave:
			names = variables(f.Results)
		case event.Fields, event.Message, event.Error:
			names = variables(r.t.Site(m).Values)
		case event.Write, event.Cell:
			names = variables([]event.VariableID{event.VariableID(e.ID)})
		}
	}
	switch e.Kind {
	case event.Spread:
		_, items, err := execlog.DecodeSpread(e.Data, types)
		if err != nil {
			return names, nil
		}
		return func(i int) string { return "[" + strconv.Itoa(i) + "]" }, items
	case event.Entries:
		v, err := execlog.DecodeEntries(e.Data, types)
		if err != nil {
			return names, nil
		}
		return func(i int) string { return map[bool]string{true: "key", false: "entry"}[i%2 == 0] }, v.Pairs
	}
	values, err := execlog.DecodeValues(e.Data, e.Args, types)
	if err != nil {
		return names, nil
	}
	if e.Kind == event.Memory || e.Kind == event.Store {
		names = func(i int) string {
			if i < len(values) && values[i].Type != nil {
				return values[i].Type.Name
			}
			return e.Kind.String()
		}
	}
	return names, values
}

const maxSearchDepth = 12

// look finds what is looked for in a value and its parts.
func (s Search) look(name string, v event.Value, depth int, found func(string, event.Value)) {
	if v.State != event.Known || depth > maxSearchDepth {
		return
	}
	if s.matches(v) {
		found(name, v)
	}
	for i, item := range v.Items {
		part := name
		switch {
		case v.Type != nil && v.Type.Form == event.Struct && i < len(v.Type.Fields):
			part += "." + v.Type.Fields[i].Name
		case v.Type != nil && v.Type.Form == event.Array:
			part += "[" + strconv.Itoa(i) + "]"
		}
		s.look(part, item, depth+1, found)
	}
	for i, p := range v.Pairs {
		s.look(name+map[bool]string{true: " key", false: "[]"}[i%2 == 0], p, depth+1, found)
	}
}

func (s Search) matches(v event.Value) bool {
	if v.Type == nil {
		return false
	}
	if s.Type != "" && v.Type.Name != s.Type && !strings.HasSuffix(v.Type.Name, "."+s.Type) {
		return false
	}
	if s.Object != 0 {
		switch v.Type.Form {
		case event.Pointer, event.Slice, event.Map, event.Chan:
			return v.Address == s.Object
		}
		return false
	}
	switch v.Type.Form {
	case event.Text:
		return s.Text != "" && strings.Contains(v.Text, s.Text)
	case event.Int:
		return s.Number != nil && *s.Number == math.Trunc(*s.Number) && float64(v.Int) == *s.Number
	case event.Uint:
		return s.Number != nil && float64(v.Uint) == *s.Number
	case event.Float:
		if s.Number == nil {
			return false
		}
		return v.Float == *s.Number || v.Type.Size == 4 && float32(v.Float) == float32(*s.Number)
	case event.Bool:
		return s.Text == strconv.FormatBool(v.Uint != 0)
	}
	return s.Text == "" && s.Type != "" // any value of the type
}

// ObjectAt implements Replay: the object that a pointer, slice, map or channel
// refers to, else what the path itself names, where that lies at an address.
func (r *logRecording) ObjectAt(_ context.Context, path string, at event.Moment, t event.ThreadID, frame int) (uint64, uint16, error) {
	l, v, err := r.locatePath(path, at, t, frame)
	if err != nil {
		return 0, 0, err
	}
	for v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.with(v.Items[0])
	}
	switch {
	case v.Address != 0:
		return v.Address, l.process, nil
	case l.inMemory():
		return l.address, l.process, nil
	}
	return 0, 0, fmt.Errorf("%s: %w: it is no object that something can refer to", path, ErrNoName)
}
