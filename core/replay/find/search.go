package find

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
)

// Occurrence is a place at which a value was recorded: a value of the event of a moment, or a part of
// it. Name is that of the value in the event.
type Occurrence struct {
	At    event.Moment
	Name  string
	Value event.Value
}

// pieceOfSearch is the number of moments of one unit of work.
const pieceOfSearch = 1 << 16

// Search implements replay.Finder. It looks at each recorded value once, on all
// processors.
func (r Finder) Search(ctx context.Context, s replay.Search, page replay.Page) (replay.Found, error) {
	all, err := r.Occurrences(ctx, s)
	if err != nil {
		return replay.Found{}, err
	}
	out := replay.Found{Total: len(all)}
	from, to := page.Cut(len(all))
	for _, f := range all[from:to] {
		place, err := r.Place(f.At)
		if err != nil {
			return out, err
		}
		out.Page = append(out.Page, replay.FoundValue{Place: place, Name: f.Name, Value: replay.Value{Value: f.Value, Memory: r.MemoryAt(r.T.Process(f.At), f.At, 0)}})
	}
	return out, nil
}

// Occurrences lists all places at which a value was recorded, in order.
func (r Finder) Occurrences(ctx context.Context, s replay.Search) ([]Occurrence, error) {
	sequences := encodings(s)
	n := int((int64(r.T.Len()) + pieceOfSearch - 1) / pieceOfSearch)
	pieces := make([][]Occurrence, n)
	err := guard.Each(ctx, n, func(ctx context.Context, i int) (err error) {
		from := event.Moment(i) * pieceOfSearch
		pieces[i], err = r.searchPiece(ctx, s, sequences, from, min(from+pieceOfSearch, r.T.Len()))
		return err
	})
	all := slices.Concat(pieces...)
	if outer := r.outerOccurrences(s); len(outer) > 0 {
		all = append(all, outer...)
		slices.SortStableFunc(all, func(a, b Occurrence) int { return cmp.Compare(a.At, b.At) })
	}
	return all, err
}

// outerOccurrences lists the values that hold for all calls of a function, or of a process, where the first one begins.
func (r Finder) outerOccurrences(s replay.Search) (out []Occurrence) {
	if r.Recorded() || s.Object != 0 {
		return nil
	}
	in := func(list []event.Named, process uint16, first event.Moment) {
		for _, x := range list {
			if values, err := event.DecodeValues(x.Data, 1, r.T.Types(process)); err == nil {
				look(s, x.Name, values[0], 0, func(name string, v event.Value) { out = append(out, Occurrence{first, name, v}) })
			}
		}
	}
	for id, f := range r.T.Functions {
		if enters := r.T.Enters(id); enters.Len() > 0 {
			in(f.Outer, r.T.Process(enters.At(0)), enters.At(0))
		}
	}
	begun := map[uint16]event.Moment{}
	for id := event.ThreadID(1); int(id) <= r.T.Threads(); id++ {
		first, _ := r.T.Span(id)
		process := r.T.ThreadInfo(id).Process
		if m, ok := begun[process]; !ok || first < m {
			begun[process] = first
		}
	}
	for i := range r.T.Processes {
		if first, ok := begun[r.T.Processes[i].ID]; ok {
			in(r.T.Processes[i].Outer, r.T.Processes[i].ID, first)
		}
	}
	return out
}

// encodings returns the byte sequences of which an event with a wanted value contains one, nil if they
// are not known or too short to be worth a search.
func encodings(s replay.Search) (list [][]byte) {
	const shortest = 2
	value := func(b []byte) { list = append(list, b[1:]) } // without the type
	switch {
	case s.Object != 0:
		value(event.AppendUint(nil, 0, s.Object))
	case s.Text == "" || s.Text == "true" || s.Text == "false":
		return nil
	case s.Number != nil && math.IsNaN(*s.Number): // many encodings are not a number
		return nil
	default:
		list = append(list, []byte(s.Text))
	}
	if s.Object == 0 {
		if s.Int != nil {
			value(event.AppendInt(nil, 0, *s.Int))
		}
		if s.Uint != nil {
			value(event.AppendUint(nil, 0, *s.Uint))
		}
		if s.Number != nil {
			value(event.AppendFloat(nil, 0, *s.Number))
			value(event.AppendFloat32(nil, 0, float32(*s.Number)))
		}
	}
	for _, sequence := range list {
		if len(sequence) < shortest {
			return nil
		}
	}
	return list
}

func (r Finder) searchPiece(ctx context.Context, s replay.Search, sequences [][]byte, from, to event.Moment) (out []Occurrence, err error) {
	if sequences != nil {
		for _, m := range r.T.Containing(from, to, sequences) {
			out = r.searchMoment(s, m, out)
		}
		return out, ctx.Err()
	}
	for m := from; m < to; m++ {
		if m%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		out = r.searchMoment(s, m, out)
	}
	return out, nil
}

