// Package intake builds timelines of evidence without a recorder: it collects the tables of such
// evidence, orders its events, and feeds them to a timeline.
package intake

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"wraithology/core/event"
)

// The types of values, the same for all processes, named as in OpenTelemetry and the Common
// Expression Language.
const (
	String    event.TypeID = 1
	Int       event.TypeID = 2
	Double    event.TypeID = 3
	Bool      event.TypeID = 4
	Bytes     event.TypeID = 5
	List      event.TypeID = 6
	Any       event.TypeID = 7
	Duration  event.TypeID = 8 // whole nanoseconds
	Timestamp event.TypeID = 9 // nanoseconds since 1970 (UTC)
	Object    event.TypeID = 10
)

// Limits of the tables. Everything beyond is collected under one name.
const (
	MaxFunctions = 1 << 17
	MaxVariables = 1 << 14 // of one function
	MaxSites     = 1 << 20
	MaxProcesses = 1 << 15
)

// Tables are the tables of evidence that are known so far.
type Tables struct {
	*event.Tables
	functions map[string]*Function
	files     map[string]event.FileID
	sites     map[string]event.SiteID
	processes map[string]uint16
	gaps      map[string]*gap
	order     []*gap
	key       []byte
	longest   int // bytes of a text
	// Where, if set, names the place that is being read: a line, or a trace and a span. Gaps name the first one.
	Where func() string
}

type gap struct {
	n            int
	what, remedy string
	where        string // of the first one
}

// NewTables returns empty tables for a kind of evidence. threadKind is the word for its threads.
func NewTables(kind, threadKind string, in Input) *Tables {
	t := &Tables{Tables: event.NewTables(), functions: map[string]*Function{}, files: map[string]event.FileID{}, sites: map[string]event.SiteID{},
		processes: map[string]uint16{}, gaps: map[string]*gap{}}
	if t.longest = in.LongestText; t.longest <= 0 {
		t.longest = DefaultLongest
	}
	t.Header.Kind, t.Header.ThreadKind = kind, threadKind
	for _, x := range []event.Type{
		{ID: String, Name: "string", Form: event.Text}, {ID: Int, Name: "int", Form: event.Int, Size: 8}, {ID: Double, Name: "double", Form: event.Float, Size: 8},
		{ID: Bool, Name: "bool", Form: event.Bool}, {ID: Bytes, Name: "bytes", Form: event.Text}, {ID: List, Name: "list", Form: event.Array, Elem: Any},
		{ID: Any, Name: "any", Form: event.Interface}, {ID: Duration, Name: event.DurationType, Form: event.Int, Size: 8}, {ID: Timestamp, Name: event.TimestampType, Form: event.Int, Size: 8}, {ID: Object, Name: event.ObjectType, Form: event.Text},
	} {
		t.Tables.AddType(x)
	}
	t.Tables.Files[0] = event.File{}
	if in.Damage != "" {
		t.Gap(in.Damage, "fetch the file again, or look at the one that follows it")
	}
	return t
}

// Function is a function that is becoming known.
type Function struct {
	event.Function
	names     map[string]event.VariableID
	positions []int // position of a variable among the parameters, -1 for none
}

// Function returns the function with a key. It adds a new one with the result of name. Beyond
// MaxFunctions it returns one function for all others.
func (t *Tables) Function(key []byte, make func() event.Function) *Function {
	if f, ok := t.functions[string(key)]; ok {
		return f
	}
	made := event.Function{Name: "(other)", Own: true}
	if len(t.functions) >= MaxFunctions {
		const other = "\x00other"
		if f, ok := t.functions[other]; ok {
			return f
		}
		t.Gap("more than "+strconv.Itoa(MaxFunctions)+" names of operations", "the others have the common name (other): names that hold numbers or IDs are better attributes")
		key = []byte(other)
	} else {
		made = make()
	}
	f := &Function{Function: made, names: map[string]event.VariableID{}}
	f.ID = event.FunctionID(len(t.functions))
	t.functions[string(key)] = f
	return f
}

// Functions gives all functions.
func (t *Tables) Functions(yield func(*Function)) {
	for _, f := range t.functions {
		yield(f)
	}
}

// File numbers a source file.
func (t *Tables) File(path string) event.FileID {
	id, ok := t.files[path]
	if path == "" {
		return 0
	}
	if !ok {
		if len(t.files) >= MaxFunctions {
			t.Gap("more than "+strconv.Itoa(MaxFunctions)+" source files", "places in the others have no file")
			return 0
		}
		id = event.FileID(len(t.files) + 1)
		t.files[path] = id
		t.Tables.Files[id] = event.File{ID: id, Path: path}
	}
	return id
}

// Variable returns the number of a function's variable with a name. It adds a new one. ok is false
// if the function has too many.
func (f *Function) Variable(name []byte) (id event.VariableID, ok bool) {
	if id, ok := f.names[string(name)]; ok {
		return id, true
	}
	if len(f.Variables) >= MaxVariables {
		return 0, false
	}
	id = event.VariableID(len(f.Variables))
	f.names[string(name)] = id
	f.Variables = append(f.Variables, event.Variable{Name: Clean(string(name)), Scope: event.Local, EndLine: math.MaxInt32})
	f.positions = append(f.positions, -1)
	return id, true
}

