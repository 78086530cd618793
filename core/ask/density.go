package ask

import (
	"context"

	"wraithology/core/replay"
)

var _ = declare[DensityRequest, Density]("density", "Number of a checkpoint's hits in equal spans of the recording")

// DensityRequest asks for the distribution of a checkpoint's hits.
type DensityRequest struct {
	Place
	CheckpointOn
	Spans int `json:"spans" minimum:"1" maximum:"2000" default:"400" doc:"number of spans"`
}

// Density counts a checkpoint's hits in equal intervals of a recording.
type Density struct {
	Moments int64 `json:"moments"`
	Counts  []int `json:"counts"`
}

func (q DensityRequest) answer(ctx context.Context, s *Subject) (Density, error) {
	out := Density{Moments: s.Recording.Info().Moments, Counts: make([]int, q.Spans)}
	r, ok := s.Recording.(replay.Finder)
	if !ok {
		return out, nil
	}
	c, err := q.Checkpoint(s.Recording, q.Place)
	if err != nil {
		return out, err
	}
	out.Counts, err = r.Density(ctx, c, q.Spans)
	return out, err
}
