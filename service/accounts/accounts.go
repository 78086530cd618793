// Package accounts knows people by password, by session and by token.
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

// New returns the accounts of a store. A session ends after twelve hours.
func New(s *store.Store) *Accounts {
	m := scs.New()
	m.Store = s
	m.Lifetime = 12 * time.Hour
	m.Cookie.Name = "wraith_session"
	m.Cookie.HttpOnly = true
	m.Cookie.SameSite = http.SameSiteLaxMode
	return &Accounts{Sessions: m, store: s, hashing: semaphore.NewWeighted(hashesAtOnce)}
}

// params of argon2id: the memory and passes of the second recommended option of
// RFC 9106, section 4, on two lanes, as many as the smallest machines have cores.
var params = &argon2id.Params{Memory: 64 << 10, Iterations: 3, Parallelism: 2, SaltLength: 16, KeyLength: 32}

// hashesAtOnce limits the memory of hashing: each takes that of params.
const hashesAtOnce = 4

// hashWait is how long a request waits for its turn to hash.
const hashWait = 5 * time.Second

// hashed does something with a hash when it is its turn. The error is fault.Busy where
// that takes too long.
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

// unknownHash is compared with if there is no such person, so that the time of an answer does not
// tell who exists.
var unknownHash, _ = argon2id.CreateHash(rand.Text(), params)

// Check returns the person with a name and password.
func (a *Accounts) Check(ctx context.Context, name, password string) (store.Person, error) {
	p, err := a.store.PersonByName(ctx, name)
	hash := p.PasswordHash
	if errors.Is(err, fault.NotFound) {
		hash = unknownHash
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

// NewToken makes a token for a person and returns its secret, which is not kept.
func (a *Accounts) NewToken(ctx context.Context, person int64, label string) (string, error) {
	secret := "wraith-" + rand.Text() + rand.Text()
	hash := sha256.Sum256([]byte(secret))
	return secret, a.store.AddToken(ctx, &store.Token{PersonID: person, Label: label, SecretHash: hash[:]})
}

// NewSender makes a token that may send into a case, and returns its secret, which
// is not kept.
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

// Who returns the person that a request comes from.
func Who(ctx context.Context) (store.Person, bool) {
	p, ok := ctx.Value(personKey{}).(store.Person)
	return p, ok
}

// Middleware finds out who a request comes from: by its token, else by its
// session. It refuses nothing; a database that is down goes to failed.
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
