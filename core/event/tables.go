package event

import (
	"math"
	"strings"
	"time"
)

// Tables explain the numbers in the events of a recording. They are complete before the first event
// is read.
type Tables struct {
	Header    Header
	Processes []Process
	Functions map[FunctionID]Function
	Files     map[FileID]File
	Sites     map[SiteID]Site
	Ends      map[uint16]End // by process
	Gaps      []Gap
	Omitted   map[FunctionID]uint64 // calls that the recorder left out

	threads map[threadKey]Thread
	types   map[typeKey]*Type
}

type threadKey struct {
	process uint16
	thread  uint32
}

// typeKey is the number of a process and, in the lower half, that of a type: maps are fastest with
// whole numbers, and each value that is decoded needs its type.
type typeKey uint64

func keyOfType(process uint16, id TypeID) typeKey { return typeKey(process)<<32 | typeKey(id) }

// NewTables returns empty tables.
func NewTables() *Tables {
	return &Tables{Functions: map[FunctionID]Function{}, Files: map[FileID]File{}, Sites: map[SiteID]Site{}, Ends: map[uint16]End{}, Omitted: map[FunctionID]uint64{},
		threads: map[threadKey]Thread{}, types: map[typeKey]*Type{}}
}

// AddType adds a type for all processes.
func (t *Tables) AddType(x Type) { t.types[keyOfType(0, x.ID)] = &x }

// Types returns the type table of a process. In evidence without a recorder all processes share the
// types of process 0.
func (t *Tables) Types(process uint16) Types {
	if t.Header.Kind != "" {
		process = 0
	}
	return func(id TypeID) *Type { return t.types[keyOfType(process, id)] }
}

// EachType calls f for every type with its process.
func (t *Tables) EachType(f func(process uint16, t *Type)) {
	for k, x := range t.types {
		f(uint16(k>>32), x)
	}
}

// Thread returns a thread of a process by the recorder's number.
func (t *Tables) Thread(process uint16, thread uint32) (Thread, bool) {
	th, ok := t.threads[threadKey{process, thread}]
	return th, ok
}

// EachThread calls f for every thread in the tables.
func (t *Tables) EachThread(f func(Thread)) {
	for _, th := range t.threads {
		f(th)
	}
}

// Block is a part of one thread's events in a log. The times of its events count from Base, in
// nanoseconds since the start of the log.
type Block struct {
	Process uint16
	Thread  uint32
	Base    int64
	Offset  int64 // of its payload
	Bytes   int64 // of its payload in the file
}

// Loss is a part of evidence that could not be read. Offset is its beginning.
type Loss struct {
	Offset int64
	Bytes  int64
	What   string
}

// Header describes what was recorded. Kind is the kind of evidence, empty for an execution log.
type Header struct {
	Kind     string    `cbor:"kind,omitempty"`
	Program  string    `cbor:"program"`
	Language string    `cbor:"language"`
	Compiler string    `cbor:"compiler"`
	BuildID  string    `cbor:"buildID"`
	Revision string    `cbor:"revision"`
	Host     string    `cbor:"host"`
	Started  time.Time `cbor:"started"`
	Recorder string    `cbor:"recorder"`
	Detail   string    `cbor:"detail"`
	Sampled  bool      `cbor:"sampled,omitempty"` // some calls were left out
	Command  []string  `cbor:"command"`
	// Dir is the folder of the main module where it was built; empty if it is not known.
	Dir string `cbor:"dir,omitempty"`
	// TraceID is the ID of the trace in which the program ran, in hexadecimal; empty if there is
	// none.
	TraceID string `cbor:"traceID,omitempty"`
	// ThreadKind is the kind of the threads of evidence without a recorder.
	ThreadKind string `cbor:"threadKind,omitempty"`
	// Reading says how the lines of a log were read; nil for other evidence.
	Reading *Reading `cbor:"reading,omitempty"`
}

// Reading says how the lines of a log were read: Lines is the sum of Records, Continuations, Blank and Unread.
// Timed and Leveled are the numbers of records with a time and with a level. Unread lines are kept as text.
type Reading struct {
	Lines         int64 `cbor:"lines" json:"lines"`
	Records       int64 `cbor:"records" json:"records"`
	Continuations int64 `cbor:"continuations" json:"continuations"`
	Blank         int64 `cbor:"blank" json:"blank"`
	Unread        int64 `cbor:"unread" json:"unread"`
	Timed         int64 `cbor:"timed" json:"timed"`
	Leveled       int64 `cbor:"leveled" json:"leveled"`
	// Samples are the first records with what was read as what, FirstUnread the first lines that were not read.
	Samples     []ReadLine `cbor:"samples" json:"samples"`
	FirstUnread []ReadLine `cbor:"firstUnread" json:"firstUnread"`
}

// ReadLine is a line of a log, from 1, with the texts of what was read in it. Time is in RFC 3339.
type ReadLine struct {
	Line    int64  `cbor:"line" json:"line"`
	Text    string `cbor:"text" json:"text"`
	Time    string `cbor:"time,omitempty" json:"time,omitempty"`
	Level   string `cbor:"level,omitempty" json:"level,omitempty"`
	Thread  string `cbor:"thread,omitempty" json:"thread,omitempty"`
	Logger  string `cbor:"logger,omitempty" json:"logger,omitempty"`
	Message string `cbor:"message,omitempty" json:"message,omitempty"`
}

