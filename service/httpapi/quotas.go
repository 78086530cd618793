package httpapi

import (
	"context"

	"wraithology/core/fault"
	"wraithology/service/store"
)

// Quotas limit the bytes of evidence and artifacts, those that were deleted and can be restored too; 0 for no limit.
type Quotas struct {
	Case   int64 // of a case
	Person int64 // that a person has added, in all cases
}

// fits returns an error if some bytes more are more than a case, or the person who asks, may have. It says nothing of the cases of others.
func (a *server) fits(ctx context.Context, s *store.Store, c store.Case, bytes int64) error {
	if a.Quotas == (Quotas{}) {
		return nil
	}
	ofCase, ofPerson, err := s.KeptBytes(ctx, c.ID, who(ctx).ID)
	switch {
	case err != nil:
		return err
	case a.Quotas.Case > 0 && ofCase+bytes > a.Quotas.Case:
		return fault.OverQuota.New("delete evidence that nobody needs, or ask whoever runs the service for more", "case %s has %d bytes; with %d more it would have more than %d", c.Name, ofCase, bytes, a.Quotas.Case)
	case a.Quotas.Person > 0 && ofPerson+bytes > a.Quotas.Person:
		return fault.OverQuota.New("delete evidence that nobody needs, or ask whoever runs the service for more", "you have added %d bytes; with %d more it would be more than %d", ofPerson, bytes, a.Quotas.Person)
	}
	return nil
}
