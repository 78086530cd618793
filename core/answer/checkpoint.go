package answer

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"wraithology/core/event"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// CheckpointQuery says which checkpoint is meant, and which of its hits: Count of
// them from From on, with the expressions Show evaluated at each. Exactly one of
// Line (with File), Enter, Return, Error, Write and Output says what it is on;
// Error and Output are "*" for any. Write is a path as it is reached from the
// frame at Moment; -1, and Thread 0, stand for what a locator leaves off.
type CheckpointQuery struct {
	File     string   `json:"file,omitempty"`
	Line     int      `json:"line,omitempty"`
	Enter    string   `json:"enter,omitempty"`
	Return   string   `json:"return,omitempty"`
	Error    string   `json:"error,omitempty"`
	Write    string   `json:"write,omitempty"`
	Output   string   `json:"output,omitempty"`
	When     string   `json:"when,omitempty"`
	Nth      string   `json:"nth,omitempty"`
	OnThread uint32   `json:"onThread,omitempty"`
	Show     []string `json:"show,omitempty"`
	// Slowest puts the hits whose calls took longest first.
	Slowest bool `json:"slowest,omitempty"`
	From    int  `json:"from,omitempty"`
	Count   int  `json:"count,omitempty"`
}

// ErrCheckpoint says that a query names no checkpoint, or more than one.
var ErrCheckpoint = errors.New("name one place or event for the checkpoint")

const anyText = "*"

// Kind returns what the checkpoint is on. The error wraps ErrCheckpoint.
func (q CheckpointQuery) Kind() (replay.CheckpointKind, error) {
	var kinds []replay.CheckpointKind
	for _, k := range []struct {
		given bool
		kind  replay.CheckpointKind
	}{
		{q.File != "" || q.Line != 0, replay.OnLine}, {q.Enter != "", replay.OnEnter}, {q.Return != "", replay.OnReturn},
		{q.Error != "", replay.OnError}, {q.Write != "", replay.OnWrite}, {q.Output != "", replay.OnOutput},
	} {
		if k.given {
			kinds = append(kinds, k.kind)
		}
	}
	if len(kinds) != 1 {
		return "", fmt.Errorf("%w: %d were given", ErrCheckpoint, len(kinds))
	}
	return kinds[0], nil
}

// String says in words what the checkpoint is on.
func (q CheckpointQuery) String() string {
	kind, _ := q.Kind()
	text := string(kind)
	switch kind {
	case replay.OnLine:
		text = fmt.Sprintf("%s:%d", q.File, q.Line)
	case replay.OnEnter:
		text += " " + q.Enter
	case replay.OnReturn:
		text += " " + q.Return
	case replay.OnWrite:
		text += " " + q.Write
	case replay.OnError, replay.OnOutput:
		if about := q.Error + q.Output; about != anyText {
			text += " " + strconv.Quote(about)
		}
	}
	if q.When != "" {
		text += " when " + q.When
	}
	if q.Nth != "" {
		text += ", " + q.Nth
	}
	return text
}

// Checkpoint returns the checkpoint that a query means at a place in a recording.
func (q CheckpointQuery) Checkpoint(r replay.Replay, at event.Moment, t event.ThreadID, frame int) (replay.Checkpoint, error) {
	kind, err := q.Kind()
	if err != nil {
		return replay.Checkpoint{}, err
	}
	c := replay.Checkpoint{Kind: kind, File: q.File, Line: q.Line, Function: q.Enter + q.Return, Path: q.Write, Thread: event.ThreadID(q.OnThread)}
	if text := q.Error + q.Output; text != anyText {
		c.Text = text
	}
	if kind == replay.OnWrite {
		if c.At, c.PathThread, err = Resolve(r, at, t); err != nil {
			return c, err
		}
		c.Frame = frame
	}
	if q.When != "" {
		if c.When, err = question.Parse(q.When); err != nil {
			return c, err
		}
	}
	c.Number, err = replay.ParseNumber(q.Nth)
	return c, err
}

// HitsOf gives a page of a checkpoint's hits. The place is that from which the
// path of a write is reached.
func HitsOf(ctx context.Context, r replay.Replay, q CheckpointQuery, at event.Moment, t event.ThreadID, frame int) (Hits, error) {
	out := Hits{Hits: []Hit{}}
	c, err := q.Checkpoint(r, at, t, frame)
	if err != nil {
		return out, err
	}
	show, err := parseAll(q.Show)
	if err != nil {
		return out, err
	}
	page := replay.Page{From: q.From, Count: q.Count}
	if q.Slowest {
		page = replay.Page{Count: math.MaxInt32}
	}
	hits, err := r.Hits(ctx, c, page)
	if err != nil {
		return out, err
	}
	if q.Slowest {
		if hits.Page, err = slowest(ctx, r, hits.Page, replay.Page{From: q.From, Count: q.Count}); err != nil {
			return out, err
		}
	}
	out.Total, out.Undecided = hits.Total, hits.Undecided
	if hits.Trouble != nil {
		out.Trouble = hits.Trouble.Error()
	}
	for _, m := range hits.Page {
		h, err := hitAt(r, m)
		if err != nil {
			return out, err
		}
		if c.Kind == replay.OnError || c.Kind == replay.OnOutput {
			h.Text = r.Text(m)
		}
		for i, x := range show {
			s := Shown{Expression: q.Show[i]}
			if got, err := x.Ask(ctx, r, m, event.ThreadID(mustThread(h.Thread)), 0); err != nil {
				s.Error = err.Error()
			} else {
				s.Value, s.Type = got.Value, got.Type
			}
			h.Shown = append(h.Shown, s)
		}
		out.Hits = append(out.Hits, h)
	}
	return out, nil
}

