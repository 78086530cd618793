// Package ask holds the questions that evidence answers, one file each: the request with its
// parameters, the answer, and the method that finds it. The command line, the service's routes,
// their OpenAPI description and the client are made from these declarations. The answers are
// documented in docs/answers.md and are stable: members can be added, but not removed or changed.
package ask

import (
	"cmp"
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
)

// Request is a question. Its exported fields are its parameters; their tags hold names, defaults
// and bounds (see Field).
type Request[A any] interface {
	answer(ctx context.Context, s *Subject) (A, error)
}

// Subject is the evidence that is asked, with its surroundings.
type Subject struct {
	Recording replay.Recording
	// Limit is the time limit of a question; 0 for DefaultLimit.
	Limit time.Duration
	// Offset is how far the evidence's clock is behind the clock of the case.
	Offset time.Duration
	// Others opens the other evidence of the case; nil if there is none.
	Others func(context.Context) ([]Other, error)
	// Stops lists the checkpoints at which steps and runs end; nil if there are none.
	Stops func(context.Context) ([]Stop, error)

	texts map[string][]string // lines of source files
}

// sourceLine returns a line of source text, empty if there is none.
func (s *Subject) sourceLine(file string, line int) string {
	lines, ok := s.texts[file]
	if !ok && file != "" {
		if text, err := s.Recording.Source(file); err == nil {
			lines = strings.Split(text, "\n")
		}
		if s.texts == nil {
			s.texts = map[string][]string{}
		}
		s.texts[file] = lines
	}
	if line < 1 || line > len(lines) {
		return ""
	}
	return strings.TrimSpace(lines[line-1])
}

// Other is other evidence of the same case. Offset is how far its clock is behind.
type Other struct {
	Name      string
	Recording replay.Recording
	Offset    time.Duration
}

// Stop is a checkpoint at which a step or a run ends. Name is the reason in the answer.
type Stop struct {
	Name       string
	Checkpoint replay.Checkpoint
}

// DefaultLimit is the time limit of a question without one.
const DefaultLimit = 5 * time.Second

// Run answers a question. It is the only way to an answer: it checks the parameters, limits the
// time, and turns a failure inside the question into an error. Errors wrap a fault.Kind.
func Run[A any](ctx context.Context, s Subject, q Request[A]) (answer A, err error) {
	if err := Validate(q, Field.Parameter); err != nil {
		return answer, err
	}
	usual := DefaultLimit
	if l, ok := q.(interface{ usualLimit() time.Duration }); ok {
		usual = l.usualLimit() // it looks at all of the evidence
	}
	limit := cmp.Or(s.Limit, usual)
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
	Name    string // name of the command and of the route
	Summary string
	Request reflect.Type
	Answer  reflect.Type
	run     func(ctx context.Context, s Subject, q any) (any, error)
}

var questions = map[string]Question{}

// declare adds a question to the table. Each question's file calls it once.
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

// Named returns the question with a name and whether there is one.
func Named(name string) (Question, bool) {
	q, ok := questions[name]
	return q, ok
}

// Of returns the question of a request.
func Of(request any) Question {
	t := reflect.TypeOf(request)
	for _, q := range questions {
		if q.Request == t {
			return q
		}
	}
	panic(fmt.Sprintf("ask: %s is not declared", t)) // a defect of this program
}

// Run answers a request of this question. It is the untyped form of the function Run.
func (q Question) Run(ctx context.Context, s Subject, request any) (any, error) {
	return q.run(ctx, s, request)
}

// Negative is implemented by answers that can be negative: no, or nothing found.
type Negative interface{ Negative() bool }

// capability returns a capability of the recording, or the error missing if it does not have it.
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

// Place is a place in evidence. The default moment is that of the failure, else the last one; the
// default thread is that of the moment; the default frame is the innermost one.
type Place struct {
	Moment event.Moment   `json:"moment" required:"false" default:"-1" minimum:"-1" flag:"-" doc:"moment; -1 for the failure's, or the last"`
	Thread event.ThreadID `json:"thread" required:"false" flag:"-" doc:"thread; left off for the moment's"`
	Frame  int            `json:"frame" required:"false" minimum:"0" flag:"-" doc:"frame, 0 for the innermost"`
}

// PlaceIn returns the place of a request that a pointer refers to, or nil if it has none.
func PlaceIn(request any) *Place {
	f := reflect.ValueOf(request).Elem().FieldByName("Place")
	if !f.IsValid() {
		return nil
	}
	p, _ := f.Addr().Interface().(*Place)
	return p
}

func (p Place) resolve(s *Subject) (Place, error) { return p.Resolve(s.Recording) }

// Resolve replaces missing parts of a place with their defaults.
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
