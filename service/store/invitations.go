package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"wraithology/core/fault"
)

// Invitation lets whoever has its secret join a case or a team. Only the SHA-256 of the secret is stored.
type Invitation struct {
	ID            int64
	SecretHash    []byte
	CaseID        *int64 // nil for one to a team
	Case          *Case  // without its members
	TeamID        *int64 // nil for one to a case
	Team          *Team
	PersonID      int64 // who invites
	Person        Person
	Role          string
	Unmasks       bool
	MakesAccounts bool // whoever has no account may make one
	Places        int  // how many people may still use it
	CreatedAt     time.Time
	ExpiresAt     time.Time
}

// Group is a case or a team, that people are in.
type Group struct {
	CaseID, TeamID int64 // one of them is 0
}

// AddInvitation keeps an invitation.
func (s *Store) AddInvitation(ctx context.Context, x *Invitation) error {
	x.CreatedAt = time.Now()
	return translate(s.in(ctx).Omit("Person", "Case", "Team").Create(x).Error, "invitation")
}

// InvitationsTo lists the invitations to a group that still work, oldest first.
func (s *Store) InvitationsTo(ctx context.Context, to Group) (list []Invitation, err error) {
	return list, translate(s.in(ctx).Preload("Person").Where("coalesce(case_id, 0) = ? and coalesce(team_id, 0) = ? and places > 0 and expires_at > now()", to.CaseID, to.TeamID).Order("id").Find(&list).Error, "invitations")
}

// DeleteInvitation withdraws an invitation to a group.
func (s *Store) DeleteInvitation(ctx context.Context, to Group, id int64) error {
	return found(s.in(ctx).Where("coalesce(case_id, 0) = ? and coalesce(team_id, 0) = ? and id = ?", to.CaseID, to.TeamID, id).Delete(&Invitation{}), fmt.Sprintf("invitation %d", id))
}

// InvitationBy finds the invitation with a secret's hash. The error is fault.NoInvitation if it does not work any more: also if who invites could not
// add people now.
func (s *Store) InvitationBy(ctx context.Context, hash []byte) (x Invitation, err error) {
	err = s.in(ctx).Joins("Person").Preload("Case").Preload("Team").Where("secret_hash = ? and places > 0 and expires_at > now()", hash).Take(&x).Error
	switch err := translate(err, "invitation"); {
	case errors.Is(err, fault.NotFound):
		return x, fault.NoInvitation
	case err != nil:
		return x, err
	}
	role, err := s.roleIn(ctx, x)
	if err == nil && (role != "lead" || !x.Person.MaySignIn()) {
		err = fault.NoInvitation
	}
	return x, err
}

// roleIn returns the role of who invites in the group; empty if there is none any more, or the case is deleted.
func (s *Store) roleIn(ctx context.Context, x Invitation) (role string, err error) {
	if x.TeamID != nil {
		return role, translate(s.in(ctx).Raw("select role from team_members where team_id = ? and person_id = ?", *x.TeamID, x.PersonID).Scan(&role).Error, "invitation")
	}
	return role, translate(s.in(ctx).Raw("select role from members where case_id = ? and person_id = ? and not gone", *x.CaseID, x.PersonID).Scan(&role).Error, "invitation")
}

// UseInvitation takes a place of an invitation. The error is fault.NoInvitation if there is none left.
func (s *Store) UseInvitation(ctx context.Context, id int64) error {
	if err := found(s.in(ctx).Exec("update invitations set places = places - 1 where id = ? and places > 0 and expires_at > now()", id), "invitation"); errors.Is(err, fault.NotFound) {
		return fault.NoInvitation
	} else if err != nil {
		return err
	}
	return nil
}

// TeamByID finds a team.
func (s *Store) TeamByID(ctx context.Context, id int64) (t Team, err error) {
	return t, translate(s.in(ctx).Take(&t, id).Error, "team")
}