// UnknownStart is the start of a process of evidence that has no times.
const UnknownStart = math.MinInt64

// Unhandled is the name of the value of an Error event whose error ended a program.
const Unhandled = "unhandled"

// Process is one process of a recording; a test run has one for each tested package.
type Process struct {
	ID       uint16   `cbor:"id"`
	PID      int      `cbor:"pid"`
	Program  string   `cbor:"program"`
	Args     []string `cbor:"args"`
	BuildID  string   `cbor:"buildID"`
	Host     string   `cbor:"host"`
	Compiler string   `cbor:"compiler"`
	Started  int64    `cbor:"started"` // wall clock, nanoseconds since 1970 (UTC), or UnknownStart
	// Outer are values that hold for the whole process.
	Outer []Named `cbor:"outer,omitempty"`
}

// Named is a value with a name. Data is its type number and its item, as in an event.
type Named struct {
	Name string `cbor:"name"`
	Data []byte `cbor:"data"`
}

// Gap is something that is missing in evidence, with a remedy.
type Gap struct {
	What   string `cbor:"what"`
	Remedy string `cbor:"remedy"`
}

// End is the end of a process, as far as the recorder knows it.
type End struct {
	Process  uint16 `cbor:"process"`
	ExitCode int    `cbor:"exitCode"` // -1 if not known
	Signal   string `cbor:"signal"`
	Crash    string `cbor:"crash"`    // the text that the language's runtime printed, if any
	Trouble  string `cbor:"trouble"`  // the reason why recording stopped early
	Duration int64  `cbor:"duration"` // nanoseconds
}

// Scope is the role of a variable in its function.
type Scope string

// The scopes of a variable, as they appear in every answer.
const (
	Parameter Scope = "parameter"
	Local     Scope = "local"
	Return    Scope = "return"
	Global    Scope = "global"
	Register  Scope = "register"
)

// Variable is a name that a function declares or captures. It is visible from
// the line after Line to EndLine; a parameter from the first line on.
type Variable struct {
	Name    string
	Scope   Scope
	Type    string
	Line    int
	EndLine int
}

// Function is one function, method or function literal of the program.
type Function struct {
	ID        FunctionID
	Name      string // with package and receiver, in the notation of the language
	File      FileID
	Line      int
	EndLine   int
	Own       bool
	Variables []Variable
	// Parameters and Results list the variables whose values Enter and Leave
	// carry, in their order.
	Parameters []VariableID
	Results    []VariableID
	// Outer are values that hold for all calls of the function.
	Outer []Named
}

// Site is a line of a function, with the names that it reads and writes. Values are the variables
// of the values of a Fields, Message or Error event, in order.
type Site struct {
	ID       SiteID
	Function FunctionID
	Line     int
	Reads    []string
	Writes   []string
	Flows    []Flow
	Values   []VariableID
	File     FileID // if it is not the file of the function
}

// FlowKind is the destination of an expression's value.
type FlowKind uint8

// The kinds of flow, with the numbers of the .wraith format.
const (
	FlowAssign   FlowKind = 1 // into Target
	FlowArgument FlowKind = 2 // into the parameter Target of the function Callee
	FlowResult   FlowKind = 3 // into result number Target, from 0
	FlowSend     FlowKind = 4 // into the channel Target
	FlowPart     FlowKind = 5 // into the field Target of a new value
	FlowForeign  FlowKind = 6 // into code that is not recorded and may change the value
	FlowYield    FlowKind = 7 // into Target, as value number Callee of the function that the loop ranges over
)

// Flow describes the sources of a value that a line stores, passes, returns or sends. Reads are the
// names that are read, Calls the functions of the program whose results are used, Receives the
// channels, and Foreign the calls of code that is not recorded. Text is the expression in the
// source.
type Flow struct {
	Kind     FlowKind
	Target   string
	Callee   string
	Text     string
	Reads    []string
	Calls    []string
	Receives []string
	Foreign  []string
}

// constantMark is between the text of a constant expression and its value in Flow.Text.
const constantMark = " is "

// ConstantText returns the text of a constant expression with its value, at most most bytes; without
// the value if that is too long.
func ConstantText(text, value string, most int) string {
	if with := text + constantMark + value; len(with) <= most {
		return with
	}
	return text
}

// SplitConstant returns the expression and the value of a text of ConstantText; value is the whole
// text if it has no other.
func SplitConstant(text string) (expression, value string) {
	if i := strings.LastIndex(text, constantMark); i > 0 {
		return text[:i], text[i+len(constantMark):]
	}
	return text, text
}

// File is a source file at the time of the build. Text is empty if the log does not contain it.
type File struct {
	ID   FileID
	Path string
	Text string
}

// Thread is a thread of execution: for Go, a goroutine.
type Thread struct {
	ID      ThreadID
	Process uint16
	Number  uint64 // the number of the program's runtime
	Name    string // empty if the thread has only a number
	Creator string // "function at file:line" of the statement that started it; empty for the first thread
	Started int64
}
