// Package event holds the common form of all evidence with a history: the kinds of events, the
// tables that explain them, and their values. Timeline, replay and questions know evidence only in
// this form.
package event

import (
	"fmt"
	"strconv"

	"wraithology/core/fault"
)

// Moment is a position in the total order of a recording, 0 to N-1. Every event has its own moment.
type Moment int64

// NoMoment means that there is no moment.
const NoMoment Moment = -1

// ThreadID numbers the threads (goroutines, tasks) of a recording from 1, in order of appearance.
// It is not the program's own number.
type ThreadID uint32

// String returns the number in decimal, as in answers and locators.
func (t ThreadID) String() string { return strconv.FormatUint(uint64(t), 10) }

// MarshalText implements encoding.TextMarshaler. In JSON a thread is a string.
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
		return fmt.Errorf("thread %.100q: %w: threads are numbered from 1", text, fault.NoThread)
	}
	*t = ThreadID(n)
	return nil
}

// CallID numbers the calls of a recording in order of their beginnings.
type CallID uint32

// NoCall means that a moment belongs to no recorded call.
const NoCall CallID = ^CallID(0)

// FunctionID, SiteID, FileID and VariableID index the tables of a log. A
// VariableID counts from 0 within its function.
type (
	FunctionID uint32
	SiteID     uint32
	FileID     uint32
	VariableID uint32
)

// Kind is the kind of an event.
type Kind uint8

// The kinds of events. The numbers are those of the .wraith format (docs/formats/execution-log.md,
// "Events").
const (
	Enter   Kind = 1  // a call begins; its arguments are known
	Line    Kind = 2  // a line is reached and not executed yet
	Write   Kind = 3  // a variable of the current call has a new value
	Cell    Kind = 4  // like Write, for a variable that has an address
	Memory  Kind = 5  // the contents of memory that the event before refers to
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
	Spread  Kind = 16 // consecutive elements from an address on
	Store   Kind = 17 // the program stored a value at an address
	Send    Kind = 18 // a value will be sent on a channel
	Wait    Kind = 19 // the thread will wait, by Op, at an address
	Pass    Kind = 20 // the wait is over
	Receive Kind = 21 // a value was received from a channel
	Release Kind = 22 // the program unblocks others, by Op
	Output  Kind = 23 // the program wrote a text
	Move    Kind = 24 // memory was copied to another place, or its contents are not known
	Open    Kind = 25 // a call is open whose beginning is not in the log; ID is the site that it reached
	Fields  Kind = 26 // variables of the current call have new values; ID is the site that lists them
	Message Kind = 27 // like Fields; the first value is a logged message
	Error   Kind = 28 // like Message, for an error
	Exposed Kind = 29 // code that is not recorded may have changed memory, or the entries of a map

	Snapshot Kind = 30 // a value as it is in memory, to verify the recording; ID is a SnapshotOf
	Made     Kind = 31 // new memory: what was at these addresses before is another object
)

// Flags in the kind of an encoded event whose time was not read from a clock. It lies between those of
// the events around it.
const (
	Untimed   = 0x80 // the event has no time
	Estimated = 0x40 // the event's time is an estimate
)

// String returns the name in the format document.
func (k Kind) String() string {
	names := [...]string{"", "enter", "line", "write", "cell", "memory", "element", "delete",
		"leave", "unwind", "panic", "recover", "failure", "exit", "resume", "entries", "spread", "store",
		"send", "wait", "pass", "receive", "release", "output", "move", "open", "fields", "message", "error", "exposed", "snapshot", "made"}
	if int(k) < len(names) && k > 0 {
		return names[k]
	}
	return "unknown"
}

// SnapshotOf says what a Snapshot holds: SnapshotMemory, SnapshotSpread and SnapshotEntries have the
// fields of Memory, Spread and Entries. SnapshotVariable+n is the variable n of the current call.
type SnapshotOf uint32

// What a Snapshot holds.
const (
	SnapshotMemory   SnapshotOf = 0
	SnapshotSpread   SnapshotOf = 1
	SnapshotEntries  SnapshotOf = 2
	SnapshotVariable SnapshotOf = 3
)

// Op is the reason of a wait, or the way in which others are unblocked.
type Op uint8

// The operations of Wait, Pass and Release.
const (
	OpReceive    Op = 1  // a value from a channel
	OpSend       Op = 2  // space in a channel, or its receiver
	OpLock       Op = 3  // a lock
	OpReadLock   Op = 4  // a lock, to read
	OpGroup      Op = 5  // the end of a group of tasks
	OpCondition  Op = 6  // a signal
	OpSelect     Op = 7  // any of several channels
	OpClose      Op = 8  // closes a channel
	OpUnlock     Op = 9  // unlocks
	OpReadUnlock Op = 10 // unlocks a read lock
	OpDone       Op = 11 // ends a task of a group
	OpSignal     Op = 12 // signals a condition
	OpSleep      Op = 13 // the end of a sleep
	OpNetwork    Op = 14 // the network
	OpSystemCall Op = 15 // the operating system
	OpTurn       Op = 16 // its turn to run
	OpRuntime    Op = 17 // the language's runtime
	OpWake       Op = 18 // wakes a thread
)

// String describes the operation in words that follow "waits for" or "has".
func (o Op) String() string {
	names := [...]string{"", "a value from a channel", "room in a channel", "a lock", "a lock to read", "a group of tasks", "a signal", "one of several channels",
		"closed the channel", "given the lock back", "given the lock to read back", "ended a task of the group", "signalled",
		"the end of a sleep", "the network", "the operating system", "its turn to run", "the runtime", "woken it"}
	if int(o) < len(names) && o > 0 {
		return names[o]
	}
	return "something"
}

// Event is one event of a block. Values stay encoded: Args is their number and Data their bytes.
type Event struct {
	Kind      Kind
	Time      int64  // nanoseconds since the log's start
	Estimated bool   // the time was not read from a clock
	ID        uint32 // function, site, variable, depth or code, by Kind
	Address   uint64 // for Cell, Memory, Element, Delete, Entries, Spread, Store Send to Release, and Move
	Args      int    // number of values in Data
	Data      []byte
}
