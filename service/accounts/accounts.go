// Package accounts identifies people by password, session and token.
package accounts

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
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
	"wraithology/service/front"
	"wraithology/service/openid"
	"wraithology/service/store"
)

// Accounts checks who somebody is.
type Accounts struct {
	Sessions *scs.SessionManager
	store    *store.Store
	hashing  *semaphore.Weighted
	throttle throttle
	front    front.Front
}

// New returns the accounts of a store, of a service that is reached in some way. A session lasts twelve hours, and four without being used.
func New(s *store.Store, f front.Front) *Accounts {
	m := scs.New()
	m.Store = sessions{s, m.Codec}
	m.HashTokenInStore = true
	m.Lifetime = longestSession
	m.IdleTimeout = longestIdle
	m.Cookie.Name = "wraith_session"
	m.Cookie.HttpOnly = true
	m.Cookie.Secure = f.IsSecure()
	m.Cookie.SameSite = http.SameSiteLaxMode
	return &Accounts{Sessions: m, store: s, front: f, hashing: semaphore.NewWeighted(hashesAtOnce), throttle: throttle{names: map[string]*attempts{}, waiting: map[[2]string]int{}, turns: map[string]*turns{}}}
}

// params of argon2id: half the memory of the second recommended option of RFC 9106, section 4, and a pass more, with two lanes; the OWASP Password
// Storage Cheat Sheet asks for at least 19 MiB and two passes. Whoever sends many wrong passwords takes that memory for each hash under way. Hashes that
// were made with other parameters name them, and stay valid.
var params = &argon2id.Params{Memory: 32 << 10, Iterations: 4, Parallelism: 2, SaltLength: 16, KeyLength: 32}

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

// ByIdentity returns the person whom an OpenID provider names, with a new account if creates is set. Errors are fault.NotLinked if there is none,
// or another account of that name, and fault.Disabled.
func (a *Accounts) ByIdentity(ctx context.Context, id openid.Identity, creates bool) (p store.Person, err error) {
	p, err = a.store.PersonByIdentity(ctx, id.Issuer, id.Subject)
	if errors.Is(err, fault.NotFound) {
		if !creates {
			return p, fault.NotLinked.New("ask an administrator: wraithd person link NAME "+id.Issuer+" "+id.Subject, "nobody here is %s of %s", id.Subject, id.Issuer)
		}
		p, err = a.create(ctx, id)
	}
	if err == nil && !p.MaySignIn() {
		return store.Person{}, fault.Disabled
	}
	return p, err
}

func (a *Accounts) create(ctx context.Context, id openid.Identity) (p store.Person, err error) {
	if err := checkName(id.Name); err != nil {
		return p, fault.NotLinked.New("ask an administrator: wraithd person link NAME "+id.Issuer+" "+id.Subject, "%s gives %s no name that an account can have", id.Issuer, id.Subject)
	}
	p = store.Person{Name: id.Name}
	err = a.store.Together(ctx, func(s *store.Store) error {
		if err := s.AddPerson(ctx, &p); err != nil {
			return err
		}
		if err := s.Link(ctx, p.ID, id.Issuer, id.Subject); err != nil {
			return err
		}
		entry := fmt.Sprintf("accounts: %s came from %s as %s", p.Name, id.Issuer, id.Subject)
		return s.Note(ctx, store.OfService, p.ID, entry)
	})
	if errors.Is(err, fault.Exists) { // it can be somebody else of that name
		return p, fault.NotLinked.New("if it is yours, ask an administrator: wraithd person link "+id.Name+" "+id.Issuer+" "+id.Subject, "there is an account named %s already", id.Name)
	}
	return p, err
}

func checkName(name string) error {
	if name == "" || len(name) > 64 || strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.-") != "" {
		return fmt.Errorf("%q: %w", name, fault.InvalidName)
	}
	return nil
}

// Add adds a person. The first one is an administrator. The error wraps fault.Exists if there is one with the name.
func (a *Accounts) Add(ctx context.Context, name, password string, admin bool) error {
	p, err := a.NewPerson(ctx, name, password)
	if err != nil {
		return err
	}
	p.Admin = admin
	return a.store.AddPerson(ctx, &p)
}

// NewPerson returns a person who is still to be stored.
func (a *Accounts) NewPerson(ctx context.Context, name, password string) (store.Person, error) {
	if err := checkName(name); err != nil {
		return store.Person{}, err
	}
	hash, err := a.hash(ctx, password)
	return store.Person{Name: name, PasswordHash: hash}, err
}

func (a *Accounts) hash(ctx context.Context, password string) (hash string, err error) {
	if utf8.RuneCountInString(password) < 8 {
		return "", fault.WeakPassword
	}
	err = a.hashed(ctx, func() (err error) {
		hash, err = argon2id.CreateHash(password, params)
		return err
	})
	if err != nil {
		return "", fmt.Errorf("hash the password: %w", err)
	}
	return hash, nil
}

// SetPassword gives a person a new password, and ends the person's sessions; that of the request stays.
func (a *Accounts) SetPassword(ctx context.Context, person int64, password string) error {
	hash, err := a.hash(ctx, password)
	if err != nil {
		return err
	}
	return a.store.SetPassword(ctx, person, hash, a.session(ctx))
}

