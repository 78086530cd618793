package evidence

import (
	"context"
	"errors"
	"fmt"
	"os"

	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/packed"
	"wraithology/core/replay"
	"wraithology/core/replay/history"
)

// Artifacts explain evidence that does not explain itself.
type Artifacts struct {
	Binaries []string          // files; each must be of the evidence's program
	Offered  []string          // files that are used where they fit
	Names    map[string]string // names of files, by their paths, where the paths do not say them
	Debug    []string          // folders with binaries and debug files
	Cache    string            // folder for unpacked sections
	// Alone keeps the search to these files: the machine's own files are not those of
	// the machine that the evidence comes from.
	Alone  bool
	Source []string          // folders with source text
	Paths  map[string]string // beginnings of the build's paths, and what stands for them here
}

// Options say how evidence is read.
type Options struct {
	Timelines Timelines
	Artifacts Artifacts
	As        string            // the kind's name; empty leaves it to the bytes
	Fields    map[string]string // of a structured log: which field has which meaning
	Own       []string          // beginnings of functions' and files' names that are the team's own
}

// Open opens the evidence at path. Its timeline is looked up among those that are kept,
// and built where it is missing or outdated; progress, if not nil, is called from time to
// time with the share that is done, between 0 and 1. Damage within evidence is no error:
// it is among the recording's gaps. Errors of the file itself wrap fault.Unreadable, and
// leave it to the caller to name it.
func (r Registry) Open(ctx context.Context, path string, o Options, progress func(float64)) (out replay.Recording, err error) {
	err = guard.Do(func() (err error) {
		out, err = r.open(ctx, path, o, progress)
		return err
	})
	return out, err
}

func (r Registry) open(ctx context.Context, path string, o Options, progress func(float64)) (replay.Recording, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, fmt.Errorf("%w: there is no such file", fault.Unreadable)
	case err != nil:
		return nil, fmt.Errorf("%w: %w", fault.Unreadable, err)
	case info.IsDir():
		return nil, fmt.Errorf("%w: it is a folder", fault.Unreadable)
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%w: it is not a file", fault.Unreadable)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.Unreadable, err)
	}
	defer f.Close()
	s, how, err := sampleOf(f, info.Size())
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.Unreadable, err)
	}
	kind, err := r.kindOf(s, o.As)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.Unreadable, err)
	}
	if kind.Open != nil {
		return openStill(ctx, kind, f, info.Size(), how, o, progress)
	}
	t, err := timelineOf(ctx, kind, f, info, how, o, progress)
	if err != nil {
		return nil, err
	}
	return history.Open(t), nil
}

// openStill opens evidence of one moment.
func openStill(ctx context.Context, kind Kind, f *os.File, size int64, how packed.How, o Options, progress func(float64)) (replay.Recording, error) {
	content := plain{File: File{File: f, Size: size}, close: func() {}}
	if !kind.Unpacks {
		var err error
		if content, err = plainOf(ctx, f, how, os.TempDir(), progress); err != nil {
			return nil, fmt.Errorf("%w: %w", fault.Unreadable, err)
		}
	}
	defer content.close()
	r, err := kind.Open(ctx, content.File, o)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.Unreadable, err)
	}
	return r, nil
}

// sampleOf reads the beginning of evidence, unpacked where it is packed.
func sampleOf(f *os.File, size int64) (s Sample, how packed.How, err error) {
	b := make([]byte, min(size, sampleSize))
	if n, err := f.ReadAt(b, 0); n < len(b) {
		return s, "", fmt.Errorf("read the beginning: %w", err)
	}
	if how = packed.Tell(b); how != "" {
		if b, err = packed.Beginning(f, how, sampleSize); err != nil {
			return s, how, err
		}
	}
	return newSample(b), how, nil
}
