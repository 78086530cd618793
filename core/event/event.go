// Package event holds the narrow waist of Wraithology: the kinds of event that
// every evidence with a history is turned into, the tables that explain them,
// and the values they carry. Everything above (timeline, replay, questions)
// knows evidence only in these terms.
package event

import (
	"fmt"
	"strconv"

	"wraithology/core/fault"
)

// Moment is a position in a recording's one total order, 0 to N-1. Every event
// of the stream has a moment of its own.
type Moment int64

// NoMoment stands where there is no moment to name.
const NoMoment Moment = -1

// ThreadID numbers the threads (goroutines, tasks) of a recording from 1, in the
// order in which they first appear. It is not the program's own number.
type ThreadID uint32

// String writes the number, as answers, locators and texts do.
func (t ThreadID) String() string { return strconv.FormatUint(uint64(t), 10) }

// MarshalText implements encoding.TextMarshaler: in JSON a thread is a text.
func (t ThreadID) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler. An empty text is 0, no thread. The
// error wraps fault.NoThread.
func (t *ThreadID) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*t = 0
		return nil
	}
	n, err := strconv.ParseUint(string(text), 10, 32)
	if err != nil {
		return fmt.Errorf("thread %q: %w: threads are numbered from 1", text, fault.NoThread)
	}
	*t = ThreadID(n)
	return nil
}

// CallID numbers the calls of a recording, in the order in which they begin.
type CallID uint32

// NoCall stands where a moment belongs to no recorded call.
const NoCall CallID = ^CallID(0)

// FunctionID, SiteID, FileID and VariableID index the tables of a log. A
// VariableID counts from 0 within its function.
type (
	FunctionID uint32
	SiteID     uint32
	FileID     uint32
	VariableID uint32
)

// Kind says what happened at a moment.
type Kind uint8

// The event kinds, with the numbers that the .wraith format gives them
// (docs/formats/execution-log.md, "Events").
const (
	Enter   Kind = 1  // a call begins; its arguments are known
	Line    Kind = 2  // a line is reached and not yet executed
	Write   Kind = 3  // a variable of the current call has been given a value
	Cell    Kind = 4  // as Write, for a variable that lives at an address
	Memory  Kind = 5  // what the memory at an address holds, said because the event before refers to it
	Element Kind = 6  // an entry of a map has been set
	Delete  Kind = 7  // an entry of a map has been removed
	Leave   Kind = 8  // the call returns; its results are known
	Unwind  Kind = 9  // the call is left by a panic or by the end of its thread
	Panic   Kind = 10 // a panic begins
	Recover Kind = 11 // a panic was recovered
	Failure Kind = 12 // a test has failed
	Exit    Kind = 13 // the program ends itself
	Resume  Kind = 14 // what follows happens in an outer call that is still open
	Entries Kind = 15 // all the entries of a map
	Spread  Kind = 16 // elements that lie one after the other from an address on
	Store   Kind = 17 // the program has stored a value at an address
	Send    Kind = 18 // a value is about to be sent on a channel
	Wait    Kind = 19 // the thread is about to wait, by Op, for what lies at an address
	Pass    Kind = 20 // that wait is over
	Receive Kind = 21 // a value was received from a channel
	Release Kind = 22 // the program lets others go on, by Op
	Output  Kind = 23 // the program has put out a text
	Move    Kind = 24 // memory has been copied to another place, or holds what nobody knows
	Open    Kind = 25 // a call is open of which the beginning is not in the log; ID is the site it has reached
	Fields  Kind = 26 // variables of the current call have been given values; ID is the site that lists them
	Message Kind = 27 // as Fields, and the first value is a message that was put down
	Error   Kind = 28 // as Message, of an error
)

// String names the kind as the format document does.
func (k Kind) String() string {
	names := [...]string{"", "enter", "line", "write", "cell", "memory", "element", "delete",
		"leave", "unwind", "panic", "recover", "failure", "exit", "resume", "entries", "spread", "store",
		"send", "wait", "pass", "receive", "release", "output", "move", "open", "fields", "message", "error"}
	if int(k) < len(names) && k > 0 {
		return names[k]
	}
	return "unknown"
}

// Op says what a thread waits for, or how it lets others go on.
type Op uint8

// The operations of Wait, Pass and Release.
const (
	OpReceive    Op = 1  // a value from a channel
	OpSend       Op = 2  // room in a channel, or its receiver
	OpLock       Op = 3  // a lock
	OpReadLock   Op = 4  // a lock, to read
	OpGroup      Op = 5  // the end of a group of tasks
	OpCondition  Op = 6  // a signal
	OpSelect     Op = 7  // any of several channels
	OpClose      Op = 8  // closes a channel
	OpUnlock     Op = 9  // gives a lock back
	OpReadUnlock Op = 10 // gives a lock back that was held to read
	OpDone       Op = 11 // ends a task of a group
	OpSignal     Op = 12 // signals a condition
	OpSleep      Op = 13 // the end of a sleep
	OpNetwork    Op = 14 // the network
	OpSystemCall Op = 15 // the operating system
	OpTurn       Op = 16 // its turn to run
	OpRuntime    Op = 17 // the language's runtime
	OpWake       Op = 18 // wakes a thread
)

// String says the operation in words that follow "waits for" or "has".
func (o Op) String() string {
	names := [...]string{"", "a value from a channel", "room in a channel", "a lock", "a lock to read", "a group of tasks", "a signal", "one of several channels",
		"closed the channel", "given the lock back", "given the lock to read back", "ended a task of the group", "signalled",
		"the end of a sleep", "the network", "the operating system", "its turn to run", "the runtime", "woken it"}
	if int(o) < len(names) && o > 0 {
		return names[o]
	}
	return "something"
}

// Event is one event as it stands in a block. Values are left encoded: Args
// counts them and Data holds their bytes, so that whoever only walks the stream
// pays nothing for them.
type Event struct {
	Kind    Kind
	Time    int64  // nanoseconds since the log's start
	ID      uint32 // function, site, variable, depth or code, by Kind
	Address uint64 // for Cell, Memory, Element, Delete, Entries, Spread, Store Send to Release, and Move
	Args    int    // how many values Data holds
	Data    []byte
}
