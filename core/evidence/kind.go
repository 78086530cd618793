package evidence

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	"wraithology/core/coredump"
	"wraithology/core/crashtext"
	"wraithology/core/eventtrace"
	"wraithology/core/eventtrace/otlp"
	"wraithology/core/execlog"
	"wraithology/core/packed"
	"wraithology/core/runtimetrace"
	"wraithology/core/structuredlog"
	"wraithology/core/traceback"
)

// Kind is a kind of evidence.
type Kind string

// The kinds of evidence.
const (
	ExecutionLog  Kind = "execution-log"
	CoreDump      Kind = "core-dump"
	EventTrace    Kind = eventtrace.Kind
	StructuredLog Kind = structuredlog.Kind
	CrashText     Kind = crashtext.Kind
	RuntimeTrace  Kind = runtimetrace.Kind
)

// Kinds lists all of them.
var Kinds = []Kind{ExecutionLog, CoreDump, EventTrace, StructuredLog, CrashText, RuntimeTrace}

// ErrKind says that a kind of evidence is not known, or cannot be told.
var ErrKind = errors.New("the kind of evidence is not known")

// ParseKind reads a kind; an empty text leaves it to the bytes.
func ParseKind(s string) (Kind, error) {
	if s == "" || slices.Contains(Kinds, Kind(s)) {
		return Kind(s), nil
	}
	return "", fmt.Errorf("%q: %w: it is one of %s", s, ErrKind, kindNames())
}

func kindNames() string {
	var names []string
	for _, k := range Kinds {
		names = append(names, string(k))
	}
	return strings.Join(names, ", ")
}

// form is a kind of evidence in one of the forms in which it comes.
type form int

const (
	formLog form = iota + 1
	formDump
	formOTLP
	formOTLPJSON
	formStructured
	formCrashText
	formRuntime
)

// sampleSize is how much of a file is looked at to tell what it is.
const sampleSize = 64 << 10

// sampleOf reads the beginning of evidence, unpacked where it is packed.
func sampleOf(f *os.File, size int64) (sample []byte, how packed.How, err error) {
	sample = make([]byte, min(size, sampleSize))
	if n, err := f.ReadAt(sample, 0); n < len(sample) {
		return nil, "", fmt.Errorf("read the beginning: %w", err)
	}
	if how = packed.Tell(sample); how != "" {
		sample, err = packed.Beginning(f, how, sampleSize)
	}
	return sample, how, err
}

// formOf tells the form of evidence, by its kind where that is given, and by its beginning.
func formOf(sample []byte, as Kind) (form, error) {
	json := bytes.HasPrefix(bytes.TrimLeft(sample, "\ufeff \t\r\n"), []byte("{"))
	switch as {
	case ExecutionLog:
		return formLog, nil
	case CoreDump:
		return formDump, nil
	case EventTrace:
		if json {
			return formOTLPJSON, nil
		}
		return formOTLP, nil
	case StructuredLog:
		return formStructured, nil
	case CrashText:
		return formCrashText, nil
	case RuntimeTrace:
		return formRuntime, nil
	}
	text := isText(sample)
	switch {
	case coredump.Is(sample):
		return formDump, nil
	case len(sample) == 0 || bytes.HasPrefix(sample, []byte(execlog.Magic)):
		return formLog, nil
	case runtimetrace.Is(sample):
		return formRuntime, nil
	case json && otlp.IsJSON(sample):
		return formOTLPJSON, nil
	case !isText(sample[:min(len(sample), 256)]) && otlp.Is(sample): // a long text may follow
		return formOTLP, nil
	case text && !json && mostlyCrash(sample):
		return formCrashText, nil
	case text && (structuredlog.Is(sample) || structuredlog.HasTimes(sample)):
		return formStructured, nil
	case text && traceback.Is(sample):
		return formCrashText, nil
	}
	begins := sample[:min(len(sample), 16)]
	return 0, fmt.Errorf("%w: it begins with %q, and is none of %s; --as KIND says what it is, where its bytes do not", ErrKind, begins, kindNames())
}

// mostlyCrash reports whether there is a crash in a text, and three in four of its
// lines at least tell of it.
func mostlyCrash(sample []byte) bool {
	const most = 0.75
	return traceback.Is(sample) && traceback.Share(sample) >= most
}

// isText reports whether bytes are text: hardly any control characters, and UTF-8
// or another encoding that shares ASCII.
func isText(b []byte) bool {
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
