// Package history opens a timeline for replay, with all capabilities of evidence with a history.
package history

import (
	"wraithology/core/replay"
	"wraithology/core/replay/branch"
	"wraithology/core/replay/calls"
	"wraithology/core/replay/change"
	"wraithology/core/replay/compare"
	"wraithology/core/replay/contrast"
	"wraithology/core/replay/failure"
	"wraithology/core/replay/find"
	"wraithology/core/replay/origin"
	"wraithology/core/replay/races"
	"wraithology/core/replay/relations"
	"wraithology/core/replay/state"
	"wraithology/core/replay/step"
	"wraithology/core/replay/story"
	"wraithology/core/replay/trace"
	"wraithology/core/replay/verify"
	"wraithology/core/replay/waits"
	"wraithology/core/replay/writes"
	"wraithology/core/timeline"
)

// recording implements replay.Recording by *state.Log, and the capabilities by the packages beside
// it.
type recording struct {
	*state.Log
	writes.Reader
	find.Finder
	step.Stepper
	change.Comparer
	origin.Chains
	verify.Verifier
	branch.Brancher
	races.Racer
	story.Teller
	contrast.Contraster
	compare.Aligner
	calls.Lister
	relations.Relater
	waiter
}

// waiter keeps the name Finder for the checkpoints.
type waiter struct{ waits.Finder }

// Further capabilities: messages; a time of day, if the start is known; traces. The log is embedded
// again, so that its methods have priority.
type (
	spoken struct {
		*state.Log
		recording
		trace.Messages
	}
	clocked struct {
		*state.Log
		recording
		trace.Messages
		trace.Clock
	}
	traced struct {
		*state.Log
		recording
		tracer
	}
)

// tracer keeps the name Reader for the writes.
type tracer struct{ trace.Reader }

// Replay is what every timeline can answer.
type Replay interface {
	replay.Recording
	replay.Finder
	replay.History
	replay.Messages
	replay.Lined
}

// Open returns the replay of a timeline.
func Open(t *timeline.Timeline) Replay {
	log := state.New(t, failure.Describe)
	w := writes.Reader{Log: log}
	f, b := find.Finder{Reader: w}, branch.New(w)
	chains := origin.Chains{Reader: w, Branches: b}
	r := recording{log, w, f, step.Stepper{Finder: f}, change.Comparer{Log: log}, chains, verify.Verifier{Log: log}, b, races.Racer{Log: log}, story.Teller{Finder: f}, contrast.Contraster{Finder: f}, compare.Aligner{Log: log, Chains: chains, Branches: b}, calls.New(f), relations.Relater{Finder: f}, waiter{waits.Finder{Log: log}}}
	switch {
	case t.Traces() > 0:
		return traced{log, r, tracer{trace.Reader{Log: log}}}
	case t.Len() > 0 && (len(t.Processes) > 0 || !t.Header.Started.IsZero()):
		return clocked{log, r, trace.MessagesOf(log), trace.ClockOf(log)}
	}
	return spoken{log, r, trace.MessagesOf(log)}
}

// What some timelines can answer besides.
var (
	_ replay.Clock   = clocked{}
	_ replay.Calls   = clocked{}
	_ replay.Relater = clocked{}
	_ interface {
		replay.Clock
		replay.Tracer
	} = traced{}
)
