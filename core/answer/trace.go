package answer

import (
	"context"
	"fmt"
	"io"
	"strings"
	"unicode"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Writes are writes of a variable, field or element, oldest first.
type Writes struct {
	Total  int     `json:"total"`
	Writes []Write `json:"writes"`
}

// Write is one of them. Old is null where nothing was known before.
type Write struct {
	Moment   int64   `json:"moment"`
	Thread   string  `json:"thread"`
	Function string  `json:"function"`
	File     string  `json:"file"`
	Line     int     `json:"line"`
	Old      *string `json:"old"`
	New      string  `json:"new"`
}

// valueText writes a value for an answer: what is not known says so.
func valueText(v replay.Value) string {
	if v.State == event.Known {
		return v.Text()
	}
	return "<" + string(v.State) + ">"
}

func writeOf(w replay.Write) Write {
	out := Write{Moment: int64(w.Moment), Thread: ThreadID(w.Thread), Function: w.Function, File: w.File, Line: w.Line, New: valueText(w.New)}
	if w.Old != nil {
		old := valueText(*w.Old)
		out.Old = &old
	}
	return out
}

// WritesTo gives a page of the writes of what a path leads to; with last only
// the one that gave the value that it has at the moment.
func WritesTo(ctx context.Context, r replay.Replay, path string, at event.Moment, t event.ThreadID, frame int, last bool, page replay.Page) (Writes, error) {
	out := Writes{Writes: []Write{}}
	if last {
		w, found, err := r.LastWrite(ctx, path, at, t, frame)
		if err == nil && found {
			out.Total, out.Writes = 1, append(out.Writes, writeOf(w))
		}
		return out, err
	}
	list, err := r.Writes(ctx, path, at, t, frame, page)
	if err != nil {
		return out, err
	}
	out.Total = list.Total
	for _, w := range list.Page {
		out.Writes = append(out.Writes, writeOf(w))
	}
	return out, nil
}

// Origin is a value, the write that gave it, and the values that it was computed
// from. Note says in words what kind and value do not; more says that the chain
// goes on beyond the depth that was asked for.
type Origin struct {
	Name     string   `json:"name"`
	Value    string   `json:"value"`
	Kind     string   `json:"kind"`
	Moment   int64    `json:"moment"`
	Thread   string   `json:"thread"`
	Function string   `json:"function"`
	File     string   `json:"file"`
	Line     int      `json:"line"`
	Note     string   `json:"note"`
	More     bool     `json:"more"`
	Asked    Asked    `json:"asked"`
	From     []Origin `json:"from"`
}

// Asked is where, and by which path, a value of a chain was read: from there the
// chain can be asked for again.
type Asked struct {
	Moment int64  `json:"moment"`
	Thread string `json:"thread"`
	Frame  int    `json:"frame"`
	Path   string `json:"path"`
}

// OriginOf explains a value.
func OriginOf(ctx context.Context, r replay.Replay, path string, at event.Moment, t event.ThreadID, frame, depth int) (Origin, error) {
	o, err := r.Origin(ctx, path, at, t, frame, depth)
	return originOf(o), err
}

func originOf(o replay.Origin) Origin {
	out := Origin{Name: o.Name, Kind: string(o.Kind), Moment: int64(o.Moment), Thread: ThreadID(o.Thread), Function: o.Function, File: o.File, Line: o.Line, Note: o.Note, More: o.More, From: []Origin{},
		Asked: Asked{int64(o.Asked.At), ThreadID(o.Asked.Thread), o.Asked.Frame, o.Asked.Path}}
	if o.Value.State == event.Known {
		out.Value = o.Value.Text()
	}
	for _, x := range o.From {
		out.From = append(out.From, originOf(x))
	}
	return out
}

// WriteOrigin writes a chain as text that can be read aloud, one value a line,
// indented below what was computed from it. source gives a line of source text.
func WriteOrigin(w io.Writer, o Origin, evidence string, source func(file string, line int) string) {
	writeOrigin(w, o, evidence, source, 0)
}

func writeOrigin(w io.Writer, o Origin, evidence string, source func(file string, line int) string, depth int) {
	indent := strings.Repeat("  ", depth)
	fmt.Fprintf(w, "%s%s\n", indent, plainText(o.sentence()))
	if o.Kind != string(replay.FromConstant) && o.Kind != string(replay.FromInput) {
		fmt.Fprintf(w, "%s  at %s@%d#%s  %s:%d  %s\n", indent, evidence, o.Moment, o.Thread, plainText(o.File), o.Line, plainText(o.Function))
		if text := source(o.File, o.Line); text != "" && (o.Kind == string(replay.FromWrite) || o.Kind == string(replay.FromResult)) {
			fmt.Fprintf(w, "%s  | %s\n", indent, plainText(text))
		}
	}
	if o.More {
		fmt.Fprintf(w, "%s  it goes on from here: wraith origin %s@%d#%s.%d %s\n", indent, evidence, o.Asked.Moment, o.Asked.Thread, o.Asked.Frame, quoteArgument(o.Asked.Path))
	}
	for _, x := range o.From {
		writeOrigin(w, x, evidence, source, depth+1)
	}
}

func quoteArgument(s string) string {
	if strings.ContainsAny(s, " \"[]*()<$") {
		return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
	}
	return s
}

// plainText makes text from evidence safe for a terminal: no control characters.
func plainText(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '·'
		}
		return r
	}, s)
}

