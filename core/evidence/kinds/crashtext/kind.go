package crashtext

import (
	"cmp"
	"context"
	"path/filepath"

	"wraithology/core/evidence"
	"wraithology/core/replay"
	"wraithology/core/source"
	"wraithology/core/traceback"
)

// Kind registers crash texts.
var Kind = evidence.Kind{
	Name: kindName, Ending: ".txt",
	Traits:    replay.Traits{Lines: true},
	Explained: true,
	Recognise: recognise,
	Open: func(ctx context.Context, f evidence.File, o evidence.Options) (replay.Recording, error) {
		options := optionsOf(o)
		options.Damage, options.Mask = f.Damage, o.Mask
		return Open(ctx, f.File, f.Size, options)
	},
}

// mostly is the share of lines that must belong to a crash for a text to be a crash text rather
// than a log.
const mostly = 0.75

func recognise(s evidence.Sample) evidence.Confidence {
	switch {
	case !s.Text || !traceback.Is(s.Bytes):
		return evidence.No
	case !s.JSON && traceback.Share(s.Bytes) >= mostly:
		return evidence.VeryLikely
	}
	return evidence.Possible
}

func optionsOf(o evidence.Options) Options {
	a := o.Artifacts
	var binaries []Binary
	for _, path := range a.Binaries {
		binaries = append(binaries, Binary{Path: path, Name: filepath.Base(path)})
	}
	for _, path := range a.Offered {
		binaries = append(binaries, Binary{Path: path, Name: cmp.Or(a.Names[path], filepath.Base(path)), Offered: true})
	}
	return Options{Binaries: binaries, Own: o.Own, Source: source.Places{Folders: a.Source, Paths: a.Paths, Own: !a.Alone}}
}
