package api

import (
	"context"
	"fmt"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/core/answer"
	"wraithology/core/replay"
)

// machineRoutes are the questions about threads, and about the memory and
// instructions of core dumps.
func (a *api) machineRoutes(h huma.API) {
	route(h, a, "GET", evidencePath+"threads", "threads", "All threads, grouped where their stacks are the same", func(ctx context.Context, in *PlaceInput) (*body[answer.Groups], error) {
		r, m, _, err := a.at(ctx, *in)
		if err != nil {
			return nil, err
		}
		out, err := answer.GroupsAt(ctx, r, m)
		return &body[answer.Groups]{out}, err
	})
	route(h, a, "GET", evidencePath+"memory", "memory", "The memory at an address of a core dump, and what it is", func(ctx context.Context, in *struct {
		EvidenceInput
		Address string `query:"address" required:"true" doc:"decimal, or with 0x hexadecimal"`
		Count   uint64 `query:"count" minimum:"1" maximum:"65536" default:"64"`
	}) (*body[answer.Memory], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		at, err := addressOf(in.Address)
		if err != nil {
			return nil, err
		}
		out, err := answer.MemoryAt(ctx, r, at, in.Count)
		return &body[answer.Memory]{out}, err
	})
	route(h, a, "GET", evidencePath+"holders", "holders", "The places in a core dump's memory that hold an address", func(ctx context.Context, in *struct {
		EvidenceInput
		Address string `query:"address" required:"true" doc:"decimal, or with 0x hexadecimal"`
		From    int    `query:"from" minimum:"0"`
		Count   int    `query:"count" minimum:"0" maximum:"1000" default:"20"`
	}) (*body[answer.Holders], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		at, err := addressOf(in.Address)
		if err != nil {
			return nil, err
		}
		out, err := answer.HoldersOf(ctx, r, at, replay.Page{From: in.From, Count: in.Count})
		return &body[answer.Holders]{out}, err
	})
	route(h, a, "GET", evidencePath+"instructions", "instructions", "The machine instructions around a frame's place", func(ctx context.Context, in *struct {
		PlaceInput
		Before int `query:"before" minimum:"0" maximum:"1000" default:"6"`
		After  int `query:"after" minimum:"0" maximum:"1000" default:"6"`
	}) (*body[answer.Instructions], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		out, err := answer.InstructionsAt(ctx, r, m, t, in.Frame, in.Before, in.After)
		return &body[answer.Instructions]{out}, err
	})
}

func addressOf(text string) (uint64, error) {
	n, err := strconv.ParseUint(text, 0, 64)
	if err != nil {
		return 0, huma.Error422UnprocessableEntity(fmt.Sprintf("%q is no address: write it as 0x7ffe1c40", text))
	}
	return n, nil
}
