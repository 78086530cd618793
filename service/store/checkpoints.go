package store

import (
	"cmp"

	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

// Place returns what the checkpoint is about: a line, a function or a text.
func (x Checkpoint) Place() string {
	if x.File != "" {
		return find.LineText(x.File, x.Line)
	}
	return cmp.Or(x.Function, x.About)
}

// From returns the place from which the path of a checkpoint on writes is reached.
func (x Checkpoint) From() ask.Place {
	return ask.Place{Moment: event.Moment(x.Moment), Thread: event.ThreadID(x.Thread), Frame: x.Frame}
}

// In converts the checkpoint for a recording. A line is found by its text, because other builds can have moved it. The
// error is that of an invalid description.
func (x Checkpoint) In(r replay.Recording, from ask.Place) (replay.Checkpoint, error) {
	on := ask.CheckpointOn{On: x.Kind + " " + x.Place(), When: x.Condition, Nth: x.Nth, OnThread: event.ThreadID(x.Thread)}
	if kind, err := find.Named(x.Kind); err == nil && kind.Placed {
		on.OnThread = 0 // the thread is that of the place
	}
	c, err := on.Checkpoint(r, from)
	c.Text = x.Text
	return c, err
}