// sentence says in words where the value came from.
func (o Origin) sentence() string {
	is := o.Name
	if o.Value != "" && o.Value != o.Name {
		is += " was " + o.Value
	}
	note := ""
	if o.Note != "" {
		note = " (" + o.Note + ")"
	}
	switch replay.OriginKind(o.Kind) {
	case replay.FromWrite:
		return is + ", written here" + note
	case replay.FromArgument:
		return is + ", passed as an argument" + note
	case replay.FromResult:
		return is + ", returned here" + note
	case replay.FromConstant:
		return is + ", a constant" + note
	case replay.FromInput:
		return is + ", an input" + note
	case replay.FromRepeat:
		return is + note
	}
	return is + ", of which nothing more is known" + note
}

// Changed lists what differs from the frame's previous moment. Old is null where
// a name had no value before.
type Changed struct {
	Moment   int64      `json:"moment"`
	Previous int64      `json:"previous"`
	Changes  []Change   `json:"changes"`
	Returned []Returned `json:"returned"`
}

// Change is a name whose value differs.
type Change struct {
	Name string  `json:"name"`
	Old  *string `json:"old"`
	New  string  `json:"new"`
}

// Returned is a call that returned on the way to the moment, with its results.
type Returned struct {
	Function string   `json:"function"`
	Moment   int64    `json:"moment"`
	Values   []string `json:"values"`
}

// ChangedAt compares a frame with its previous moment.
func ChangedAt(ctx context.Context, r replay.Replay, at event.Moment, t event.ThreadID, frame int) (Changed, error) {
	out := Changed{Moment: int64(at), Previous: -1, Changes: []Change{}, Returned: []Returned{}}
	c, err := r.Changed(ctx, at, t, frame)
	if err != nil {
		return out, err
	}
	out.Previous = int64(c.Previous)
	for _, x := range c.Changes {
		change := Change{Name: x.Name, New: valueText(x.New)}
		if x.Old != nil {
			old := valueText(*x.Old)
			change.Old = &old
		}
		out.Changes = append(out.Changes, change)
	}
	out.Returned, err = returnedAt(ctx, r, at, t, frame)
	return out, err
}

func returnedAt(ctx context.Context, r replay.Replay, at event.Moment, t event.ThreadID, frame int) ([]Returned, error) {
	out := []Returned{}
	list, err := r.Returned(ctx, at, t, frame)
	for _, x := range list {
		y := Returned{Function: x.Function, Moment: int64(x.At), Values: []string{}}
		for _, v := range x.Values {
			y.Values = append(y.Values, valueText(v))
		}
		out = append(out, y)
	}
	return out, err
}

// Search are the places at which a value was found.
type Search struct {
	Total int     `json:"total"`
	Found []Found `json:"found"`
}

// Found is one of them.
type Found struct {
	Moment   int64  `json:"moment"`
	Thread   string `json:"thread"`
	Function string `json:"function"`
	File     string `json:"file"`
	Line     int    `json:"line"`
	Name     string `json:"name"`
	Value    string `json:"value"`
}

// SearchQuery says what is looked for: a text or number, a type, or with Object
// the object that a path leads to from a place.
type SearchQuery struct {
	Text   string `json:"text,omitempty"`
	Type   string `json:"type,omitempty"`
	Object string `json:"object,omitempty"`
	From   int    `json:"from,omitempty"`
	Count  int    `json:"count,omitempty"`
}

// SearchFor finds values. The place is that from which Object is reached.
func SearchFor(ctx context.Context, r replay.Replay, q SearchQuery, at event.Moment, t event.ThreadID, frame int) (Search, error) {
	out := Search{Found: []Found{}}
	s := replay.NewSearch(q.Text, q.Type)
	if q.Object != "" {
		var err error
		if at, t, err = Resolve(r, at, t); err != nil {
			return out, err
		}
		if s.Object, s.Process, err = r.ObjectAt(ctx, q.Object, at, t, frame); err != nil {
			return out, err
		}
	}
	found, err := r.Search(ctx, s, replay.Page{From: q.From, Count: q.Count})
	if err != nil {
		return out, err
	}
	out.Total = found.Total
	for _, f := range found.Page {
		out.Found = append(out.Found, Found{Moment: int64(f.Moment), Thread: ThreadID(f.Thread), Function: f.Function, File: f.File, Line: f.Line, Name: f.Name, Value: valueText(f.Value)})
	}
	return out, nil
}

// Meanwhile says what each thread did between two moments.
type Meanwhile struct {
	From    int64   `json:"from"`
	To      int64   `json:"to"`
	Threads []Doing `json:"threads"`
}

// Doing is what one thread did: its moments, and its first and last place there.
type Doing struct {
	Thread  string `json:"thread"`
	Name    string `json:"name"`
	State   string `json:"state"`
	Moments int64  `json:"moments"`
	First   Hit    `json:"first"`
	Last    Hit    `json:"last"`
}

// MeanwhileBetween says what happened on all threads between two moments.
func MeanwhileBetween(ctx context.Context, r replay.Replay, from, to event.Moment) (Meanwhile, error) {
	out := Meanwhile{From: int64(from), To: int64(to), Threads: []Doing{}}
	list, err := r.Meanwhile(ctx, from, to)
	if err != nil {
		return out, err
	}
	for _, d := range list {
		x := Doing{Thread: ThreadID(d.Thread.ID), Name: d.Thread.Name, State: d.Thread.State, Moments: d.Moments}
		if x.First, err = hitAt(r, d.First.Moment); err != nil {
			return out, err
		}
		if x.Last, err = hitAt(r, d.Last.Moment); err != nil {
			return out, err
		}
		out.Threads = append(out.Threads, x)
	}
	return out, nil
}
