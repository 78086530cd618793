package find

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Kind is a kind of checkpoint. To add one, add a file to this package that registers it. The flags
// of the command line, the service and stored checkpoints follow from that.
type Kind struct {
	Name string // "line": in requests, records and flags
	Form string // of what it is about, for help: "FILE:N"
	Doc  string // of its flag
	// Any is set if the kind can be used without an argument.
	Any bool
	// Says is set if its moments say something.
	Says bool
	// Bare is set if what it is about tells its kind.
	Bare bool
	// Placed is set if the argument is a path that is reached from a place.
	Placed bool
	// places finds the moments at which a checkpoint can hold, regardless of its condition.
	places func(ctx context.Context, r Finder, c replay.Checkpoint) (places, error)
	// locate returns the full name of a checkpoint's place.
	locate func(ctx context.Context, r Finder, c replay.Checkpoint) (replay.Located, error)
}

var kinds []Kind

func register(k Kind) Kind {
	kinds = append(kinds, k)
	return k
}

// Kinds lists the kinds of checkpoint.
func Kinds() []Kind { return kinds }

// Named returns the kind with a name.
func Named(name string) (Kind, error) {
	var names []string
	for _, k := range kinds {
		if k.Name == name {
			return k, nil
		}
		names = append(names, k.Name)
	}
	return Kind{}, fault.InvalidRequest.New("", "unknown kind of checkpoint %q: use one of %s", name, strings.Join(names, ", "))
}

// Parse parses the text of a checkpoint: the name of a kind and its argument, as in "line
// berth.go:63", "enter Assign" or "error".
func Parse(on string) (k Kind, about string, err error) {
	name, about, _ := strings.Cut(strings.TrimSpace(on), " ")
	if k, err = Named(name); err != nil {
		return k, "", err
	}
	if about = strings.TrimSpace(about); about == "*" {
		about = ""
	}
	if about == "" && !k.Any {
		return k, "", fault.InvalidRequest.New("", "checkpoint on %s: %s is missing", k.Name, k.Form)
	}
	return k, about, nil
}

// Describe describes a checkpoint of the kind for people.
func (k Kind) Describe(about string) string {
	switch {
	case k.Bare:
		return about
	case about == "":
		return k.Name
	case k.Any:
		return k.Name + " " + strconv.Quote(about)
	}
	return k.Name + " " + about
}

// Locate implements replay.Finder.
func (r Finder) Locate(ctx context.Context, c replay.Checkpoint) (replay.Located, error) {
	k, err := Named(c.Kind)
	if err != nil {
		return replay.Located{}, err
	}
	if k.locate == nil {
		return replay.Located{About: c.About}, nil
	}
	return k.locate(ctx, r, c)
}

func (r Finder) placesOf(ctx context.Context, c replay.Checkpoint) (places, error) {
	k, err := Named(c.Kind)
	if err != nil {
		return places{}, err
	}
	return k.places(ctx, r, c)
}

// ParseLine reads FILE:N.
func ParseLine(text string) (file string, line int, err error) {
	i := strings.LastIndexByte(text, ':')
	if i > 0 {
		line, err = strconv.Atoi(text[i+1:])
	}
	if i <= 0 || err != nil || line < 1 {
		return "", 0, fault.InvalidRequest.New("for example berth.go:65", "invalid line %q: expected FILE:LINE", text)
	}
	return text[:i], line, nil
}

// LineText writes FILE:N.
func LineText(file string, line int) string { return fmt.Sprintf("%s:%d", file, line) }
