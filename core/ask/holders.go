package ask

import (
	"context"

	"wraithology/core/replay"
)

var _ = declare[HoldersRequest, Holders]("holders", "The places in a core dump's memory that hold an address")

// HoldersRequest asks which memory holds a pointer.
type HoldersRequest struct {
	Address Address `json:"address" required:"true" arg:"1" doc:"address, decimal or with 0x hexadecimal"`
	From    int     `json:"from" minimum:"0" doc:"number of places to skip"`
	Count   int     `json:"count" minimum:"0" maximum:"100000" default:"20" flag:"first" doc:"number of places"`
}

// Holders are the places in memory that hold a pointer.
type Holders struct {
	Total   int    `json:"total"`
	Holders []Word `json:"holders"`
}

// Negative implements Negative: no memory holds it.
func (h Holders) Negative() bool { return h.Total == 0 }

func (q HoldersRequest) answer(ctx context.Context, s *Subject) (Holders, error) {
	m, err := machine(s)
	if err != nil {
		return Holders{}, err
	}
	list, total, err := m.Holders(ctx, uint64(q.Address), replay.Page{From: q.From, Count: q.Count})
	return Holders{Total: total, Holders: words(list)}, err
}