// session is the hash of the token of a request's session, empty if there is none.
func (a *Accounts) session(ctx context.Context) string {
	if ctx.Value(inSession{}) == nil {
		return ""
	}
	sum := sha256.Sum256([]byte(a.Sessions.Token(ctx)))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// unknownHash is compared for unknown names, so that the duration of an answer does not show which
// names exist.
var unknownHash, _ = argon2id.CreateHash(rand.Text(), params)

// Check returns the person with a name and password. The address is that of who asks. After some wrong passwords for a name every attempt is slow. Other
// errors than those of the database are fault.WrongPassword, fault.Disabled with the right password, fault.TooMany and fault.Busy.
func (a *Accounts) Check(ctx context.Context, name, password, address string) (p store.Person, err error) {
	leave, err := a.throttle.enter(ctx, name, address)
	if err != nil {
		return p, err
	}
	defer func() { leave(errors.Is(err, fault.WrongPassword)) }()
	p, err = a.store.PersonByName(ctx, name)
	hash := p.PasswordHash
	if errors.Is(err, fault.NotFound) || err == nil && (p.Origin != "" || p.RemovedAt != nil) {
		hash, err = unknownHash, fault.NotFound // people of imported cases do not sign in
	} else if err != nil {
		return p, err
	}
	if hash == "" { // an account without a password
		hash, err = unknownHash, fault.NotFound
	}
	end, turnErr := a.throttle.turn(ctx, address)
	if turnErr != nil {
		return store.Person{}, turnErr
	}
	defer end()
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
	if !p.MaySignIn() {
		return store.Person{}, fault.Disabled
	}
	return p, nil
}

// NewToken creates a token, which permits what its scope says until it expires, and returns its secret. Only the hash of the secret is stored.
func (a *Accounts) NewToken(ctx context.Context, t *store.Token) (string, error) {
	secret := "wraith-" + rand.Text() + rand.Text()
	hash := sha256.Sum256([]byte(secret))
	t.SecretHash = hash[:]
	return secret, a.store.AddToken(ctx, t)
}

// NewSender makes a token that can send into a case, which is still to be stored, and its secret. Only the hash of the
// secret is in it.
func NewSender(caseID, person int64, label string) (x store.Sender, secret string) {
	secret = "wraith-send-" + rand.Text() + rand.Text()
	hash := sha256.Sum256([]byte(secret))
	return store.Sender{CaseID: caseID, PersonID: person, Label: label, SecretHash: hash[:]}, secret
}

// NewInvitation makes the secret of an invitation, and its hash, which alone is stored.
func NewInvitation() (secret string, hash []byte) {
	secret = rand.Text() + rand.Text()
	return secret, InvitationHash(secret)
}

// InvitationHash is what is stored of the secret of an invitation.
func InvitationHash(secret string) []byte {
	hash := sha256.Sum256([]byte(secret))
	return hash[:]
}

// Who returns the person of a request.
func Who(ctx context.Context) (store.Person, bool) {
	p, ok := ctx.Value(personKey{}).(store.Person)
	return p, ok
}

// Scope returns what the token of a request permits; store.ScopeWrite for a browser's session.
func Scope(ctx context.Context) string {
	if scope, ok := ctx.Value(scopeKey{}).(string); ok {
		return scope
	}
	return store.ScopeWrite
}

// Address returns the address from which a request came, without the port.
func Address(ctx context.Context) string {
	address, _ := ctx.Value(addressKey{}).(string)
	return address
}

// keptAttempt is what a browser keeps while its person is with an OpenID provider.
const keptAttempt = "openid"

// KeepAttempt keeps an attempt to sign in in the browser's session.
func (a *Accounts) KeepAttempt(ctx context.Context, x openid.Attempt) error {
	text, err := json.Marshal(x)
	if err != nil {
		return fmt.Errorf("keep the sign-in: %w", err)
	}
	a.Sessions.Put(ctx, keptAttempt, string(text))
	return nil
}

// TakeAttempt returns the attempt that the browser's session keeps, once; an empty one if there is none.
func (a *Accounts) TakeAttempt(ctx context.Context) (x openid.Attempt) {
	_ = json.Unmarshal([]byte(a.Sessions.PopString(ctx, keptAttempt)), &x) // without one it stays empty
	return x
}

// IsBrowser reports whether a request has a browser's session, and no token.
func IsBrowser(ctx context.Context) bool { return ctx.Value(browserKey{}) != nil }

type browserKey struct{}

type addressKey struct{}

// inSession marks a request that may have a session.
type inSession struct{}

// Middleware identifies the person of a request by token, else by session. It refuses nothing.
// Errors of the database go to failed.
func (a *Accounts) Middleware(failed func(http.ResponseWriter, *http.Request, error)) func(http.Handler) http.Handler {
	a.Sessions.ErrorFunc = failed
	return func(next http.Handler) http.Handler {
		return a.Sessions.LoadAndSave(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			p, scope, err := a.identify(r)
			r = r.WithContext(context.WithValue(context.WithValue(r.Context(), addressKey{}, a.front.Client(r)), inSession{}, true))
			switch {
			case err == nil:
				if r.Header.Get("Authorization") == "" {
					r = r.WithContext(context.WithValue(r.Context(), browserKey{}, true))
				}
				r = r.WithContext(context.WithValue(context.WithValue(r.Context(), personKey{}, p), scopeKey{}, scope))
			case !errors.Is(err, fault.NotFound):
				failed(w, r, err)
				return
			}
			next.ServeHTTP(w, r)
		}))
	}
}

func (a *Accounts) identify(r *http.Request) (store.Person, string, error) {
	if secret, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		hash := sha256.Sum256([]byte(secret))
		return a.store.PersonByToken(r.Context(), hash[:])
	}
	id := a.Sessions.GetInt64(r.Context(), sessionPerson)
	if id == 0 {
		return store.Person{}, "", fault.NotFound
	}
	p, err := a.store.PersonByID(r.Context(), id)
	if err == nil && !p.MaySignIn() {
		return store.Person{}, "", fault.NotFound
	}
	return p, store.ScopeWrite, err
}
