// Package accounts identifies people by password, session and token.
package accounts

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"github.com/alexedwards/scs/v2"
	"golang.org/x/sync/semaphore"

	"wraithology/core/fault"
	"wraithology/service/store"
)

// Accounts checks who somebody is.
type Accounts struct {
	Sessions *scs.SessionManager
	store    *store.Store
	hashing  *semaphore.Weighted
}

// New returns the accounts of a store. A session lasts twelve hours.
func New(s *store.Store) *Accounts {
	m := scs.New()
	m.Store = s
	m.Lifetime = 12 * time.Hour
	m.Cookie.Name = "wraith_session"
	m.Cookie.HttpOnly = true
	m.Cookie.SameSite = http.SameSiteLaxMode
	return &Accounts{Sessions: m, store: s, hashing: semaphore.NewWeighted(hashesAtOnce)}
}

// params of argon2id: memory and passes of the second recommended option of RFC 9106, section 4,
// with two lanes.
var params = &argon2id.Params{Memory: 64 << 10, Iterations: 3, Parallelism: 2, SaltLength: 16, KeyLength: 32}

// hashesAtOnce limits the memory of hashing; each hash uses that of params.
const hashesAtOnce = 4

// hashWait is the maximum time that a request waits to hash.
const hashWait = 5 * time.Second

// hashed calls do when fewer than hashesAtOnce hashes run. The error is fault.Busy if that takes
// too long.
func (a *Accounts) hashed(ctx context.Context, do func() error) error {
	waiting, cancel := context.WithTimeout(ctx, hashWait)
	defer cancel()
	if err := a.hashing.Acquire(waiting, 1); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fault.Busy
	}
	defer a.hashing.Release(1)
	return do()
}

// Add adds a person, or gives one a new password.
func (a *Accounts) Add(ctx context.Context, name, password string, admin bool) error {
	if name == "" || len(name) > 64 || strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.-") != "" {
		return fmt.Errorf("%q: %w", name, fault.InvalidName)
	}
	if utf8.RuneCountInString(password) < 8 {
		return fault.WeakPassword
	}
	var hash string
	err := a.hashed(ctx, func() (err error) {
		hash, err = argon2id.CreateHash(password, params)
		return err
	})
	if err != nil {
		return fmt.Errorf("hash the password: %w", err)
	}
	return a.store.AddPerson(ctx, &store.Person{Name: name, PasswordHash: hash, Admin: admin})
}

// unknownHash is compared for unknown names, so that the duration of an answer does not show which
// names exist.
var unknownHash, _ = argon2id.CreateHash(rand.Text(), params)

// Check returns the person with a name and password. Other errors than those of the database are
// fault.WrongPassword.
func (a *Accounts) Check(ctx context.Context, name, password string) (store.Person, error) {
	p, err := a.store.PersonByName(ctx, name)
	hash := p.PasswordHash
	if errors.Is(err, fault.NotFound) || err == nil && p.Origin != "" {
		hash, err = unknownHash, fault.NotFound // people of imported cases do not sign in
	} else if err != nil {
		return p, err
	}
	match := false
	compareErr := a.hashed(ctx, func() (err error) {
		match, err = argon2id.ComparePasswordAndHash(password, hash)
		return err
	})
	if compareErr != nil {
		return store.Person{}, fmt.Errorf("check the password: %w", compareErr)
	}
	if err != nil || !match {
		return store.Person{}, fault.WrongPassword
	}
	return p, nil
}

// NewToken creates a token for a person and returns its secret. Only the hash of the secret is
// stored.
func (a *Accounts) NewToken(ctx context.Context, person int64, label string) (string, error) {
	secret := "wraith-" + rand.Text() + rand.Text()
	hash := sha256.Sum256([]byte(secret))
	return secret, a.store.AddToken(ctx, &store.Token{PersonID: person, Label: label, SecretHash: hash[:]})
}

// NewSender creates a token that can send into a case and returns its secret. Only the hash of the
// secret is stored.
func (a *Accounts) NewSender(ctx context.Context, caseID, person int64, label string) (store.Sender, string, error) {
	secret := "wraith-send-" + rand.Text() + rand.Text()
	hash := sha256.Sum256([]byte(secret))
	x := store.Sender{CaseID: caseID, PersonID: person, Label: label, SecretHash: hash[:]}
	err := a.store.AddSender(ctx, &x)
	return x, secret, err
}

type personKey struct{}

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

// Who returns the person of a request.
func Who(ctx context.Context) (store.Person, bool) {
	p, ok := ctx.Value(personKey{}).(store.Person)
	return p, ok
}

// Middleware identifies the person of a request by token, else by session. It refuses nothing.
// Errors of the database go to failed.
func (a *Accounts) Middleware(failed func(http.ResponseWriter, *http.Request, error)) func(http.Handler) http.Handler {
	a.Sessions.ErrorFunc = failed
	return func(next http.Handler) http.Handler {
		return a.Sessions.LoadAndSave(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			p, err := a.identify(r)
			switch {
			case err == nil:
				r = r.WithContext(context.WithValue(r.Context(), personKey{}, p))
			case !errors.Is(err, fault.NotFound):
				failed(w, r, err)
				return
			}
			next.ServeHTTP(w, r)
		}))
	}
}

func (a *Accounts) identify(r *http.Request) (store.Person, error) {
	if secret, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		hash := sha256.Sum256([]byte(secret))
		return a.store.PersonByToken(r.Context(), hash[:])
	}
	id := a.Sessions.GetInt64(r.Context(), sessionPerson)
	if id == 0 {
		return store.Person{}, fault.NotFound
	}
	return a.store.PersonByID(r.Context(), id)
}
