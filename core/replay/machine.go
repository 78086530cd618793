package replay

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
)

// Machine is evidence that has memory and instructions: a core dump.
type Machine interface {
	// MemoryAt reads the known ones of count bytes at an address.
	MemoryAt(ctx context.Context, address, count uint64) (Stretch, error)
	// Holders lists the aligned words of memory that contain a pointer, with their total number.
	Holders(ctx context.Context, pointer uint64, page Page) ([]Word, int, error)
	// Types returns the memory with its types.
	Types() TypeNames
	// Instructions lists the instructions around the place of a frame.
	Instructions(ctx context.Context, at event.Moment, t event.ThreadID, frame, before, after int) ([]Instruction, error)
}

// TypeNames is memory whose types are known by name.
type TypeNames interface {
	Memory
	// TypeNamed returns the type with a name, or nil. The error wraps fault.Masked if memory may not be read as any type.
	TypeNamed(name string) (*event.Type, error)
}

// Stretch is a range of memory. Why is the reason if there is less than requested.
type Stretch struct {
	Address uint64
	What    string // what the memory is
	Bytes   []byte
	Words   []Word // the same as addresses, eight bytes each
	Why     string
}

// Word is an address-sized word of memory. What describes its target, or for a holder its own
// place.
type Word struct {
	Address uint64
	Value   uint64
	What    string
}

// Instruction is one machine instruction. Here marks the one at the frame's place. Operands
// describe the values of its operands.
type Instruction struct {
	Address  uint64
	Bytes    []byte
	Text     string
	Where    string // function and distance
	Here     bool
	Operands []string
}

// Group is threads that do the same in the same place.
type Group struct {
	Kind    string
	State   string
	Threads []event.ThreadID
}

// Grouper is evidence that groups its threads itself, because there can be very many.
type Grouper interface {
	Groups(ctx context.Context, at event.Moment) ([]Group, error)
}

// Groups groups the threads at a moment by what they do and where.
func Groups(ctx context.Context, r Recording, at event.Moment) ([]Group, error) {
	if g, ok := r.(Grouper); ok {
		return g.Groups(ctx, at)
	}
	threads, err := r.Threads(ctx, at)
	if err != nil {
		return nil, err
	}
	byKey := map[string]int{}
	var list []Group
	for _, t := range threads {
		frames, err := r.Frames(ctx, at, t.ID)
		if err != nil {
			return nil, err
		}
		state, _, _ := strings.Cut(t.State, ", ") // what it waits on, and until when, is its own
		var key strings.Builder
		key.WriteString(t.Kind + "\x00" + state)
		for _, f := range frames {
			fmt.Fprintf(&key, "\x00%s:%s:%d", f.Function, f.File, f.Line)
		}
		i, ok := byKey[key.String()]
		if !ok {
			i = len(list)
			byKey[key.String()] = i
			list = append(list, Group{Kind: t.Kind, State: state})
		}
		list[i].Threads = append(list[i].Threads, t.ID)
	}
	slices.SortStableFunc(list, func(a, b Group) int { return cmp.Compare(len(b.Threads), len(a.Threads)) })
	return list, nil
}

// Waiter is evidence that can find the target of a thread's wait with additional work.
type Waiter interface {
	// WaitsFor describes what blocks a thread; empty if not known.
	WaitsFor(ctx context.Context, at event.Moment, t event.ThreadID) (string, error)
}

// WaitsFor describes what blocks a thread, if the evidence can.
func WaitsFor(ctx context.Context, r Recording, at event.Moment, t event.ThreadID) (string, error) {
	if w, ok := r.(Waiter); ok {
		return w.WaitsFor(ctx, at, t)
	}
	return "", nil
}
