package ask

import (
	"context"
	"encoding/hex"

	"wraithology/core/event"
)

var _ = declare[InstructionsRequest, Instructions]("instructions", "The machine instructions around a frame's place in a core dump")

// InstructionsRequest asks for machine instructions.
type InstructionsRequest struct {
	Place
	Before int `json:"before" minimum:"0" maximum:"1000" default:"6" doc:"number of instructions before the place"`
	After  int `json:"after" minimum:"0" maximum:"1000" default:"6" doc:"number of instructions after the place"`
}

// Instructions are the machine instructions around a frame's place.
type Instructions struct {
	Moment       event.Moment   `json:"moment"`
	Thread       event.ThreadID `json:"thread"`
	Frame        int            `json:"frame"`
	Instructions []Instruction  `json:"instructions"`
}

// Instruction is one machine instruction.
type Instruction struct {
	Address  Address  `json:"address"`
	Bytes    string   `json:"bytes"`
	Text     string   `json:"text"`
	Where    string   `json:"where"`
	Here     bool     `json:"here"`
	Operands []string `json:"operands"`
}

func (q InstructionsRequest) answer(ctx context.Context, s *Subject) (Instructions, error) {
	m, err := machine(s)
	if err != nil {
		return Instructions{}, err
	}
	p, err := q.resolve(s)
	out := Instructions{Moment: p.Moment, Thread: p.Thread, Frame: p.Frame, Instructions: []Instruction{}}
	if err != nil {
		return out, err
	}
	list, err := m.Instructions(ctx, p.Moment, p.Thread, p.Frame, q.Before, q.After)
	for _, x := range list {
		out.Instructions = append(out.Instructions, Instruction{Address: Address(x.Address), Bytes: hex.EncodeToString(x.Bytes), Text: x.Text, Where: x.Where, Here: x.Here,
			Operands: append([]string{}, x.Operands...)})
	}
	return out, err
}
