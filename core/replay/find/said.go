package find

import (
	"context"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/timeline"
)

var _ = register(Kind{Name: "error", Form: "[TEXT]", Doc: "on errors and panics that contain the text; without a text, on any", Any: true, Says: true,
	places: func(_ context.Context, r Finder, c replay.Checkpoint) (places, error) {
		p := places{lists: []timeline.List{r.T.ErrorReturns(), r.T.Notable(event.Panic), r.T.Notable(event.Failure), r.T.Notable(event.Error)}}
		if c.About != "" {
			p.keep = func(m event.Moment) bool { return contains(r.ErrorAt(m), c.About) }
		}
		return p, nil
	},
})

var _ = register(Kind{Name: "output", Form: "[TEXT]", Doc: "on outputs and messages that contain the text; without a text, on any", Any: true, Says: true,
	places: func(_ context.Context, r Finder, c replay.Checkpoint) (places, error) {
		p := places{lists: []timeline.List{r.T.Notable(event.Output), r.T.Notable(event.Message), r.T.Notable(event.Error)}}
		if c.About != "" {
			p.keep = func(m event.Moment) bool { return contains(r.FirstText(m, ""), c.About) }
		}
		return p, nil
	},
})

// contains reports whether a text contains another one, ignoring letter case.
func contains(text, part string) bool {
	return strings.Contains(strings.ToLower(text), strings.ToLower(part))
}
