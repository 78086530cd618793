package evidence

import (
	"context"
	"errors"
	"fmt"
	"os"
	"syscall"

	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/mask"
	"wraithology/core/packed"
	"wraithology/core/replay"
	"wraithology/core/replay/history"
)

// Artifacts are files that explain evidence.
type Artifacts struct {
	Binaries []string          // files; each must belong to the evidence's program
	Offered  []string          // files that are used if they fit
	Names    map[string]string // names of files by path, for messages
	Debug    []string          // folders with binaries and debug files
	Cache    string            // folder for unpacked sections
	// Alone restricts the search to these files, because the evidence comes from another machine.
	Alone  bool
	Source []string          // folders with source text
	Paths  map[string]string // prefixes of the build's paths with their local replacements
}

// Options say how to read evidence.
type Options struct {
	Timelines Timelines
	Artifacts Artifacts
	As        string            // name of the kind; if empty, it is detected
	Fields    map[string]string // meanings of fields of a structured log
	Own       []string          // prefixes of own functions and files
	Mask      *mask.Mask        // what is secret; nil for nothing
}

// Open opens the evidence at path. It uses the timeline that was kept, and builds a new one if it
// is missing or outdated. progress, if not nil, is called with the completed share, between 0 and
// 1. Damage inside evidence is not an error; it is listed in the gaps. Errors of the file itself
// wrap fault.Unreadable; the caller adds the name.
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
		return nil, fmt.Errorf("%w: %w", fault.Unreadable, syscall.ENOENT)
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
	kind, err := r.kindOf(s, o.As, o.Fields)
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
		if content, err = plainOf(ctx, f, how, o.Timelines, progress); err != nil {
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

// sampleOf reads the beginning of evidence. It is unpacked if the file is packed.
func sampleOf(f *os.File, size int64) (s Sample, how packed.How, err error) {
	b := make([]byte, min(size, sampleSize))
	if n, err := f.ReadAt(b, 0); n < len(b) {
		return s, "", fmt.Errorf("read the beginning: %w", err)
	}
	if how = packed.Detect(b); how != "" {
		if b, err = packed.Beginning(f, how, sampleSize); err != nil {
			return s, how, err
		}
	}
	return newSample(b), how, nil
}
