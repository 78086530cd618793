package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"wraithology/core/fault"
)

// Person can sign in.
type Person struct {
	ID           int64
	Name         string
	PasswordHash string
	Mail         string `gorm:"->"` // address, empty for none; SetMail changes it
	Admin        bool
	// Origin is the identity of the service that the person came from with an imported case; such a person cannot sign in. It is empty for all
	// others.
	Origin     string
	DisabledAt *time.Time `gorm:"->"` // since when the person cannot sign in; nil if the person can
	RemovedAt  *time.Time `gorm:"->"` // when the account was removed: its name stays in records alone
	CreatedAt  time.Time
}

// MaySignIn reports whether the account is one of this service and in use.
func (p Person) MaySignIn() bool { return p.Origin == "" && p.DisabledAt == nil && p.RemovedAt == nil }

// Scopes of a token: what a program may do with it.
const (
	ScopeRead   = "read"
	ScopeWrite  = "write"
	ScopeIngest = "ingest" // add evidence and artifacts, and look at them
)

// Token is a secret with which programs act for a person. Only its SHA-256 is stored.
type Token struct {
	ID         int64
	PersonID   int64
	Label      string
	Scope      string
	SecretHash []byte
	CreatedAt  time.Time
	ExpiresAt  *time.Time // nil for never
	UsedAt     *time.Time // to the minute
}

// Session is the data of the session manager for a signed-in browser. Token is a hash.
type Session struct {
	ID        int64 `gorm:"->"`
	Token     string
	Data      []byte
	Expiry    time.Time
	PersonID  *int64 // nil before the sign-in
	CreatedAt time.Time
	UsedAt    time.Time
}

// AddPerson adds a person. The first one is an administrator. The error wraps fault.Exists if there is one with the name.
func (s *Store) AddPerson(ctx context.Context, p *Person) error {
	return s.Together(ctx, func(s *Store) error {
		if err := s.lockPeople(ctx); err != nil { // nobody else becomes the first meanwhile
			return err
		}
		var isThere bool
		if err := s.in(ctx).Raw("select exists (select from people where origin = '')").Scan(&isThere).Error; err != nil {
			return translate(err, "people")
		}
		if !isThere && p.Origin == "" {
			p.Admin = true
		}
		p.CreatedAt = time.Now()
		return translate(s.in(ctx).Create(p).Error, "person "+p.Name)
	})
}

// PersonByName finds a person.
func (s *Store) PersonByName(ctx context.Context, name string) (p Person, err error) {
	return p, translate(s.in(ctx).Where("name = ?", name).Take(&p).Error, "person "+name)
}

// PersonByID finds a person.
func (s *Store) PersonByID(ctx context.Context, id int64) (p Person, err error) {
	return p, translate(s.in(ctx).Take(&p, id).Error, "person")
}

// People lists everybody who can sign in, by name.
func (s *Store) People(ctx context.Context) (list []Person, err error) {
	return list, translate(s.in(ctx).Where("origin = '' and disabled_at is null and removed_at is null").Order("name").Find(&list).Error, "people")
}

// Accounts lists the accounts of this service, those that are disabled too, by name.
func (s *Store) Accounts(ctx context.Context) (list []Person, err error) {
	return list, translate(s.in(ctx).Where("origin = '' and removed_at is null").Order("name").Find(&list).Error, "people")
}

// SetPassword sets the hash of a person's password, and ends the person's sessions but one.
func (s *Store) SetPassword(ctx context.Context, person int64, hash, but string) error {
	return s.changeAccount(ctx, person, func(s *Store) error {
		if err := s.in(ctx).Exec("update people set password_hash = ? where id = ?", hash, person).Error; err != nil {
			return translate(err, "person")
		}
		return translate(s.in(ctx).Exec("delete from sessions where person_id = ? and token <> ?", person, but).Error, "person")
	})
}

// Grant makes a person an administrator, or takes that away. The error wraps fault.LastAdmin if there would be none.
func (s *Store) Grant(ctx context.Context, person int64, admin bool) error {
	return s.changeAccount(ctx, person, func(s *Store) error {
		return translate(s.in(ctx).Exec("update people set admin = ? where id = ?", admin, person).Error, "person")
	})
}

