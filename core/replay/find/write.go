package find

import (
	"context"

	"wraithology/core/replay"
)

var _ = register(Kind{Name: "write", Form: "PATH", Doc: "on writes to a variable, field or element, as it is reached from the locator's frame", Placed: true,
	places: func(ctx context.Context, r Finder, c replay.Checkpoint) (places, error) {
		moments, err := r.WriteMoments(ctx, c.About, c.At, c.PathThread, c.Frame)
		return places{known: moments}, err
	},
	locate: func(ctx context.Context, r Finder, c replay.Checkpoint) (replay.Located, error) {
		_, err := r.WriteMoments(ctx, c.About, c.At, c.PathThread, c.Frame)
		return replay.Located{About: c.About}, err
	},
})
