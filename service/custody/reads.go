package custody

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"wraithology/service/store"
)

// read is what somebody read in a minute.
type read struct {
	person   int64
	caseID   int64
	evidence string // empty for the case as a whole
	question string
	minute   time.Time
}

// Reads gathers who read what: one entry for each person, evidence, question and minute.
type Reads struct {
	mu    sync.Mutex
	count map[read]int64
	lost  int64
	full  chan struct{} // receives when there are many
}

const (
	manyReads = 20_000 // that are written before their minute is over
	mostReads = 100_000
)

// NewReads returns reads of nothing.
func NewReads() *Reads { return &Reads{count: map[read]int64{}, full: make(chan struct{}, 1)} }

// Add notes that a person has read something now.
func (r *Reads) Add(person, caseID int64, evidence, question string) {
	at := read{person, caseID, evidence, question, time.Now().UTC().Truncate(time.Minute)}
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, has := r.count[at]; !has && len(r.count) >= mostReads { // the database has been away for long
		r.lost++
		return
	}
	r.count[at]++
	if len(r.count) == manyReads {
		select {
		case r.full <- struct{}{}:
		default:
		}
	}
}

// take takes out what was read before a time.
func (r *Reads) take(before time.Time) (out map[read]int64, lost int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	out = map[read]int64{}
	for at, n := range r.count {
		if at.minute.Before(before) {
			out[at] = n
			delete(r.count, at)
		}
	}
	lost, r.lost = r.lost, 0
	return out, lost
}

// back brings back what could not be written.
func (r *Reads) back(list map[read]int64, lost int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for at, n := range list {
		r.count[at] += n
	}
	r.lost += lost
}

// Write writes what was read before a time into the records.
func (r *Reads) Write(ctx context.Context, s *store.Store, before time.Time) error {
	list, lost := r.take(before)
	byCase := map[int64][]store.Custody{}
	keys := map[int64]map[read]int64{}
	for at, n := range list {
		what := "read " + at.question
		if at.evidence != "" {
			what += " of " + at.evidence
		}
		if n > 1 {
			what += fmt.Sprintf(", %d times", n)
		}
		byCase[at.caseID] = append(byCase[at.caseID], store.Custody{PersonID: at.person, At: at.minute, What: what, IsRead: true})
		if keys[at.caseID] == nil {
			keys[at.caseID] = map[read]int64{}
		}
		keys[at.caseID][at] = n
	}
	var failed error
	for id, entries := range byCase {
		slices.SortFunc(entries, func(x, y store.Custody) int {
			return cmp.Or(x.At.Compare(y.At), cmp.Compare(x.PersonID, y.PersonID), cmp.Compare(x.What, y.What))
		})
		if err := s.AddReads(ctx, id, entries); err != nil {
			r.back(keys[id], 0)
			failed = err
		}
	}
	if lost > 0 {
		entry := store.Custody{At: time.Now(), What: fmt.Sprintf("the database was away: who read %d answers was not recorded", lost)}
		if err := s.AddCustody(ctx, store.OfService, []store.Custody{entry}); err != nil {
			r.back(nil, lost)
			failed = err
		}
	}
	return failed
}

// every is the time between two rounds of writing and signing.
const every = 5 * time.Second

// Run writes what was read, when its minute is over, and signs records that have changed, until the context ends; then it does both once more.
func (b *Book) Run(ctx context.Context, s *store.Store, r *Reads, log *slog.Logger) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for isLast := false; !isLast; {
		before := time.Now().UTC().Truncate(time.Minute)
		select {
		case <-tick.C:
		case <-r.full:
			before = time.Now().Add(time.Minute)
		case <-ctx.Done():
			isLast, before = true, time.Now().Add(time.Minute)
		}
		round, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		if err := b.round(round, s, r, before); err != nil {
			log.WarnContext(ctx, "the records could not be signed; that is tried again", "error", err)
		}
		cancel()
	}
}

func (b *Book) round(ctx context.Context, s *store.Store, r *Reads, before time.Time) error {
	if err := r.Write(ctx, s, before); err != nil {
		return err
	}
	for more := true; more; {
		var err error
		if more, err = s.SignDue(ctx, b.Sign); err != nil {
			return err
		}
	}
	return nil
}