// Disable keeps a person from signing in, or allows it again. Sessions end at once, and so do tokens while the person is disabled. The error wraps
// fault.LastAdmin if there would be no administrator.
func (s *Store) Disable(ctx context.Context, person int64, isDisabled bool) error {
	return s.changeAccount(ctx, person, func(s *Store) error {
		if !isDisabled {
			return translate(s.in(ctx).Exec("update people set disabled_at = null where id = ?", person).Error, "person")
		}
		if err := s.in(ctx).Exec("update people set disabled_at = now() where id = ?", person).Error; err != nil {
			return translate(err, "person")
		}
		return translate(s.in(ctx).Exec("delete from sessions where person_id = ?", person).Error, "person")
	})
}

// RemovePerson removes an account with its sessions, tokens, senders and memberships. What the person did stays in the records, with the name; the name
// can be given again. The error wraps fault.LastAdmin, or fault.LastLead with the case that nobody else leads.
func (s *Store) RemovePerson(ctx context.Context, p Person) error {
	return s.changeAccount(ctx, p.ID, func(s *Store) error {
		var led []string
		err := s.in(ctx).Raw(`select c.name from members m join cases c on c.id = m.case_id where m.person_id = ? and m.role = 'lead'
			and not exists (select from members o where o.case_id = m.case_id and o.role = 'lead' and o.person_id <> m.person_id)
			and exists (select from members o where o.case_id = m.case_id and o.person_id <> m.person_id) order by c.name limit 10 for update of c`, p.ID).Scan(&led).Error
		if err != nil {
			return translate(err, "person")
		}
		if len(led) > 0 {
			return fault.LastLead.New("", "nobody else leads case %s, which has other members", led[0])
		}
		// Whoever adds cases to a team, or people to it, waits.
		if err := s.in(ctx).Exec("select from teams where id in (select team_id from team_members where person_id = ?) order by id for no key update", p.ID).Error; err != nil {
			return translate(err, "teams")
		}
		var team string
		err = s.in(ctx).Raw(`select t.name from team_members m join teams t on t.id = m.team_id where m.person_id = ? and m.role = 'lead'
			and not exists (select from team_members o where o.team_id = m.team_id and o.role = 'lead' and o.person_id <> m.person_id)
			and exists (select from team_members o where o.team_id = m.team_id and o.person_id <> m.person_id) order by t.name limit 1 for update of t`, p.ID).Scan(&team).Error
		if err != nil {
			return translate(err, "person")
		}
		if team != "" {
			return fault.LastLead.New("make somebody else lead it first: wraith team add "+team+" PERSON --role lead", "nobody else leads team %s, which has other members", team)
		}
		for _, statement := range []string{"delete from sessions where person_id = ?", "delete from tokens where person_id = ?", "delete from senders where person_id = ?", "delete from identities where person_id = ?", "delete from team_members where person_id = ?", "delete from members where person_id = ?",
			"delete from invitations where person_id = ?",
			"update people set removed_at = now(), password_hash = '', mail = '', admin = false, name = name || ' (left, ' || id || ')' where id = ?"} {
			if err := s.in(ctx).Exec(statement, p.ID).Error; err != nil {
				return translate(err, "person")
			}
		}
		return translate(s.in(ctx).Exec("delete from teams t where not exists (select from team_members m where m.team_id = t.id)").Error, "teams")
	})
}

// changeAccount changes an account, if there is an administrator afterwards who can sign in. Such changes wait for each other.
func (s *Store) changeAccount(ctx context.Context, person int64, change func(s *Store) error) error {
	return s.Together(ctx, func(s *Store) error {
		if err := s.lockPeople(ctx); err != nil {
			return err
		}
		var p Person
		if err := s.in(ctx).Where("removed_at is null").Take(&p, person).Error; err != nil {
			return translate(err, "person")
		}
		if err := change(s); err != nil {
			return err
		}
		var isThere bool
		if err := s.in(ctx).Raw("select exists (select from people where admin and origin = '' and disabled_at is null and removed_at is null)").Scan(&isThere).Error; err != nil || isThere || !p.Admin {
			return translate(err, "person")
		}
		return fault.LastAdmin
	})
}

// lockPeople lets others who change accounts wait until the end of the transaction.
func (s *Store) lockPeople(ctx context.Context) error {
	return translate(s.in(ctx).Exec("select pg_advisory_xact_lock(hashtext('people'))").Error, "people")
}

// PersonByIdentity finds the person whom an OpenID provider names.
func (s *Store) PersonByIdentity(ctx context.Context, issuer, subject string) (p Person, err error) {
	return p, translate(s.in(ctx).Raw("select p.* from people p join identities i on i.person_id = p.id where i.issuer = ? and i.subject = ?", issuer, subject).Take(&p).Error, "identity")
}

