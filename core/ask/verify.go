package ask

import (
	"context"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

var _ = declare[VerifyRequest, Verified]("verify", "Compare the recording with the snapshots that the recorder took in the program")

// VerifyRequest asks whether the values of a recording are those that the program had. The
// recording was made with snapshots.
type VerifyRequest struct {
	From  int `json:"from" minimum:"0" doc:"number of differences to skip"`
	Count int `json:"count" minimum:"1" maximum:"100000" default:"50" flag:"first" doc:"number of differences"`
}

// Verified counts the compared values. Unknown are those that the recording does not claim to know.
type Verified struct {
	Compared    int64        `json:"compared"`
	Unknown     int64        `json:"unknown"`
	Total       int          `json:"total"`
	Differences []Difference `json:"differences"`
}

// Difference is a value that the recording has wrong.
type Difference struct {
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	Name     string         `json:"name"`
	Recorded string         `json:"recorded"`
	Actual   string         `json:"actual"`
}

// Negative implements Negative: the recording has wrong values.
func (v Verified) Negative() bool { return v.Total > 0 }

// usualLimit is the time limit without another one: every snapshot of the recording is compared.
func (VerifyRequest) usualLimit() time.Duration { return 10 * time.Minute }

func (q VerifyRequest) answer(ctx context.Context, s *Subject) (Verified, error) {
	out := Verified{Differences: []Difference{}}
	r, ok := s.Recording.(replay.Verifier)
	if !ok {
		return out, fault.NoSnapshots
	}
	v, err := r.Verify(ctx, replay.Page{From: q.From, Count: q.Count})
	out.Compared, out.Unknown, out.Total = v.Compared, v.Unknown, v.Total
	for _, d := range v.Page {
		out.Differences = append(out.Differences, Difference{Moment: d.Moment, Thread: d.Thread, Function: d.Function, File: d.File, Line: d.Line, Name: d.Name, Recorded: d.Recorded, Actual: d.Actual})
	}
	return out, err
}
