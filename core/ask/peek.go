package ask

import (
	"context"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[PeekRequest, Peek]("peek", "What the evidence is, how the program ended, where, and what is missing")

// PeekRequest asks for an overview of evidence.
type PeekRequest struct{}

// Peek is an overview of evidence: its kind, its end, and its gaps.
type Peek struct {
	Evidence Evidence `json:"evidence"`
	Failure  *Failure `json:"failure"`
	Gaps     []Gap    `json:"gaps"`
	Threads  []Thread `json:"threads"`
	// Outputs are the last ones before the failure, or before the end. Condition is the one that
	// decided that the failing line was reached; Lost is an update that was lost of what it uses. Next are questions
	// that may lead on.
	Outputs   []Hit      `json:"outputs"`
	Condition *Condition `json:"condition,omitempty"`
	Lost      *Race      `json:"lost,omitempty"`
	// Deadlocks are threads that wait for each other at the failure.
	Deadlocks []WaitCycle `json:"deadlocks,omitempty"`
	Next      []Next      `json:"next"`
}

// Next is a question that may lead on: its name, the place, the path or other argument, and the reason.
type Next struct {
	Question string         `json:"question"`
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Frame    int            `json:"frame"`
	Argument string         `json:"argument"`
	Why      string         `json:"why"`
}

// Evidence describes a piece of evidence.
type Evidence struct {
	Kind       string        `json:"kind"`
	Traits     replay.Traits `json:"traits"`
	Program    string        `json:"program"`
	BuildID    string        `json:"buildID"`
	Revision   string        `json:"revision"`
	Host       string        `json:"host"`
	Command    []string      `json:"command"`
	Moments    int64         `json:"moments"`
	Threads    int           `json:"threads"`
	Started    time.Time     `json:"started"`
	DurationNs int64         `json:"durationNs"`
	// Reading says how the lines of a log were read.
	Reading *event.Reading `json:"reading,omitempty"`
}

// Failure is the place where a program failed.
type Failure struct {
	Kind    string         `json:"kind"`
	Summary string         `json:"summary"`
	Moment  event.Moment   `json:"moment"`
	Thread  event.ThreadID `json:"thread"`
	Frame   int            `json:"frame"`
	// The following are set for core dumps only.
	Signal      string `json:"signal,omitempty"`
	Address     string `json:"address,omitempty"`
	Instruction string `json:"instruction,omitempty"`
	Suspect     string `json:"suspect,omitempty"`
	// Causes are the errors, outermost first, if the evidence distinguishes them. Fingerprint is
	// equal for failures of the same kind at the same place.
	Causes      []Cause `json:"causes,omitempty"`
	Fingerprint string  `json:"fingerprint,omitempty"`
}

// Cause is an error that caused another one.
type Cause struct {
	Type    string `json:"type"`
	Message string `json:"message"`
}

func (PeekRequest) answer(ctx context.Context, s *Subject) (Peek, error) {
	r := s.Recording
	info := r.Info()
	p := Peek{
		Evidence: Evidence{Kind: info.Kind, Traits: replay.TraitsOf(r), Program: info.Program, BuildID: info.BuildID, Revision: info.Revision, Host: info.Host, Command: info.Command,
			Moments: info.Moments, Threads: info.Threads, Started: info.Started, DurationNs: int64(info.Duration), Reading: info.Reading},
		Gaps: []Gap{}, Threads: []Thread{}, Outputs: []Hit{}, Next: []Next{},
	}
	for _, g := range info.Gaps {
		p.Gaps = append(p.Gaps, Gap(g))
	}
	if info.Moments == 0 {
		return p, nil
	}
	at := event.Moment(info.Moments - 1)
	failing := event.ThreadID(0)
	if f := info.Failure; f != nil {
		p.Failure = &Failure{Kind: f.Kind, Summary: f.Summary, Moment: f.Moment, Thread: f.Thread, Frame: f.Frame,
			Signal: f.Signal, Address: f.Address, Instruction: f.Instruction, Suspect: f.Suspect}
		if len(f.Causes) > 0 { // only evidence with distinct errors is compared by them
			var err error
			if p.Failure.Fingerprint, err = Fingerprint(ctx, r); err != nil {
				return p, err
			}
		}
		for _, c := range f.Causes {
			p.Failure.Causes = append(p.Failure.Causes, Cause(c))
		}
		at, failing = f.Moment, f.Thread
	}
	var err error
	if p.Threads, err = threadsAt(ctx, s, at, 0, failing, maxFrames); err != nil {
		return p, err
	}
	return p, p.lead(ctx, s, at)
}
