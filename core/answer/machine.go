package answer

import (
	"context"
	"encoding/hex"
	"fmt"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Groups are the threads at a moment, grouped where they do the same in the same place.
type Groups struct {
	Moment int64   `json:"moment"`
	Total  int     `json:"total"` // of threads
	Groups []Group `json:"groups"`
}

// Group is a number of threads with one stack. Threads lists at most
// maxGroupThreads of them; Count says how many there are.
type Group struct {
	Count   int      `json:"count"`
	Kind    string   `json:"kind"`
	State   string   `json:"state"`
	Waits   string   `json:"waits"` // what stands in the way of the first of them
	Threads []string `json:"threads"`
	Frames  []Frame  `json:"frames"`
}

// Memory is what lies at an address.
type Memory struct {
	Address string `json:"address"`
	What    string `json:"what"`
	Bytes   string `json:"bytes"` // hexadecimal
	Words   []Word `json:"words"`
	Why     string `json:"why"` // why there is less than was asked for
}

// Word is an address-sized word of memory.
type Word struct {
	Address string `json:"address"`
	Value   string `json:"value"`
	What    string `json:"what"`
}

// Holders are the places in memory that hold a pointer.
type Holders struct {
	Total   int    `json:"total"`
	Holders []Word `json:"holders"`
}

// Instructions are the machine instructions around a frame's place.
type Instructions struct {
	Moment       int64         `json:"moment"`
	Thread       string        `json:"thread"`
	Frame        int           `json:"frame"`
	Instructions []Instruction `json:"instructions"`
}

// Instruction is one machine instruction.
type Instruction struct {
	Address  string   `json:"address"`
	Bytes    string   `json:"bytes"`
	Text     string   `json:"text"`
	Where    string   `json:"where"`
	Here     bool     `json:"here"`
	Operands []string `json:"operands"`
}

const (
	maxGroupThreads = 100
	maxGroups       = 500
)

// GroupsAt groups the threads at a moment.
func GroupsAt(ctx context.Context, r replay.Recording, at event.Moment) (Groups, error) {
	out := Groups{Moment: int64(at), Groups: []Group{}}
	list, err := replay.Groups(ctx, r, at)
	if err != nil {
		return out, err
	}
	for _, g := range list {
		out.Total += len(g.Threads)
		if len(out.Groups) == maxGroups {
			continue
		}
		x := Group{Count: len(g.Threads), Kind: g.Kind, State: g.State, Threads: []string{}, Frames: []Frame{}}
		for _, t := range g.Threads[:min(len(g.Threads), maxGroupThreads)] {
			x.Threads = append(x.Threads, ThreadID(t))
		}
		frames, err := r.Frames(ctx, at, g.Threads[0])
		if err != nil {
			return out, err
		}
		for _, f := range frames {
			x.Frames = append(x.Frames, frame(f))
		}
		if x.Waits, err = replay.WaitsFor(ctx, r, at, g.Threads[0]); err != nil {
			return out, err
		}
		out.Groups = append(out.Groups, x)
	}
	return out, nil
}

func frame(f replay.Frame) Frame {
	out := Frame{Index: f.Index, Function: f.Function, File: f.File, Line: f.Line, Own: f.Own, Inlined: f.Inlined, Note: f.Note, Variables: []Variable{}}
	if f.PC != 0 {
		out.PC = address(f.PC)
	}
	return out
}

// asMachine returns the machine that evidence shows.
func asMachine(r replay.Recording) (replay.Machine, error) {
	m, ok := replay.AsMachine(r)
	if !ok {
		return nil, fmt.Errorf("%w: it is no core dump", replay.ErrNoMachine)
	}
	return m, nil
}

func address(n uint64) string { return fmt.Sprintf("0x%x", n) }

func words(list []replay.Word) []Word {
	out := make([]Word, len(list))
	for i, w := range list {
		out[i] = Word{address(w.Address), address(w.Value), w.What}
	}
	return out
}

// MemoryAt reads count bytes at an address.
func MemoryAt(ctx context.Context, r replay.Recording, at, count uint64) (Memory, error) {
	m, err := asMachine(r)
	if err != nil {
		return Memory{}, err
	}
	s, err := m.MemoryAt(ctx, at, count)
	return Memory{Address: address(s.Address), What: s.What, Bytes: hex.EncodeToString(s.Bytes), Words: words(s.Words), Why: s.Why}, err
}

// HoldersOf lists the places in memory that hold a pointer.
func HoldersOf(ctx context.Context, r replay.Recording, pointer uint64, page replay.Page) (Holders, error) {
	m, err := asMachine(r)
	if err != nil {
		return Holders{}, err
	}
	list, total, err := m.Holders(ctx, pointer, page)
	return Holders{Total: total, Holders: words(list)}, err
}

// InstructionsAt lists the instructions around the place of a frame.
func InstructionsAt(ctx context.Context, r replay.Recording, at event.Moment, t event.ThreadID, frame, before, after int) (Instructions, error) {
	out := Instructions{Moment: int64(at), Thread: ThreadID(t), Frame: frame, Instructions: []Instruction{}}
	m, err := asMachine(r)
	if err != nil {
		return out, err
	}
	list, err := m.Instructions(ctx, at, t, frame, before, after)
	for _, x := range list {
		out.Instructions = append(out.Instructions, Instruction{Address: address(x.Address), Bytes: hex.EncodeToString(x.Bytes), Text: x.Text, Where: x.Where, Here: x.Here,
			Operands: append([]string{}, x.Operands...)})
	}
	return out, err
}
