package httpapi

import (
	"context"
	"fmt"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/service/accounts"
	"wraithology/service/store"
)

// who returns the signed-in person. The middleware guarantees that there is one.
func who(ctx context.Context) store.Person {
	p, _ := accounts.Who(ctx)
	return p
}

// Rights in a case, each including those before it.
const (
	mayLook = iota
	mayWork
	mayLead
)

var rights = map[string]int{api.RoleViewer: mayLook, api.RoleMember: mayWork, api.RoleLead: mayLead}

// caseFor returns a case if the person has a right in it. Cases of others look as if they did not
// exist.
func (a *server) caseFor(ctx context.Context, name string, right int) (store.Case, error) {
	c, err := a.Store.CaseByName(ctx, name)
	if err != nil {
		return c, err
	}
	m, ok := memberOf(c, who(ctx).ID)
	switch {
	case !ok:
		return store.Case{}, fmt.Errorf("case %s: %w", name, fault.NotFound)
	case rights[m.Role] < right:
		return c, fault.PermissionDenied.New("", "permission denied: your role in case %s is %s", name, m.Role)
	}
	return c, nil
}

// memberOf returns a person's part in a case, and whether the person has one.
func memberOf(c store.Case, person int64) (store.Member, bool) {
	for _, m := range c.Members {
		if m.PersonID == person {
			return m, true
		}
	}
	return store.Member{}, false
}

// caseBody is the input of an operation on a case that has a body.
type caseBody[T any] struct {
	CaseInput
	Body T
}

// note keeps in a case's record what the person did.
func (a *server) note(ctx context.Context, c store.Case, format string, args ...any) error {
	err := a.Store.Note(ctx, c.ID, who(ctx).ID, fmt.Sprintf(format, args...))
	a.live.Changed(c.ID)
	return err
}

// evidenceFor returns evidence of a case that the person can read, with the case.
func (a *server) evidenceFor(ctx context.Context, in EvidenceInput) (c store.Case, e store.Evidence, err error) {
	if c, err = a.caseFor(ctx, in.Case, mayLook); err != nil {
		return c, e, err
	}
	e, err = a.Store.EvidenceByName(ctx, c.ID, in.Evidence)
	return c, e, err
}

// recording opens evidence of a case that the person can read.
func (a *server) recording(ctx context.Context, caseName, name string) (replay.Recording, store.Evidence, error) {
	_, e, err := a.evidenceFor(ctx, EvidenceInput{caseName, name})
	switch {
	case err != nil:
		return nil, e, err
	case e.State == api.StateIndexing:
		return nil, e, fmt.Errorf("evidence %s: %w", name, fault.Indexing)
	case e.State == api.StateFailed:
		return nil, e, fault.Unreadable.New("", "%s", e.Trouble)
	}
	r, err := a.Recordings.Open(ctx, e, nil)
	return r, e, err
}
