package relations

import (
	"context"
	"fmt"

	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

// Relater finds relations in recordings.
type Relater struct{ find.Finder }

// Relate implements replay.Relater.
func (r Relater) Relate(ctx context.Context, passing []replay.Recording, most int) ([]replay.Relation, bool, error) {
	if !r.Recorded() {
		return nil, false, nil
	}
	var others []find.Finder
	for _, p := range passing {
		o, ok := p.(interface{ related() find.Finder })
		if !ok {
			return nil, false, fmt.Errorf("%w: relations are found between execution logs", fault.NoHistory)
		}
		others = append(others, o.related())
	}
	return Find(ctx, r.Finder, others, most)
}

// related gives the finder of a recording to others of its kind.
func (r Relater) related() find.Finder { return r.Finder }
