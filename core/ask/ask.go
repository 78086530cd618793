// Package ask holds the questions that can be put to evidence, one file each: the request
// and its parameters, the answer's shape, and how it is found. The command line, the
// service's routes and their description, and the client follow from these declarations.
// The answers' shapes are documented in docs/answers.md and are stable: members may be
// added, none is taken away or changed.
package ask

import (
	"cmp"
	"context"
	"fmt"
	"reflect"
	"slices"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
)

// Request is a question. Its exported fields are its parameters; their tags give names,
// defaults and bounds (see Field).
type Request[A any] interface {
	answer(ctx context.Context, s *Subject) (A, error)
}

// Subject is the evidence that is asked, with what surrounds it.
type Subject struct {
	Recording replay.Recording
	// Limit is the time within which a question must end; 0 for DefaultLimit.
	Limit time.Duration
	// Offset is how far the evidence's clock is behind.
	Offset time.Duration
	// Others opens the other evidence of the case; nil where there is none.
	Others func(context.Context) ([]Other, error)
	// Stops lists the checkpoints at which steps and runs end; nil for none.
	Stops func(context.Context) ([]Stop, error)
}

// Other is evidence beside the one that is asked. Offset is how far its clock is behind.
type Other struct {
	Name      string
	Recording replay.Recording
	Offset    time.Duration
}

// Stop is a checkpoint at which a step or a run ends. Name is the reason that is given.
type Stop struct {
	Name       string
	Checkpoint replay.Checkpoint
}

// DefaultLimit is the time within which a question ends if nothing else is said.
const DefaultLimit = 5 * time.Second

// Run answers a question. It is the one way to an answer: parameters are checked here,
// time is bounded, and a failure inside the question ends the question alone. Errors wrap
// a fault.Kind.
func Run[A any](ctx context.Context, s Subject, q Request[A]) (answer A, err error) {
	if err := Validate(q, Field.Parameter); err != nil {
		return answer, err
	}
	limit := cmp.Or(s.Limit, DefaultLimit)
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fault.TimeLimit.New("", "the question took longer than %s", limit))
	defer cancel()
	err = guard.Do(func() (err error) {
		answer, err = q.answer(ctx, &s)
		return err
	})
	if err != nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return answer, err
}

// Question is the declaration of a question.
type Question struct {
	Name    string // of the command and the route
	Summary string
	Request reflect.Type
	Answer  reflect.Type
	run     func(ctx context.Context, s Subject, q any) (any, error)
}

var questions = map[string]Question{}

// declare adds a question to the table. Each file of a question does so once.
func declare[Q Request[A], A any](name, summary string) Question {
	q := Question{Name: name, Summary: summary, Request: reflect.TypeFor[Q](), Answer: reflect.TypeFor[A](),
		run: func(ctx context.Context, s Subject, q any) (any, error) { return Run(ctx, s, q.(Q)) }}
	questions[name] = q
	return q
}

// Questions lists all questions by name.
func Questions() []Question {
	var list []Question
	for _, q := range questions {
		list = append(list, q)
	}
	slices.SortFunc(list, func(a, b Question) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// Named returns the question with a name, and whether there is one.
func Named(name string) (Question, bool) {
	q, ok := questions[name]
	return q, ok
}

// Of returns the question that a request belongs to.
func Of(request any) Question {
	t := reflect.TypeOf(request)
	for _, q := range questions {
		if q.Request == t {
			return q
		}
	}
	panic(fmt.Sprintf("ask: %s is not declared", t)) // a defect of this program
}

// Run answers a request of the question's type, as the function Run does.
func (q Question) Run(ctx context.Context, s Subject, request any) (any, error) {
	return q.run(ctx, s, request)
}

// Negative is an answer that may say no, or that nothing was found.
type Negative interface{ Negative() bool }

// capability returns what a recording must be able to do for a question, or the error that
// it is not.
func capability[C any](s *Subject, missing error) (C, error) {
	c, ok := s.Recording.(C)
	if !ok {
		return c, missing
	}
	return c, nil
}

func finder(s *Subject, what string) (replay.Finder, error) {
	return capability[replay.Finder](s, noHistory(what))
}

func history(s *Subject, what string) (replay.History, error) {
	return capability[replay.History](s, noHistory(what))
}

func noHistory(what string) error { return fmt.Errorf("%w: there is no %s", fault.NoHistory, what) }

// Place is a place in evidence. What is left off means what it means in a locator: the
// failure's moment, else the last one; the moment's thread; the innermost frame.
type Place struct {
	Moment event.Moment   `json:"moment" required:"false" default:"-1" minimum:"-1" flag:"-" doc:"moment; -1 for the failure's, or the last"`
	Thread event.ThreadID `json:"thread" required:"false" flag:"-" doc:"thread; left off for the moment's"`
	Frame  int            `json:"frame" required:"false" minimum:"0" flag:"-" doc:"frame, 0 for the innermost"`
}

func (p Place) resolve(s *Subject) (Place, error) { return p.Resolve(s.Recording) }

// Resolve fills in what a place leaves off.
func (p Place) Resolve(r replay.Recording) (Place, error) {
	info := r.Info()
	if p.Moment == event.NoMoment {
		p.Moment = event.Moment(info.Moments - 1)
		if info.Failure != nil {
			p.Moment = info.Failure.Moment
			if p.Thread == 0 {
				p.Thread = info.Failure.Thread
			}
		}
	}
	if p.Thread != 0 {
		return p, nil
	}
	var err error
	p.Thread, err = r.ThreadOf(p.Moment)
	return p, err
}