// Link says whom an OpenID provider names. The error wraps fault.Exists if it is somebody already.
func (s *Store) Link(ctx context.Context, person int64, issuer, subject string) error {
	return translate(s.in(ctx).Exec("insert into identities (issuer, subject, person_id) values (?, ?, ?)", issuer, subject, person).Error, "identity")
}

// AddToken keeps a token.
func (s *Store) AddToken(ctx context.Context, t *Token) error {
	t.CreatedAt = time.Now()
	return translate(s.in(ctx).Create(t).Error, "token")
}

// TokensOf lists the tokens of a person, oldest first.
func (s *Store) TokensOf(ctx context.Context, person int64) (list []Token, err error) {
	return list, translate(s.in(ctx).Where("person_id = ?", person).Order("id").Find(&list).Error, "tokens")
}

// DeleteToken deletes a token of a person.
func (s *Store) DeleteToken(ctx context.Context, person, id int64) error {
	return found(s.in(ctx).Where("person_id = ? and id = ?", person, id).Delete(&Token{}), fmt.Sprintf("token %d", id))
}

// PersonByToken returns the person with a token's hash, and the scope of the token. The error wraps fault.NotFound if the token has expired, or the
// person cannot sign in.
func (s *Store) PersonByToken(ctx context.Context, hash []byte) (p Person, scope string, err error) {
	var row struct {
		Person  `gorm:"embedded"`
		TokenID int64
		Scope   string
		IsUsed  bool // in the last minute
	}
	err = s.in(ctx).Raw(`select p.*, t.id as token_id, t.scope, t.used_at is not null and t.used_at > now() - interval '1 minute' as is_used from people p join tokens t on t.person_id = p.id
		where t.secret_hash = ? and (t.expires_at is null or t.expires_at > now())`, hash).Take(&row).Error
	if err != nil {
		return p, "", translate(err, "token")
	}
	if !row.MaySignIn() {
		return p, "", fmt.Errorf("token: %w", fault.NotFound)
	}
	if !row.IsUsed {
		if err := s.in(ctx).Exec("update tokens set used_at = now() where id = ?", row.TokenID).Error; err != nil {
			return p, "", translate(err, "token")
		}
	}
	return row.Person, row.Scope, nil
}

// SaveSession keeps a session.
func (s *Store) SaveSession(x Session) error {
	return translate(s.db.Exec(`insert into sessions (token, data, expiry, person_id) values (?, ?, ?, ?)
		on conflict (token) do update set data = excluded.data, expiry = excluded.expiry, person_id = excluded.person_id, used_at = now()`, x.Token, x.Data, x.Expiry, x.PersonID).Error, "session")
}

// FindSession finds the data of a session that has not expired.
func (s *Store) FindSession(token string) ([]byte, bool, error) {
	var x Session
	err := s.db.Where("token = ? and expiry > now()", token).Take(&x).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, false, nil
	}
	return x.Data, err == nil, translate(err, "session")
}

// DeleteSession ends a session.
func (s *Store) DeleteSession(token string) error {
	return translate(s.db.Where("token = ?", token).Delete(&Session{}).Error, "session")
}

// SessionsOf lists the sessions of a person, those that were used last first.
func (s *Store) SessionsOf(ctx context.Context, person int64) (list []Session, err error) {
	return list, translate(s.in(ctx).Where("person_id = ? and expiry > now()", person).Order("used_at desc, id desc").Find(&list).Error, "sessions")
}

// EndSessions ends the sessions of a person: one, or all if the ID is 0.
func (s *Store) EndSessions(ctx context.Context, person, id int64) error {
	if id == 0 {
		return translate(s.in(ctx).Exec("delete from sessions where person_id = ?", person).Error, "sessions")
	}
	return found(s.in(ctx).Exec("delete from sessions where person_id = ? and id = ?", person, id), fmt.Sprintf("session %d", id))
}

// DeleteExpired deletes sessions, tokens and invitations that have expired.
func (s *Store) DeleteExpired(ctx context.Context) error {
	if err := s.in(ctx).Exec("delete from invitations where expires_at < now() or places = 0").Error; err != nil {
		return translate(err, "invitations")
	}
	if err := s.in(ctx).Exec("delete from sessions where expiry < now()").Error; err != nil {
		return translate(err, "sessions")
	}
	return translate(s.in(ctx).Exec("delete from tokens where expires_at < now() - interval '30 days'").Error, "tokens")
}
