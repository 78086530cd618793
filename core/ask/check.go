package ask

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

var _ = declare[CheckRequest, Check]("check", "How often expectations hold, break or are unknown")

// Expectation is what an expression should be at the hits of a checkpoint.
type Expectation struct {
	Checkpoint string `json:"checkpoint" yaml:"checkpoint" required:"true" maxLength:"3000" doc:"checkpoint, as for hits; not on writes, because a path belongs to one recording"`
	Text       string `json:"text,omitempty" yaml:"text,omitempty" maxLength:"3000" doc:"source text of the line, by which it is found in other versions"`
	When       string `json:"when,omitempty" yaml:"when,omitempty" maxLength:"2000" doc:"condition for hits that count"`
	That       string `json:"that" yaml:"that" required:"true" maxLength:"2000" doc:"expression that should be true"`
	Note       string `json:"note,omitempty" yaml:"note,omitempty" maxLength:"2000" doc:"why"`
}

// CheckRequest asks how often expectations hold.
type CheckRequest struct {
	Expectations []Expectation `json:"expectations" required:"true" maxItems:"1000" flag:"-" doc:"expectations to check"`
}

// Check is how the expectations held: Broken of Total broke at least once.
type Check struct {
	Total        int       `json:"total"`
	Broken       int       `json:"broken"`
	Expectations []Checked `json:"expectations"`
}

// Checked is how often one expectation held at the hits of its checkpoint.
type Checked struct {
	Checkpoint string `json:"checkpoint"`
	That       string `json:"that"`
	Note       string `json:"note,omitempty"`
	Holds      int    `json:"holds"`
	Breaks     int    `json:"breaks"`
	Unknown    int    `json:"unknown"`
	// First is where it breaks first, and Shown what its names are there.
	First *RunPlace `json:"first"`
	Shown []Shown   `json:"shown,omitempty"`
	// Trouble is why it is unknown, or why the recording has no place for it: then Missing is set.
	Trouble string `json:"trouble,omitempty"`
	Missing bool   `json:"missing,omitempty"`
}

// Reached reports whether the expectation has an answer at one hit at least.
func (c Checked) Reached() bool { return c.Holds+c.Breaks > 0 }

// Negative implements Negative: an expectation breaks.
func (c Check) Negative() bool { return c.Broken > 0 }

// usualLimit is longer than for other questions: it evaluates many expressions at all their hits.
func (q CheckRequest) usualLimit() time.Duration { return time.Minute }

func (q CheckRequest) answer(ctx context.Context, s *Subject) (Check, error) {
	out := Check{Total: len(q.Expectations), Expectations: []Checked{}}
	r, err := finder(s, "checkpoint to check at")
	if err != nil {
		return out, err
	}
	expected := make([]replay.Expected, len(q.Expectations))
	questions := make([]*question.Question, len(q.Expectations))
	when := map[string]replay.Condition{} // equal ones are evaluated once
	for i, e := range q.Expectations {
		c, that, err := e.parse(s.Recording)
		if err != nil {
			return out, fmt.Errorf("expectation %d: %w", i+1, err)
		}
		if same, ok := when[e.When]; ok {
			c.When = same
		}
		when[e.When] = c.When
		expected[i], questions[i] = replay.Expected{Checkpoint: c, That: that.Strict()}, that
	}
	verdicts, err := r.Expect(ctx, expected)
	if err != nil {
		return out, err
	}
	for i, e := range q.Expectations {
		x := e.checked(ctx, s.Recording, verdicts[i], questions[i])
		if x.Breaks > 0 {
			out.Broken++
		}
		out.Expectations = append(out.Expectations, x)
	}
	return out, nil
}

// Label describes the checkpoint, for people.
func (e Expectation) Label() string { return CheckpointOn{On: e.Checkpoint, When: e.When}.String() }

// Valid checks the syntax of an expectation.
func (e Expectation) Valid() error {
	if err := Validate(e, Field.Parameter); err != nil {
		return err
	}
	_, _, err := e.parse(nil)
	return err
}

// Located returns the expectation with its place in full: the whole name of the function, or the path of the file and
// the text of the line. The error wraps fault.NoCode if the recording does not have the place.
func (e Expectation) Located(ctx context.Context, r replay.Recording) (Expectation, error) {
	f, ok := r.(replay.Finder)
	if !ok {
		return e, noHistory("checkpoint to check at")
	}
	c, _, err := e.parse(r)
	if err != nil {
		return e, err
	}
	at, err := f.Locate(ctx, c)
	if err != nil {
		return e, err
	}
	e.Checkpoint, e.Text = strings.TrimSpace(c.Kind+" "+at.About), at.Text
	return e, nil
}

// parse parses an expectation.
func (e Expectation) parse(r replay.Recording) (c replay.Checkpoint, that *question.Question, err error) {
	kind, _, err := find.Parse(e.Checkpoint)
	if err != nil {
		return c, nil, err
	}
	if kind.Placed {
		return c, nil, fault.InvalidRequest.New("use a line, or the entry or return of a function", "an expectation on %s belongs to one recording only", kind.Name)
	}
	if c, err = (CheckpointOn{On: e.Checkpoint, When: e.When}).Checkpoint(r, Place{}); err != nil {
		return c, nil, err
	}
	c.Text = e.Text
	that, err = question.Parse(e.That)
	return c, that, err
}

// checked returns how often an expectation held.
func (e Expectation) checked(ctx context.Context, r replay.Recording, v replay.Verdict, that *question.Question) Checked {
	out := Checked{Checkpoint: e.Label(), That: e.That, Note: e.Note, Holds: v.Holds, Breaks: v.Breaks, Unknown: v.Unknown}
	switch {
	case v.Missing != nil:
		out.Trouble, out.Missing = v.Missing.Error(), true
		return out
	case v.Trouble != nil:
		out.Trouble = v.Trouble.Error()
	}
	if out.First = runPlace(ctx, r, v.First); out.First != nil {
		out.Shown = operandsAt(ctx, r, that, v.First)
	}
	return out
}

// operandsAt returns the values of the names of an expression at a moment, as far as they are known.
func operandsAt(ctx context.Context, r replay.Recording, x *question.Question, at event.Moment) (list []Shown) {
	t, err := r.ThreadOf(at)
	if err != nil {
		return nil
	}
	names := x.Names()
	for _, name := range names {
		if slices.ContainsFunc(names, func(n string) bool { return strings.HasPrefix(n, name+".") }) {
			continue // its part is enough
		}
		n, err := question.Parse(name)
		if err != nil {
			continue // old(x) and the like are not expressions of their own
		}
		if got, err := n.Ask(ctx, r, at, t, 0); err == nil {
			list = append(list, Shown{Expression: name, Value: got.Text(), Type: got.Type})
		}
	}
	return list
}
