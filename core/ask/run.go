package ask

import (
	"context"

	"wraithology/core/replay"
)

var _ = declare[RunRequest, Step]("run", "The next or previous hit of a checkpoint, or of any enabled checkpoint of the case")

// RunRequest asks for the next hit of a checkpoint, or of the subject's stops if it names none.
type RunRequest struct {
	Place
	CheckpointOn
	Back bool `json:"back" doc:"to the previous hit"`
}

func (q RunRequest) answer(ctx context.Context, s *Subject) (Step, error) {
	r, err := finder(s, "hit to go to")
	if err != nil {
		return Step{}, err
	}
	p, err := q.resolve(s)
	if err != nil {
		return Step{}, err
	}
	if q.On == "" && s.Stops != nil {
		stops, err := s.Stops(ctx)
		if err != nil {
			return Step{}, err
		}
		out, found, err := runFrom(ctx, r, p.Moment, q.Back, stops)
		if err == nil && !found {
			err = noHit("enabled checkpoints", q.Back, p.Moment)
		}
		return out, err
	}
	c, err := q.Checkpoint(s.Recording, p)
	if err != nil {
		return Step{}, err
	}
	out, found, err := runFrom(ctx, r, p.Moment, q.Back, []Stop{{q.CheckpointOn.String(), c}})
	if err != nil || found {
		return out, err
	}
	// An invalid place is a better error than that there is no hit.
	if _, err := r.Hits(ctx, c, replay.Page{}); err != nil {
		return out, err
	}
	return out, noHit(q.CheckpointOn.String(), q.Back, p.Moment)
}
