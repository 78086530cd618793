package ask

import (
	"context"
	"errors"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

var _ = declare[StoryRequest, Story]("story", "The life of an object or identifier, in order")

// StoryRequest asks for the life of a value: the object at a path from a frame, or a text or number. If a moment is
// given, Of is a path if the frame has it; otherwise it is a value if it was recorded anywhere.
type StoryRequest struct {
	Place
	Of    string `json:"of" required:"true" maxLength:"2000" arg:"1" doc:"path of the object, or text or number"`
	From  int    `json:"from" minimum:"0" doc:"number of steps to skip"`
	Count int    `json:"count" minimum:"1" maximum:"100000" default:"60" flag:"first" doc:"number of steps"`
}

// Story is what happened to a value, in order. Lives is how often its memory was a new object or came out of a pool.
type Story struct {
	Total int         `json:"total"`
	Lives int         `json:"lives"`
	Steps []StoryStep `json:"steps"`
	// Unexamined counts places that were not followed, because there are too many.
	Unexamined int `json:"unexamined"`
}

// StoryStep is one thing that happened: created, changed, passed, stored, removed, sent, received or returned. Name is
// what it happened to or through. Old and New are null where there is none. Times counts it with its repetitions on
// the same line.
type StoryStep struct {
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	What     string         `json:"what"`
	Name     string         `json:"name"`
	Old      *string        `json:"old"`
	New      *string        `json:"new"`
	Times    int            `json:"times"`
	Life     int            `json:"life"`
}

// Negative implements Negative: nothing happened.
func (s Story) Negative() bool { return s.Total == 0 }

// usualLimit is longer than for other questions: it looks at all that was recorded.
func (q StoryRequest) usualLimit() time.Duration { return 30 * time.Second }

func (q StoryRequest) answer(ctx context.Context, s *Subject) (Story, error) {
	out := Story{Steps: []StoryStep{}}
	r, err := capability[replay.Teller](s, noHistory("story to tell"))
	if err != nil {
		return out, err
	}
	page := replay.Page{From: q.From, Count: q.Count}
	ofObject := func() (replay.Story, error) {
		p, err := q.resolve(s)
		if err != nil {
			return replay.Story{}, err
		}
		return r.StoryOfObject(ctx, q.Of, p.Moment, p.Thread, p.Frame, page)
	}
	ofValue := func() (replay.Story, error) { return r.StoryOfValue(ctx, q.Of, page) }
	first, second := ofValue, ofObject
	if q.Moment != event.NoMoment {
		first, second = ofObject, ofValue
	}
	story, err := first()
	if errors.Is(err, fault.NoName) || errors.Is(err, fault.NoHit) || errors.Is(err, fault.InvalidPath) {
		if other, e := second(); e == nil {
			story, err = other, nil
		}
	}
	if err != nil {
		return out, err
	}
	out.Total, out.Lives, out.Unexamined = story.Total, story.Lives, story.Unexamined
	for _, x := range story.Page {
		out.Steps = append(out.Steps, StoryStep{Moment: x.Moment, Thread: x.Thread, Function: x.Function, File: x.File, Line: x.Line, What: string(x.What), Name: x.Name,
			Old: optionalText(x.Old), New: optionalText(x.New), Times: x.Times, Life: x.Life})
	}
	return out, nil
}
