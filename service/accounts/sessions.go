package accounts

import (
	"context"
	"fmt"
	"time"

	"github.com/alexedwards/scs/v2"

	"wraithology/service/store"
)

// Limits of a session: it ends this long after the sign-in, and this long after its last use.
const (
	longestSession = 12 * time.Hour
	longestIdle    = 4 * time.Hour
)

// sessions keeps sessions with the person that they belong to. It implements scs.Store.
type sessions struct {
	store *store.Store
	codec scs.Codec
}

// Find implements scs.Store.
func (s sessions) Find(token string) ([]byte, bool, error) { return s.store.FindSession(token) }

// Delete implements scs.Store.
func (s sessions) Delete(token string) error { return s.store.DeleteSession(token) }

// Commit implements scs.Store.
func (s sessions) Commit(token string, data []byte, expiry time.Time) error {
	_, values, err := s.codec.Decode(data)
	if err != nil {
		return fmt.Errorf("keep the session: %w", err)
	}
	x := store.Session{Token: token, Data: data, Expiry: expiry}
	if id, ok := values[sessionPerson].(int64); ok {
		x.PersonID = &id
	}
	return s.store.SaveSession(x)
}

type personKey struct{}

type scopeKey struct{}

const sessionPerson = "person"

// SignIn begins a browser's session.
func (a *Accounts) SignIn(ctx context.Context, p store.Person) error {
	if err := a.Sessions.RenewToken(ctx); err != nil {
		return fmt.Errorf("begin the session: %w", err)
	}
	a.Sessions.Put(ctx, sessionPerson, p.ID)
	return nil
}

// SignOut ends a browser's session.
func (a *Accounts) SignOut(ctx context.Context) error { return a.Sessions.Destroy(ctx) }