// Parameter is Variable for values that are known when a call begins. position is its position
// among the parameters, or -1 if an event has no space for more.
func (f *Function) Parameter(name []byte) (id event.VariableID, position int, ok bool) {
	if id, ok = f.Variable(name); !ok {
		return id, -1, false
	}
	if f.positions[id] < 0 && len(f.Parameters) < event.MaxArgs {
		f.positions[id] = len(f.Parameters)
		f.Parameters = append(f.Parameters, id)
		f.Variables[id].Scope = event.Parameter
	}
	return id, f.positions[id], true
}

// Site returns the site in a function and line whose events carry values of the variables, in this
// order. File 0 is the file of the function.
func (t *Tables) Site(f *Function, file event.FileID, line int, values []event.VariableID) event.SiteID {
	k := binary.AppendUvarint(binary.AppendUvarint(binary.AppendUvarint(t.key[:0], uint64(f.ID)), uint64(file)), uint64(line))
	for _, v := range values {
		k = binary.AppendUvarint(k, uint64(v))
	}
	t.key = k
	id, ok := t.sites[string(k)]
	if !ok {
		id = event.SiteID(len(t.sites))
		t.sites[string(k)] = id
		t.Tables.Sites[id] = event.Site{ID: id, Function: f.ID, File: file, Line: line, Values: append([]event.VariableID(nil), values...)}
	}
	return id
}

// Full reports whether no more sites are to be added.
func (t *Tables) Full() bool { return len(t.sites) >= MaxSites }

// Process returns the process with a key. It adds a new one. Beyond MaxProcesses it returns one
// process for all others.
func (t *Tables) Process(key string, make func() event.Process) uint16 {
	if id, ok := t.processes[key]; ok {
		return id
	}
	made := event.Process{Program: "(other)"}
	if len(t.processes) >= MaxProcesses {
		const other = "\x00other"
		if id, ok := t.processes[other]; ok {
			return id
		}
		t.Gap("more than "+strconv.Itoa(MaxProcesses)+" different senders", "the others have the common name (other): split the evidence by service")
		key = other
	} else {
		made = make()
	}
	made.ID = uint16(len(t.processes))
	t.processes[key] = made.ID
	t.Tables.Processes = append(t.Tables.Processes, made)
	return made.ID
}

// Gap counts a problem. What describes it in the plural.
func (t *Tables) Gap(what, remedy string) {
	g := t.gaps[what]
	if g == nil {
		g = &gap{what: what, remedy: remedy}
		if t.Where != nil {
			g.where = t.Where()
		}
		t.gaps[what] = g
		t.order = append(t.order, g)
	}
	g.n++
}

// Seal puts what was gathered into the log's tables.
func (t *Tables) Seal() {
	for _, f := range t.functions {
		t.Tables.Functions[f.ID] = f.Function
	}
	t.Tables.Gaps = nil
	for _, g := range t.order {
		what := g.what
		if g.n > 1 {
			what = strconv.Itoa(g.n) + " × " + what
		}
		switch {
		case g.where == "":
		case g.n > 1:
			what += ", the first at " + g.where
		default:
			what += ", at " + g.where
		}
		t.Tables.Gaps = append(t.Tables.Gaps, event.Gap{What: what, Remedy: g.remedy})
	}
}

// DefaultLongest is how many bytes of a text are kept, unless an Input says otherwise.
const DefaultLongest = 1 << 20

// LongestText is the name of the rule that sets another limit.
const LongestText = "longest-text"

// MaxText limits names and other texts that are in tables.
const MaxText = 64 << 10

// Clean returns a text as valid UTF-8, shortened if it is longer than MaxText.
func Clean(s string) string { return clean(s, MaxText) }

func clean(s string, longest int) string {
	if len(s) > longest {
		end := longest
		for end > longest-utf8.UTFMax && !utf8.RuneStart(s[end]) {
			end-- // a character is not cut
		}
		s = s[:end]
	}
	if utf8.ValidString(s) {
		return s
	}
	return strings.ToValidUTF8(s, "\uFFFD")
}

// AppendString appends a text value. Of a text that is too long, the beginning is kept, and a gap says so.
func (t *Tables) AppendString(b []byte, s string) []byte {
	if len(s) > t.longest {
		t.tooLong()
		return event.AppendBeginning(b, String, clean(s, t.longest), len(s))
	}
	return event.AppendText(b, String, clean(s, t.longest))
}

// AppendBytes appends a byte string, in hexadecimal digits. It is AppendString for bytes.
func (t *Tables) AppendBytes(b, x []byte) []byte {
	text := hex.EncodeToString(x[:min(len(x), t.longest)])
	if len(x) > t.longest {
		t.tooLong()
		return event.AppendBeginning(b, Bytes, text, 2*len(x))
	}
	return event.AppendText(b, Bytes, text)
}

// Longest returns how many bytes of a text are kept.
func (t *Tables) Longest() int { return t.longest }

// AppendObject appends an object or list in the notation of JSON, whose parts are opened by path.
func (t *Tables) AppendObject(b []byte, s string) []byte {
	if len(s) > t.longest {
		return t.AppendString(b, s)
	}
	return event.AppendText(b, Object, clean(s, t.longest))
}

func (t *Tables) tooLong() {
	t.Gap(fmt.Sprintf("texts of more than %d bytes", t.longest), "only their beginnings are kept: raise the limit with --longest-text BYTES")
}
