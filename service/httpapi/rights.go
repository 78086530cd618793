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

// caseFor returns a case, without its members, if the person has a right in it. Cases of others look as if they did not
// exist.
func (a *server) caseFor(ctx context.Context, name string, right int) (store.Case, error) {
	c, _, err := a.caseAndPart(ctx, name, right)
	return c, err
}

// caseAndPart is caseFor with the person's part in the case.
func (a *server) caseAndPart(ctx context.Context, name string, right int) (store.Case, store.Member, error) {
	c, me, err := a.Store.CaseFor(ctx, name, who(ctx).ID)
	if err == nil && rights[me.Role] < right {
		err = fault.PermissionDenied.New("", "permission denied: your role in case %s is %s", name, me.Role)
	}
	return c, me, err
}

// caseWithMembers is caseFor with all members of the case.
func (a *server) caseWithMembers(ctx context.Context, name string, right int) (store.Case, error) {
	c, err := a.caseFor(ctx, name, right)
	if err != nil {
		return c, err
	}
	c.Members, err = a.Store.MembersOf(ctx, c.ID, "", 0)
	return c, err
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

// evidenceFor returns evidence of a case, with the case, if the person has a right in it.
func (a *server) evidenceFor(ctx context.Context, in EvidenceInput, right int) (c store.Case, e store.Evidence, err error) {
	if c, err = a.caseFor(ctx, in.Case, right); err != nil {
		return c, e, err
	}
	e, err = a.Store.EvidenceByName(ctx, c.ID, in.Evidence)
	return c, e, err
}

// recording opens evidence of a case that the person can read.
func (a *server) recording(ctx context.Context, caseName, name string) (replay.Recording, store.Evidence, error) {
	_, e, err := a.evidenceFor(ctx, EvidenceInput{caseName, name}, mayLook)
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
