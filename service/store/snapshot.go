package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Snapshot calls do with a store that sees everything as it is now, whatever others change meanwhile, and that cannot be written to.
func (s *Store) Snapshot(ctx context.Context, do func(*Store) error) error {
	return s.in(ctx).Transaction(func(tx *gorm.DB) error { return do(&Store{Pool: s.Pool, db: tx}) }, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
}

// Together calls do with a store of which all changes are made together, or none.
func (s *Store) Together(ctx context.Context, do func(*Store) error) error {
	return s.in(ctx).Transaction(func(tx *gorm.DB) error { return do(&Store{Pool: s.Pool, db: tx}) })
}

// Tx returns the transaction of a store that Together has given; nil outside of one.
func (s *Store) Tx() *sql.Tx {
	tx, _ := s.db.Statement.ConnPool.(*sql.Tx)
	return tx
}

// batch is the number of records that are inserted at once.
const batch = 500

// Restore adds records as they are, and sets their IDs. Records that they refer to must exist.
func Restore[T any](ctx context.Context, s *Store, list []T, what string) error {
	if len(list) == 0 {
		return nil
	}
	return translate(s.in(ctx).Omit(clause.Associations).CreateInBatches(&list, batch).Error, what)
}

// RestoreMember adds a member whose part in the case is over: all is seen, and nothing is mailed.
func (s *Store) RestoreMember(ctx context.Context, m Member) error {
	return translate(s.in(ctx).Exec("insert into members (case_id, person_id, role, own_role, mailed) values (?, ?, ?, ?, false)", m.CaseID, m.PersonID, m.Role, m.Role).Error, "member")
}

// IsInvalid reports whether the database has refused what was to be stored: a value out of range, or one that does not fit to the others
// (PostgreSQL's documentation, appendix A, classes 22 and 23).
func IsInvalid(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (strings.HasPrefix(pg.Code, "22") || strings.HasPrefix(pg.Code, "23"))
}

// Identity returns a random name of the service, which never changes.
func (s *Store) Identity(ctx context.Context) (id string, err error) {
	err = s.in(ctx).Raw(`with made as (insert into service_identity (id) select ? where not exists (select from service_identity) returning id)
		select id from made union all select id from service_identity limit 1`, strings.ToLower(rand.Text())).Scan(&id).Error
	return id, translate(err, "identity of the service")
}

// Foreigner returns the person of another service with a name; such a person cannot sign in. Origin is the identity of that service.
func (s *Store) Foreigner(ctx context.Context, name, origin string) (p Person, err error) {
	err = s.in(ctx).Exec("insert into people (name, password_hash, created_at, origin) values (?, '', ?, ?) on conflict (name) do nothing", name, time.Now(), origin).Error
	if err != nil {
		return p, translate(err, "person")
	}
	if p, err = s.PersonByName(ctx, name); err == nil && p.Origin != origin {
		err = fmt.Errorf("person %s is not from the service of the archive", name)
	}
	return p, err
}

// SetNumbers sets the last numbers of what people keep on a case from what there is.
func (s *Store) SetNumbers(ctx context.Context, caseID int64) error {
	return translate(s.in(ctx).Exec(`update cases c set last_exhibit = (select coalesce(max(number), 0) from exhibits where case_id = c.id),
		last_comment = (select coalesce(max(number), 0) from comments where case_id = c.id),
		last_theory = (select coalesce(max(number), 0) from theories where case_id = c.id) where c.id = ?`, caseID).Error, "case")
}

// SetOpened sets when a case was opened.
func (s *Store) SetOpened(ctx context.Context, caseID int64, at time.Time) error {
	return translate(s.in(ctx).Exec("update cases set created_at = ? where id = ?", at, caseID).Error, "case")
}

// SetParent makes a comment the answer to another one.
func (s *Store) SetParent(ctx context.Context, comment, parent int64) error {
	return translate(s.in(ctx).Exec("update comments set parent_id = ? where id = ?", parent, comment).Error, "comment")
}
