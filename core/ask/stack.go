package ask

import (
	"context"

	"wraithology/core/event"
)

var _ = declare[StackRequest, Stack]("stack", "The stack at a moment, of one thread or all")

// StackRequest asks for the stack of a thread, or of all threads.
type StackRequest struct {
	Place
	All bool `json:"all" doc:"show every thread"`
}

// Stack is the stack of one thread, or of all threads.
type Stack struct {
	Moment  event.Moment `json:"moment"`
	Threads []Thread     `json:"threads"`
}

func (q StackRequest) answer(ctx context.Context, s *Subject) (Stack, error) {
	p, err := q.resolve(s)
	if err != nil {
		return Stack{}, err
	}
	one := p.Thread
	if q.All {
		one = 0
	}
	threads, err := threadsAt(ctx, s, p.Moment, one, p.Thread)
	return Stack{p.Moment, threads}, err
}
