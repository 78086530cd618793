package custody

import (
	"context"
	"fmt"

	"wraithology/core/custody"
	"wraithology/core/fault"
	"wraithology/service/store"
)

// Found is what Verify has looked at: the records and entries that are whole.
type Found struct{ Records, Entries int64 }

// Verify checks that all records of a service are whole, and end where they have ended when they were signed, or later. A record that was signed and is
// gone is in the service's own record, with how it ended. It returns each trouble to told, and an error if it cannot go on.
func (b *Book) Verify(ctx context.Context, s *store.Store, told func(error)) (found Found, err error) {
	records, err := s.Records(ctx)
	if err != nil {
		return found, err
	}
	signed := map[int64]custody.Head{}
	b.mu.Lock()
	for id, h := range b.latest {
		signed[id] = h
	}
	b.mu.Unlock()
	gone := map[int64]int64{} // the last number of each record that was deleted for good
	for _, id := range records {
		chain := custody.Chain{Record: id, Signed: map[int64]custody.Head{}}
		if h, ok := signed[id]; ok {
			chain.Signed[h.Number] = h
			delete(signed, id)
		}
		var trouble error
		for e, err := range s.AllCustody(ctx, id) {
			if err != nil {
				return found, err
			}
			if trouble = chain.Add(e); trouble != nil {
				break
			}
			found.Entries++
			if record, number, ok := store.PurgedRecord(e.What); ok && id == store.OfService {
				gone[record] = number
			}
		}
		if trouble == nil {
			trouble = chain.End()
		}
		if trouble != nil {
			told(fmt.Errorf("%s: %w", s.NameOfRecord(ctx, id), trouble))
			continue
		}
		found.Records++
	}
	for id, h := range signed {
		if number, ok := gone[id]; !ok || number < h.Number {
			told(fault.InvalidCustody.New("", "record %d with %d entries was removed", id, h.Number))
		}
	}
	return found, nil
}
