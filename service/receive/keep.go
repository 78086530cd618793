package receive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/mapped"
	"wraithology/service/jobs"
	"wraithology/service/store"
	"wraithology/service/vault"
)

// Vaulted stores received data in the vault and has it indexed.
type Vaulted struct {
	Store *store.Store
	Vault *vault.Vault
	Jobs  *jobs.Jobs
}

// Keep implements Keeper.
func (v Vaulted) Keep(ctx context.Context, caseID, personID int64, name string, read func(yield func([]byte) error) error) error {
	if _, err := v.Store.EvidenceByName(ctx, caseID, name); err == nil {
		return nil // it was stored before a power failure, but the spool file remained
	}
	r, w := io.Pipe()
	go func() {
		w.CloseWithError(read(func(b []byte) error {
			_, err := w.Write(b)
			return err
		}))
	}()
	kept, err := v.Vault.Put(ctx, r)
	_ = r.Close() // it lets the writer go
	if err != nil || kept.Bytes == 0 {
		return err
	}
	e := store.Evidence{CaseID: caseID, Name: name, Bytes: kept.Bytes, SHA256: kept.SHA256, PersonID: personID, State: api.StateIndexing, Started: time.Unix(0, 0).UTC()}
	err = v.Store.Together(ctx, func(s *store.Store) error {
		if err := s.AddEvidence(ctx, &e); err != nil {
			return err
		}
		if err := v.Jobs.In(s).Index(ctx, e); err != nil {
			return err
		}
		return s.Note(ctx, caseID, personID, fmt.Sprintf("received %s, %d bytes, sha256 %s", name, kept.Bytes, kept.SHA256))
	})
	if errors.Is(err, fault.Exists) {
		return nil
	}
	return err
}

// Requests implements Keeper.
func (v Vaulted) Requests(ctx context.Context, caseID int64, name string, use func([]byte) error) error {
	e, err := v.Store.EvidenceByName(ctx, caseID, name)
	if err != nil {
		return err
	}
	f, err := os.Open(v.Vault.Path(e.SHA256))
	if err != nil {
		return fmt.Errorf("read the evidence %s: %w", name, err)
	}
	defer f.Close()
	b, err := mapped.File(f, f)
	if err != nil {
		return fmt.Errorf("read the evidence %s: %w", name, err)
	}
	return guard.Do(func() error { return use(b) })
}
