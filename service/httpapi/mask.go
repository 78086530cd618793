package httpapi

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/mask"
	"wraithology/service/jobs"
	"wraithology/service/store"
)

func (a *server) maskRoutes(h huma.API) {
	const path = "/api/cases/{case}/mask"
	route(h, a, "GET", path, "mask", "The rules of a case for masking", func(ctx context.Context, in *CaseInput) (*body[api.Masking], error) {
		c, err := a.caseFor(ctx, in.Case)
		return &body[api.Masking]{api.Masking{Rules: c.Mask}}, err
	})
	route(h, a, "PUT", path, "setMask", "Set the rules of a case for masking; its evidence is indexed again", func(ctx context.Context, in *caseBody[mask.Rules]) (*body[api.Masking], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		if _, err := mask.New(in.Body); err != nil {
			return nil, err
		}
		out := api.Masking{Rules: in.Body}
		err = a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
			again, err := s.SetMask(ctx, c.ID, in.Body)
			for _, e := range again {
				if err == nil {
					err = q.Index(ctx, e)
				}
			}
			out.Evidence = len(again)
			return "set the rules for masking: " + in.Body.String(), err
		})
		if err != nil {
			return nil, fmt.Errorf("set the rules for masking: %w", err)
		}
		return &body[api.Masking]{out}, nil
	})
}
