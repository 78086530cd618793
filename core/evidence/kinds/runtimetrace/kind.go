package runtimetrace

import (
	"context"

	"wraithology/core/evidence"
	"wraithology/core/intake"
	"wraithology/core/replay"
)

// Kind registers execution traces of the Go runtime.
var Kind = evidence.Kind{
	Name: kindName, Ending: ".trace",
	Traits: replay.Traits{History: true, Messages: true, Clock: true},
	Recognise: func(s evidence.Sample) evidence.Confidence {
		if Is(s.Bytes) {
			return evidence.Certain
		}
		return evidence.No
	},
	Build: func(ctx context.Context, in intake.Input, _ evidence.Options) error { return Build(ctx, in) },
}
