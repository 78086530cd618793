package ask

import (
	"cmp"
	"context"

	"wraithology/core/event"
)

var _ = declare[StackRequest, Stack]("stack", "The stack at a moment, of one thread or all")

// StackRequest asks for the stack of a thread, or of all threads.
type StackRequest struct {
	Place
	All    bool `json:"all" doc:"show every thread"`
	Frames int  `json:"frames" minimum:"0" maximum:"100000" default:"500" doc:"number of frames that are shown of one stack, without those that repeat; 0 for 500"`
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
	threads, err := threadsAt(ctx, s, p.Moment, one, p.Thread, cmp.Or(q.Frames, maxFrames))
	return Stack{p.Moment, threads}, err
}
