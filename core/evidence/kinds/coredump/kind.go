package coredump

import (
	"context"

	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/replay"
)

// Kind registers core dumps.
var Kind = evidence.Kind{
	Name: kindName, Ending: ".core",
	Traits:    replay.Traits{Lines: true, Memory: true},
	Explained: true,
	Unpacks:   true, // sparse
	Recognise: func(s evidence.Sample) evidence.Confidence {
		if Is(s.Bytes) {
			return evidence.Certain
		}
		return evidence.No
	},
	Open: func(ctx context.Context, f evidence.File, o evidence.Options) (replay.Recording, error) {
		of := OptionsOf(o.Artifacts)
		of.Timelines = o.Timelines
		d, err := Open(ctx, f.File, of)
		if err != nil || o.Mask == nil {
			return d, err
		}
		return newMasked(d, o.Mask), nil
	},
}

// OptionsOf returns the options for artifacts.
func OptionsOf(a evidence.Artifacts) Options {
	return Options{Modules: module.Sources{Binaries: a.Binaries, Offered: a.Offered, Names: a.Names, Debug: a.Debug, Cache: a.Cache, Alone: a.Alone}, Source: a.Source, Paths: a.Paths}
}