func (r Finder) searchMoment(s replay.Search, m event.Moment, out []Occurrence) []Occurrence {
	if s.Object != 0 && r.T.Process(m) != s.Process {
		return out // the same address is another object there
	}
	switch r.T.Kind(m) {
	case event.Line, event.Resume, event.Unwind, event.Exit, event.Wait, event.Pass, event.Release, event.Move, event.Made, event.Exposed, event.Open, event.Snapshot:
		return out
	}
	names, values := r.valuesOf(m)
	for i, v := range values {
		look(s, names(i), v, 0, func(name string, v event.Value) { out = append(out, Occurrence{m, name, v}) })
	}
	return out
}

// valuesOf decodes the values of a moment and returns their names.
func (r Finder) valuesOf(m event.Moment) (names func(i int) string, values []event.Value) {
	e := r.T.Event(m)
	types := r.T.Types(r.T.Process(m))
	variables := func(ids []event.VariableID) func(int) string {
		f := r.T.FunctionOf(r.T.CallOf(m))
		return func(i int) string {
			if i < len(ids) && int(ids[i]) < len(f.Variables) {
				return f.Variables[ids[i]].Name
			}
			return "value " + strconv.Itoa(i+1)
		}
	}
	c := r.T.CallOf(m)
	names = func(int) string { return e.Kind.String() }
	if c != event.NoCall {
		switch f := r.T.FunctionOf(c); e.Kind {
		case event.Enter:
			names = variables(f.Parameters)
		case event.Leave:
			names = variables(f.Results)
		case event.Fields, event.Message, event.Error:
			names = variables(r.T.Site(m).Values)
		case event.Write, event.Cell:
			names = variables([]event.VariableID{event.VariableID(e.ID)})
		}
	}
	switch e.Kind {
	case event.Spread:
		_, items, err := event.DecodeSpread(e.Data, types)
		if err != nil {
			return names, nil
		}
		return func(i int) string { return "[" + strconv.Itoa(i) + "]" }, items
	case event.Entries:
		v, err := event.DecodeEntries(e.Data, types)
		if err != nil {
			return names, nil
		}
		return func(i int) string { return map[bool]string{true: "key", false: "entry"}[i%2 == 0] }, v.Pairs
	}
	values, err := event.DecodeValues(e.Data, e.Args, types)
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

// look searches a value and its parts.
func look(s replay.Search, name string, v event.Value, depth int, found func(string, event.Value)) {
	if v.State != event.Known || depth > maxSearchDepth {
		return
	}
	if matches(s, v) {
		found(name, v)
	}
	for i, item := range v.Items {
		part := name
		switch {
		case v.Type != nil && v.Type.Form == event.Struct && i < len(v.Type.Fields):
			part += "." + v.Type.Fields[i].Name
		case v.Type != nil && (v.Type.Form == event.Array || v.Type.Form == event.Slice):
			part += "[" + strconv.Itoa(i) + "]"
		}
		look(s, part, item, depth+1, found)
	}
	for i, p := range v.Pairs {
		look(s, name+map[bool]string{true: " key", false: "[]"}[i%2 == 0], p, depth+1, found)
	}
}

func matches(s replay.Search, v event.Value) bool {
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
	if s.Text == "" && s.Type != "" {
		return true // any value of the type
	}
	switch v.Type.Form {
	case event.Text:
		return s.Text != "" && strings.Contains(v.Text, s.Text)
	case event.Int:
		return s.Int != nil && v.Int == *s.Int
	case event.Uint:
		return s.Uint != nil && v.Uint == *s.Uint
	case event.Float:
		if s.Number == nil {
			return false
		}
		return v.Float == *s.Number || math.IsNaN(v.Float) && math.IsNaN(*s.Number) || v.Type.Size == 4 && float32(v.Float) == float32(*s.Number)
	case event.Bool:
		return s.Text == strconv.FormatBool(v.Uint != 0)
	}
	return false
}

// ObjectAt implements replay.Finder: the object that a pointer, slice, map or channel refers to,
// else the value at the path itself, if it has an address.
func (r Finder) ObjectAt(_ context.Context, path string, at event.Moment, t event.ThreadID, frame int) (uint64, uint16, error) {
	l, v, err := r.LocatePath(path, at, t, frame)
	if err != nil {
		return 0, 0, err
	}
	for v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.With(v.Items[0])
	}
	switch {
	case v.Address != 0:
		return v.Address, l.Process, nil
	case l.InMemory():
		return l.Address, l.Process, nil
	}
	return 0, 0, fmt.Errorf("%s: %w: not an object that references can refer to", path, fault.NoName)
}
