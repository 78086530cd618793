package recorder_test

import (
	"context"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/history"
)

// puzzle records a program that fails, and returns it with what peek says of it.
func puzzle(t *testing.T, name string) (history.Replay, ask.Peek) {
	t.Helper()
	ran := record(t, "testdata/puzzles/"+name, "go", "run", ".")
	require.NotZero(t, ran.ExitCode)
	r := open(t, ran.log)
	peek, err := ask.Run(context.Background(), ask.Subject{Recording: r}, ask.PeekRequest{})
	require.NoError(t, err)
	require.NotNil(t, peek.Failure)
	require.NotNil(t, peek.Condition)
	require.NotEmpty(t, peek.Next)
	return r, peek
}

// follow asks the origin that peek proposes first, and returns its lines.
func follow(t *testing.T, r history.Replay, peek ask.Peek, argument string) []ask.Origin {
	t.Helper()
	next := peek.Next[0]
	require.Equal(t, "origin", next.Question)
	require.Equal(t, argument, next.Argument)
	o, err := ask.Run(context.Background(), ask.Subject{Recording: r}, ask.OriginRequest{Place: ask.Place{Moment: next.Moment, Thread: next.Thread, Frame: next.Frame}, Path: next.Argument, Depth: 8})
	require.NoError(t, err)
	var list []ask.Origin
	var walk func(ask.Origin)
	walk = func(o ask.Origin) {
		list = append(list, o)
		for _, x := range o.From {
			walk(x)
		}
	}
	walk(o)
	return list
}

// has returns the first node of a chain with a name, whose note contains a text.
func has(t *testing.T, list []ask.Origin, name, note string) ask.Origin {
	t.Helper()
	var all []string
	for _, o := range list {
		if o.Name == name && strings.Contains(o.Note, note) {
			return o
		}
		all = append(all, o.Name+" ("+o.Note+")")
	}
	require.Fail(t, "not in the chain", "%s (%s): %s", name, note, strings.Join(all, "; "))
	return ask.Origin{}
}

// Each defect is found with the commands that peek proposes and one or two more; what was decisive is held here.

// A heap that moves an item without telling it its new place: peek, origin, story.
func TestPuzzleOfTheTugs(t *testing.T) {
	t.Parallel()
	r, peek := puzzle(t, "tugs")
	assert.Equal(t, "exit", peek.Failure.Kind)
	assert.Equal(t, "len(bad) > 0", peek.Condition.Expression)
	assert.Contains(t, peek.Outputs[len(peek.Outputs)-1].Text, "inconsistent jobs: [T6 T8]")
	chain := follow(t, r, peek, "bad")
	check := has(t, chain, "j.canceled == j.done", "decided that this line was reached")
	assert.Equal(t, "true", check.Value)

	story, err := r.(replay.Teller).StoryOfObject(context.Background(), "j", check.Moment, check.Thread, 0, replay.Page{Count: 100})
	require.NoError(t, err)
	list := told(story)
	require.GreaterOrEqual(t, len(list), 3)
	last := list[len(list)-3:]
	for i, want := range []string{"1 changed index 7 -> 1", "1 removed q.items[1]", "1 stored q.items[4]"} {
		assert.True(t, strings.HasPrefix(last[i], want), "it is at 4, and believes that it is at 1: %v", last)
	}
}

// Batches that share the memory of all readings: peek, origin.
func TestPuzzleOfTheTideBatches(t *testing.T) {
	t.Parallel()
	r, peek := puzzle(t, "tidebatch")
	assert.Equal(t, "after != before", peek.Condition.Expression)
	o := has(t, follow(t, r, peek, "after"), "list[9].Metres", "")
	assert.Equal(t, "main.(*Loader).pad", o.Function, "the element of all readings was written by the padding of a batch")
}

