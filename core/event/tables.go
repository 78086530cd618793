package event

import "time"

// Tables explain the events of a recording: what its numbers stand for. They are complete
// before the first event is looked at.
type Tables struct {
	Header    Header
	Processes []Process
	Functions map[FunctionID]Function
	Files     map[FileID]File
	Sites     map[SiteID]Site
	Ends      map[uint16]End // by process
	Gaps      []Gap

	threads map[threadKey]Thread
	types   map[typeKey]*Type
}

type threadKey struct {
	process uint16
	thread  uint32
}

type typeKey struct {
	process uint16
	id      TypeID
}

// NewTables returns empty tables.
func NewTables() *Tables {
	return &Tables{Functions: map[FunctionID]Function{}, Files: map[FileID]File{}, Sites: map[SiteID]Site{}, Ends: map[uint16]End{},
		threads: map[threadKey]Thread{}, types: map[typeKey]*Type{}}
}

// AddType adds a type that all processes share.
func (t *Tables) AddType(x Type) { t.types[typeKey{0, x.ID}] = &x }

// Types returns the type table of a process. Evidence that no recorder made has the same
// types in all processes, those of process 0.
func (t *Tables) Types(process uint16) Types {
	if t.Header.Kind != "" {
		process = 0
	}
	return func(id TypeID) *Type { return t.types[typeKey{process, id}] }
}

// EachType calls f for every type with its process.
func (t *Tables) EachType(f func(process uint16, t *Type)) {
	for k, x := range t.types {
		f(k.process, x)
	}
}

// Thread returns a thread of a process, by the number that the recorder gave it.
func (t *Tables) Thread(process uint16, thread uint32) (Thread, bool) {
	th, ok := t.threads[threadKey{process, thread}]
	return th, ok
}

// EachThread calls f for every thread that the tables have.
func (t *Tables) EachThread(f func(Thread)) {
	for _, th := range t.threads {
		f(th)
	}
}

// Block is a piece of one thread's events: where it lies in a log, and from which time, in
// nanoseconds since the log's start, its events count theirs.
type Block struct {
	Process uint16
	Thread  uint32
	Base    int64
	Offset  int64 // of its payload
	Bytes   int64 // of its payload, as it is stored
}

// Loss is a part of evidence that could not be read. Offset is where it begins.
type Loss struct {
	Offset int64
	Bytes  int64
	What   string
}

// Header says what was recorded. Kind is the kind of evidence, empty for an
// execution log.
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
	Command  []string  `cbor:"command"`
	// TraceID is that of the trace within which the program was run, in hexadecimal
	// digits; empty where it does not say.
	TraceID string `cbor:"traceID,omitempty"`
	// ThreadKind says what the threads of evidence are that no recorder made.
	ThreadKind string `cbor:"threadKind,omitempty"`
}

// Process is one process of a recording; a test run has one for each tested package.
type Process struct {
	ID       uint16   `cbor:"id"`
	PID      int      `cbor:"pid"`
	Program  string   `cbor:"program"`
	Args     []string `cbor:"args"`
	BuildID  string   `cbor:"buildID"`
	Host     string   `cbor:"host"`
	Compiler string   `cbor:"compiler"`
	Started  int64    `cbor:"started"` // wall clock, nanoseconds since 1970 (UTC)
	// Outer are values that hold for all that the process does.
	Outer []Named `cbor:"outer,omitempty"`
}

// Named is a value with a name. Data is its type's number and its item, as in an event.
type Named struct {
	Name string `cbor:"name"`
	Data []byte `cbor:"data"`
}

// Gap is something that evidence lacks, with what can be done about it.
type Gap struct {
	What   string `cbor:"what"`
	Remedy string `cbor:"remedy"`
}

// End says how a process ended, as far as the recorder learned it.
type End struct {
	Process  uint16 `cbor:"process"`
	ExitCode int    `cbor:"exitCode"` // -1 where it is not known
	Signal   string `cbor:"signal"`
	Crash    string `cbor:"crash"`    // the text the language's runtime printed, if any
	Trouble  string `cbor:"trouble"`  // why the recorder itself had to stop early
	Duration int64  `cbor:"duration"` // nanoseconds
}

// Scope says what a variable is to its function.
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
	Name      string // with its package and receiver, as the language writes it
	File      FileID
	Line      int
	EndLine   int
	Own       bool
	Variables []Variable
	// Parameters and Results list the variables whose values Enter and Leave
	// carry, in their order.
	Parameters []VariableID
	Results    []VariableID
	// Outer are values that hold for all its calls.
	Outer []Named
}

// Site is a place in the program that can be reached: a line of a function,
// with the names that the line reads and writes. Values are the variables that
// the values of a Fields, Message or Error event go to, in their order.
type Site struct {
	ID       SiteID
	Function FunctionID
	Line     int
	Reads    []string
	Writes   []string
	Flows    []Flow
	Values   []VariableID
	File     FileID // where it is not that of the function
}

// FlowKind says where the value of an expression goes.
type FlowKind uint8

// The kinds of flow, with the numbers of the .wraith format.
const (
	FlowAssign   FlowKind = 1 // into what Target names
	FlowArgument FlowKind = 2 // into the parameter Target of the function Callee
	FlowResult   FlowKind = 3 // into the result with the number Target, from 0
	FlowSend     FlowKind = 4 // into the channel that Target names
	FlowPart     FlowKind = 5 // into the field Target of a value that is made here
	FlowForeign  FlowKind = 6 // into code that is not recorded, which may change what it is given
	FlowYield    FlowKind = 7 // into Target, as the value number Callee that the function yields which is ranged over
)

// Flow says what the value that a line stores, passes, returns or sends is
// computed from. Reads are the names read, Calls the functions of the program
// whose results are used, Receives the channels, Foreign the calls of code that
// is not recorded. Text is the expression as it stands in the source.
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

// File is a source file as it was when the program was built. Text is empty
// where the log carries none.
type File struct {
	ID   FileID
	Path string
	Text string
}

// Thread is a thread of execution: for Go, a goroutine.
type Thread struct {
	ID      ThreadID
	Process uint16
	Number  uint64 // the number the program's own runtime gives it
	Name    string // empty where it goes by its number
	Creator string // "function at file:line" that started it; empty for the first
	Started int64
}
