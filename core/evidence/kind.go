// Package evidence opens files of all kinds of evidence for replay. Kinds register themselves in
// the folder kinds: how to detect, build and open them, and their traits. No other code tests the
// name of a kind.
package evidence

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	"wraithology/core/fault"
	"wraithology/core/intake"
	"wraithology/core/replay"
)

// Kind is a kind of evidence. It has either Build or Open.
type Kind struct {
	Name   string // stable in answers and records: "core-dump"
	Ending string // of file names, with the dot
	// Traits are the maximum capabilities of the kind. An opened recording has its own
	// (replay.TraitsOf).
	Traits replay.Traits
	// Explained is set if artifacts of a case explain it: binaries, debug files, source text.
	Explained bool
	// Unpacks is set if the kind reads packed files itself; other kinds get them unpacked.
	Unpacks bool
	// Recognise returns the confidence that a file with this beginning is of the kind.
	Recognise func(Sample) Confidence
	// Described reports whether rules alone say that evidence is of the kind, if it is not recognised as any.
	Described func(rules map[string]string) bool
	// Build builds the timeline of evidence with a history.
	Build func(ctx context.Context, in intake.Input, o Options) error
	// Open opens evidence of one moment.
	Open func(ctx context.Context, f File, o Options) (replay.Recording, error)
}

// Confidence is how likely a file is of a kind.
type Confidence int

// The confidences. Among equal ones, the kind that was registered first wins.
const (
	No Confidence = iota
	Possible
	Likely
	VeryLikely
	Certain // it begins with the kind's magic number
)

// Sample is the beginning of a file, unpacked if the file is packed.
type Sample struct {
	Bytes []byte
	JSON  bool // it begins as a JSON object
	Text  bool
}

// File is an opened file of evidence.
type File struct {
	*os.File
	Size   int64
	Damage string // the reason why the text ends early, or nil
}

// Registry is a list of kinds.
type Registry []Kind

// Named returns the kind with a name.
func (r Registry) Named(name string) (Kind, error) {
	for _, k := range r {
		if k.Name == name {
			return k, nil
		}
	}
	return Kind{}, fault.InvalidRequest.New("use one of "+strings.Join(r.Names(), ", "), "unknown kind of evidence %q", name)
}

// Names lists the names of the kinds.
func (r Registry) Names() []string {
	var names []string
	for _, k := range r {
		names = append(names, k.Name)
	}
	return names
}

// kindOf returns the kind of a file: the named one, else the one with the highest confidence, else the one that rules
// describe.
func (r Registry) kindOf(s Sample, name string, rules map[string]string) (Kind, error) {
	if name != "" {
		return r.Named(name)
	}
	sure := make([]Confidence, len(r))
	for i, k := range r {
		sure[i] = k.Recognise(s)
	}
	best := slices.Max(sure)
	if best == No {
		for _, k := range r {
			if k.Described != nil && s.Text && k.Described(rules) {
				return k, nil
			}
		}
		return Kind{}, fmt.Errorf("%w: it begins with %q and is none of %s", fault.UnknownKind, s.Bytes[:min(len(s.Bytes), 16)], strings.Join(r.Names(), ", "))
	}
	return r[slices.Index(sure, best)], nil
}

// sampleSize is the size of a sample, in bytes.
const sampleSize = 64 << 10

func newSample(b []byte) Sample {
	return Sample{Bytes: b, JSON: bytes.HasPrefix(bytes.TrimLeft(b, "\ufeff \t\r\n"), []byte("{")), Text: IsText(b)}
}

// IsText reports whether bytes are text: hardly any control characters, and UTF-8
// or another encoding that shares ASCII.
func IsText(b []byte) bool {
	control, invalid := 0, 0
	for i := 0; i < len(b); {
		r, n := utf8.DecodeRune(b[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			invalid++
		case r < ' ' && r != '\n' && r != '\r' && r != '\t' && r != 0x1b && r != '\f':
			control++
		}
		i += n
	}
	return control*200 <= len(b) && invalid*10 <= len(b)
}