// slowest returns a page of the moments, those first whose calls took longest.
func slowest(ctx context.Context, r replay.Replay, moments []event.Moment, page replay.Page) ([]event.Moment, error) {
	took := make(map[event.Moment]time.Duration, len(moments))
	for i, m := range moments {
		if i%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		call, _, err := r.Timing(m)
		if err != nil {
			return nil, err
		}
		took[m] = call
	}
	slices.SortStableFunc(moments, func(a, b event.Moment) int { return cmp.Compare(took[b], took[a]) })
	from, to := page.Cut(len(moments))
	return moments[from:to], nil
}

func mustThread(s string) uint32 {
	t, _ := ParseThread(s) // it was written by ThreadID
	return uint32(t)
}

func parseAll(texts []string) ([]*question.Question, error) {
	var out []*question.Question
	for _, text := range texts {
		q, err := question.Parse(text)
		if err != nil {
			return nil, err
		}
		out = append(out, q)
	}
	return out, nil
}

func hitAt(r replay.Replay, m event.Moment) (Hit, error) {
	p, err := r.Place(m)
	if err != nil {
		return Hit{}, err
	}
	call, _, err := r.Timing(m)
	return Hit{Moment: int64(m), Thread: ThreadID(p.Thread), Function: p.Function, File: p.File, Line: p.Line, TimeNs: int64(p.Time), CallNs: int64(call)}, err
}

// Stop is a checkpoint at which a step or a run ends, with the name that its
// reason gives.
type Stop struct {
	Name       string
	Checkpoint replay.Checkpoint
}

// RunFrom goes to the next or previous hit of any of the checkpoints. found is
// false where there is none.
func RunFrom(ctx context.Context, r replay.Replay, at event.Moment, back bool, stops []Stop) (s Step, found bool, err error) {
	var of []replay.Checkpoint
	for _, x := range stops {
		of = append(of, x.Checkpoint)
	}
	m, which, err := r.NextHit(ctx, at, back, of)
	if err != nil || which < 0 {
		return Step{}, false, err
	}
	s, err = stepAt(r, m, stops[which].Name)
	return s, true, err
}

func stepAt(r replay.Replay, m event.Moment, reason string) (Step, error) {
	p, err := r.Place(m)
	if err != nil {
		return Step{}, err
	}
	call, step, err := r.Timing(m)
	return Step{Moment: int64(m), Thread: ThreadID(p.Thread), Function: p.Function, File: p.File, Line: p.Line, Reason: reason, TimeNs: int64(p.Time), StepNs: int64(step), CallNs: int64(call), Text: r.Text(m)}, err
}

// StepFrom steps count times, at least once, and says where that led. It stops
// early at a hit of one of the checkpoints on the thread, and where the thread
// begins or ends.
func StepFrom(ctx context.Context, r replay.Replay, at event.Moment, t event.ThreadID, s replay.Step, count int, stops []Stop) (Step, error) {
	why := ""
	for range max(count, 1) {
		next, reason, err := r.Step(ctx, at, t, s)
		if err != nil {
			return Step{}, err
		}
		if hit, found, err := meets(ctx, r, at, next, t, s, stops); err != nil || found {
			return hit, err
		}
		at, why = next, string(reason)
		if reason != replay.AtBeginning { // a call may have been made from another thread
			if t, err = r.ThreadOf(at); err != nil {
				return Step{}, err
			}
		}
		if reason == replay.AtEnd || reason == replay.AtBeginning {
			break
		}
	}
	out, err := stepAt(r, at, why)
	out.Thread = ThreadID(t)
	return out, err
}

// meets finds the first checkpoint that a step from one moment to another passes.
func meets(ctx context.Context, r replay.Replay, at, next event.Moment, t event.ThreadID, s replay.Step, stops []Stop) (Step, bool, error) {
	if len(stops) == 0 || s.Way == replay.Head {
		return Step{}, false, nil
	}
	own := make([]Stop, 0, len(stops))
	for _, x := range stops {
		if x.Checkpoint.Thread != 0 && x.Checkpoint.Thread != t {
			continue
		}
		x.Checkpoint.Thread = t
		own = append(own, x)
	}
	hit, found, err := RunFrom(ctx, r, at, s.Back, own)
	if err != nil || !found || (event.Moment(hit.Moment) >= next) != s.Back && event.Moment(hit.Moment) != next {
		return Step{}, false, err
	}
	return hit, true, nil
}