// A check and an act under two locks: peek, origin, overlap.
func TestPuzzleOfThePumps(t *testing.T) {
	t.Parallel()
	r, peek := puzzle(t, "pumps")
	assert.Equal(t, "n < 0", peek.Condition.Expression)
	chain := follow(t, r, peek, "n")
	o := has(t, chain, "s.litres[grade]", "")
	assert.Equal(t, "main.(*Stock).take", o.Function)
	if before := slices.IndexFunc(o.From, func(x ask.Origin) bool { return strings.HasPrefix(x.Value, "-") }); before >= 0 { // else this write is the one that made it negative
		o = has(t, chain, "s.litres[grade]", "here it became negative")
		assert.Equal(t, "main.(*Stock).take", o.Function)
	}
	key := func(at event.Moment, _ event.ThreadID) (string, error) { return evaluate(t, r, at, "o.Grade") }
	list, err := r.(replay.Racer).Overlaps(context.Background(), "main.(*Pump).serve", key, replay.Page{Count: 10})
	require.NoError(t, err)
	require.NotEmpty(t, list.Page)
	assert.Equal(t, `"diesel"`, list.Page[0].Key)
	enough := 0 // calls that were told that there is enough for a large order
	for _, c := range list.Page[0].Calls {
		require.NotEmpty(t, c.Reads)
		require.NotEmpty(t, c.Locks)
		if c.Reads[0].Value.Int >= 310 {
			enough++
		}
	}
	assert.GreaterOrEqual(t, enough, 2)
}

// A correction that is shadowed, and a station that is switched off: peek, origin; and the error that was handled is not the failure.
func TestPuzzleOfTheOffsets(t *testing.T) {
	t.Parallel()
	r, peek := puzzle(t, "offsets")
	assert.Equal(t, "exit", peek.Failure.Kind)
	assert.Equal(t, "len(bad) > 1", peek.Condition.Expression)
	chain := follow(t, r, peek, "bad")
	assert.Equal(t, "true", has(t, chain, "!s.Fixed", "decided").Value)
	missed := has(t, chain, "err == nil", "which also sets it, was not reached")
	assert.Equal(t, "false", missed.Value)
	require.NotEmpty(t, missed.From)
	assert.Contains(t, missed.From[0].Value, "no correction")
}

// Notices whose bytes are in a buffer that went back to its pool: peek, origin of what is pending.
func TestPuzzleOfTheOutbox(t *testing.T) {
	t.Parallel()
	r, peek := puzzle(t, "outbox")
	assert.Equal(t, "len(r.got) != len(o.pending)", peek.Condition.Expression)
	require.Len(t, peek.Next, 3)
	assert.Equal(t, "o.pending", peek.Next[1].Argument)
	place := ask.Place{Moment: peek.Next[1].Moment, Thread: peek.Next[1].Thread}
	o, err := ask.Run(context.Background(), ask.Subject{Recording: r}, ask.OriginRequest{Place: place, Path: `o.pending["0410"]`, Depth: 8})
	require.NoError(t, err)
	require.NotEmpty(t, o.From)
	assert.Contains(t, o.Value, "0413", "what is there now")
	assert.Contains(t, o.From[0].Value, "0410", "what was put there")
}

// A lock whose water steps over the target: peek, origin of the count of failures.
func TestPuzzleOfTheChamber(t *testing.T) {
	t.Parallel()
	r, peek := puzzle(t, "chamber")
	assert.Equal(t, "failed > 0", peek.Condition.Expression)
	chain := follow(t, r, peek, "failed")
	assert.Contains(t, has(t, chain, "err != nil", "decided").From[0].Value, "stuck in filling")
	assert.Equal(t, "2.1", has(t, chain, "l.Level", "").Value[:3])
	assert.Equal(t, "main.(*Lock).step", has(t, chain, "l.Level", "").Function)
}

// A bill whose line is corrected in a copy: peek, origin.
func TestPuzzleOfTheInvoices(t *testing.T) {
	t.Parallel()
	r, peek := puzzle(t, "invoices")
	chain := follow(t, r, peek, "bad")
	has(t, chain, "sum != i.Total", "decided")
	assert.Equal(t, "main.(*Book).correct", has(t, chain, "i.Total", "").Function)
	assert.Equal(t, "main.bill", has(t, chain, "i.Lines[1].Cents", "").Function, "the correction did not write the line")
}
