package ask

import (
	"context"
	"encoding/hex"

	"wraithology/core/fault"
	"wraithology/core/replay"
)

var _ = declare[MemoryRequest, Memory]("memory", "The memory at an address of a core dump, and what it is")

// MemoryRequest asks for memory.
type MemoryRequest struct {
	Address Address `json:"address" required:"true" arg:"1" doc:"address, decimal or with 0x hexadecimal"`
	Count   uint64  `json:"count" minimum:"1" maximum:"65536" default:"64" doc:"number of bytes"`
}

// Memory is the memory at an address. Why is the reason if there is less of it than requested.
type Memory struct {
	Address Address `json:"address"`
	What    string  `json:"what"`
	Bytes   string  `json:"bytes"` // hexadecimal
	Words   []Word  `json:"words"`
	Why     string  `json:"why"`
}

// Word is an address-sized word of memory.
type Word struct {
	Address Address `json:"address"`
	Value   Address `json:"value"`
	What    string  `json:"what"`
}

func machine(s *Subject) (replay.Machine, error) {
	return capability[replay.Machine](s, fault.NoMachine)
}

func words(list []replay.Word) []Word {
	out := make([]Word, len(list))
	for i, w := range list {
		out[i] = Word{Address(w.Address), Address(w.Value), w.What}
	}
	return out
}

func (q MemoryRequest) answer(ctx context.Context, s *Subject) (Memory, error) {
	m, err := machine(s)
	if err != nil {
		return Memory{}, err
	}
	x, err := m.MemoryAt(ctx, uint64(q.Address), q.Count)
	return Memory{Address: Address(x.Address), What: x.What, Bytes: hex.EncodeToString(x.Bytes), Words: words(x.Words), Why: x.Why}, err
}
