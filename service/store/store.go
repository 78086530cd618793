// Package store keeps the service's records in PostgreSQL: people, cases, evidence, checkpoints,
// sittings and custody. Callers check permissions.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"time"

	"wraithology/core/fault"
	"wraithology/core/mask"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Case is one investigation.
type Case struct {
	ID        int64
	Name      string
	Title     string
	CreatedAt time.Time
	ClosedAt  *time.Time // nil while it is open
	Cause     string
	CloserID  *int64
	Closer    *Person
	Mask      mask.Rules `gorm:"->;serializer:json"` // SetMask changes it
	Members   []Member   `gorm:"foreignKey:CaseID"`
}

// Member is a person's part in a case.
type Member struct {
	CaseID   int64 `gorm:"primaryKey"`
	PersonID int64 `gorm:"primaryKey"`
	Role     string
	Seen     int64 `gorm:"->"` // the last entry of the record that the person has seen; SeeActivity changes it
	Mailed   bool  `gorm:"->"` // whether the person is mailed what happens in the case; MailMember changes it
	Unmasks  bool  // whether the person may see what is masked
	// OwnRole and OwnUnmasks are what the person was given in the case; Role and Unmasks are the most of that and of what the person has by teams. OwnRole
	// is nil for who is in the case by teams alone.
	OwnRole    *string
	OwnUnmasks bool
	// Called is the name by which the person calls the case: that of the case, or one with a number after it.
	Called string `gorm:"->"`
	Person Person
}

// Evidence is one immutable file of a case. Its bytes are in the vault.
type Evidence struct {
	ID         int64
	CaseID     int64
	Name       string
	Kind       string
	Bytes      int64
	SHA256     string `gorm:"column:sha256"`
	UploadedAt time.Time
	PersonID   int64
	Person     Person
	State      string
	Progress   float64
	Trouble    string
	Program    string
	BuildID    string
	Host       string
	Started    time.Time
	DurationNs int64
	Moments    int64
	Outcome    string
	Gaps       int
	// Fingerprint is that of the failure, empty without one. ClockOffsetNs is how far the
	// evidence's clock is behind that of the case.
	Fingerprint   string
	ClockOffsetNs int64
	// ReadAs is the kind that was given for the evidence, empty if it is detected. Fields are the
	// meanings of a log's fields.
	ReadAs string
	Fields map[string]string `gorm:"serializer:json"`
	// Asked is how often the evidence was to be indexed again; IndexAgain increases it.
	Asked int64 `gorm:"->"`
	// IsImported is set for evidence that came with an imported case, of which nobody is told.
	IsImported bool
}

// TableName names the table for GORM.
func (Evidence) TableName() string { return "evidence" }

// Checkpoint is a checkpoint of a case.
type Checkpoint struct {
	ID       int64
	CaseID   int64
	File     string
	Line     int
	Text     string
	Kind     string // what it is on, as replay names it
	Function string // for enter and return
	// A checkpoint on writes belongs to one recording: About is a path that is reached at a moment,
	// on a thread, from a frame.
	Evidence  string
	Moment    int64
	Frame     int
	About     string // text that an error or output must contain
	Condition string
	Nth       string
	Thread    uint32
	Listing   bool     // replay does not halt at it
	Show      []string `gorm:"serializer:json"` // expressions that are shown at each hit
	Enabled   bool
	IsPrivate bool  // only its person sees it, and halts at it
	Version   int64 // increases with every change
	PersonID  int64
	Person    Person
	CreatedAt time.Time
}

// Store is an open connection pool.
type Store struct {
	Pool *pgxpool.Pool
	db   *gorm.DB
}

// Open connects to the database and migrates its tables. Statements are logged at debug level.
func Open(ctx context.Context, url string, log *slog.Logger) (*Store, error) {
	pool, err := pgxpool.New(ctx, url)
	if err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	s := &Store{Pool: pool}
	if err := s.migrate(ctx); err != nil {
		pool.Close()
		return nil, err
	}
	s.db, err = gorm.Open(postgres.New(postgres.Config{Conn: stdlib.OpenDBFromPool(pool)}), &gorm.Config{Logger: debugLog{log}, TranslateError: true})
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("open the database: %w", err)
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	provider, done, err := s.migrations()
	if err != nil {
		return err
	}
	defer done()
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrate the database: %w", err)
	}
	return nil
}

// migrations returns what migrates the database. Two processes that start at once do not migrate at once.
func (s *Store) migrations() (provider *goose.Provider, done func(), err error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, nil, fmt.Errorf("read the migrations: %w", err)
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return nil, nil, fmt.Errorf("lock the migrations: %w", err)
	}
	db := stdlib.OpenDBFromPool(s.Pool)
	provider, err = goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker))
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("read the migrations: %w", err), db.Close())
	}
	return provider, func() { _ = db.Close() }, nil // its connections are the pool's
}

// Close closes the connections.
func (s *Store) Close() { s.Pool.Close() }

// ServerVersion returns the major version of the PostgreSQL server.
func (s *Store) ServerVersion(ctx context.Context) (version string, err error) {
	return version, translate(s.in(ctx).Raw("select (current_setting('server_version_num')::integer / 10000)::text").Scan(&version).Error, "version of the database")
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.Pool.Ping(ctx) }

func (s *Store) in(ctx context.Context) *gorm.DB { return s.db.WithContext(ctx) }

// translate converts errors of the database library to kinds of fault; what names the record.
func translate(err error, what string) error {
	var pg *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrForeignKeyViolated), errors.As(err, &pg) && pg.Code == "23503":
		return goneError{what, err}
	case errors.Is(err, gorm.ErrRecordNotFound):
		return fmt.Errorf("%s: %w", what, fault.NotFound)
	case errors.Is(err, gorm.ErrDuplicatedKey), errors.As(err, &pg) && pg.Code == "23505":
		return fmt.Errorf("%s: %w", what, fault.Exists)
	}
	return fmt.Errorf("%s: %w", what, err)
}

// goneError says that what a record belongs to is gone: somebody has removed it meanwhile.
type goneError struct {
	what string
	err  error // of the database
}

// Error implements error.
func (g goneError) Error() string { return "what " + g.what + " belongs to: not found" }

// Unwrap makes it a fault.NotFound.
func (g goneError) Unwrap() []error { return []error{fault.NotFound, g.err} }

// AddCase opens a case that a person leads. The error wraps fault.Exists if the person calls another case so.
func (s *Store) AddCase(ctx context.Context, c *Case, leader int64) error {
	c.CreatedAt = time.Now()
	return s.in(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Omit("Members", "Closer").Create(c).Error; err != nil {
			return translate(err, "case "+c.Name)
		}
		// The name is taken if the person calls another case so; the cases of others do not matter.
		return translate(tx.Exec("insert into members (case_id, person_id, role, unmasks, own_role, own_unmasks, called) values (?, ?, 'lead', true, 'lead', true, ?)", c.ID, leader, c.Name).Error, "case "+c.Name)
	})
}

// HasCase returns fault.NotFound if there is no case with an ID.
func (s *Store) HasCase(ctx context.Context, id int64) error {
	return translate(s.in(ctx).Select("id").Take(&Case{}, id).Error, fmt.Sprintf("case %d", id))
}

// AddEvidence adds evidence, which is to be indexed.
func (s *Store) AddEvidence(ctx context.Context, e *Evidence) error {
	e.UploadedAt = time.Now()
	return translate(s.in(ctx).Omit("Person").Create(e).Error, "evidence "+e.Name)
}

// SaveIndexed saves what indexing found, and nothing else of the evidence. It does nothing if the evidence was deleted, or is to be indexed again since
// e was read; isLatest reports whether it did something.
func (s *Store) SaveIndexed(ctx context.Context, e Evidence) (isLatest bool, err error) {
	done := s.in(ctx).Model(&Evidence{}).Where("id = ? and asked = ?", e.ID, e.Asked).
		Select("State", "Progress", "Trouble", "Kind", "Program", "BuildID", "Host", "Started", "DurationNs", "Moments", "Outcome", "Gaps", "Fingerprint").Updates(&e)
	return done.RowsAffected > 0, translate(done.Error, "evidence "+e.Name)
}

// SetProgress saves the progress of indexing, unless the evidence is to be indexed again since e was read.
func (s *Store) SetProgress(ctx context.Context, e Evidence, done float64) error {
	return translate(s.in(ctx).Model(&Evidence{}).Where("id = ? and asked = ?", e.ID, e.Asked).Update("progress", done).Error, "evidence")
}

// SetTrouble saves why evidence is not indexed yet.
func (s *Store) SetTrouble(ctx context.Context, e Evidence, trouble string) error {
	return translate(s.in(ctx).Model(&Evidence{}).Where("id = ? and asked = ?", e.ID, e.Asked).Update("trouble", trouble).Error, "evidence")
}

// EvidenceOf lists a case's evidence, newest first.
func (s *Store) EvidenceOf(ctx context.Context, caseID int64) (list []Evidence, err error) {
	return list, translate(s.in(ctx).Preload("Person").Where("case_id = ?", caseID).Order("uploaded_at desc, id desc").Find(&list).Error, "evidence")
}

// EvidenceByName finds evidence of a case.
func (s *Store) EvidenceByName(ctx context.Context, caseID int64, name string) (e Evidence, err error) {
	return e, translate(s.in(ctx).Preload("Person").Where("case_id = ? and name = ?", caseID, name).Take(&e).Error, "evidence "+name)
}

// LatestPatterns returns how the last evidence of a case with patterns of lines is read; nil if there is none.
func (s *Store) LatestPatterns(ctx context.Context, caseID int64) (map[string]string, error) {
	var list []Evidence
	err := s.in(ctx).Where("case_id = ? and fields like ?", caseID, `%"pattern":%`).Order("uploaded_at desc, id desc").Limit(1).Find(&list).Error
	if err != nil || len(list) == 0 {
		return nil, translate(err, "evidence")
	}
	return list[0].Fields, nil
}

// EvidenceByID finds evidence.
func (s *Store) EvidenceByID(ctx context.Context, id int64) (e Evidence, err error) {
	return e, translate(s.in(ctx).Preload("Person").Take(&e, id).Error, "evidence")
}

// Unindexed lists the evidence that is still to be indexed.
func (s *Store) Unindexed(ctx context.Context) (list []Evidence, err error) {
	return list, translate(s.in(ctx).Where("state = 'indexing'").Find(&list).Error, "evidence")
}

// Everybody stands for no person in particular: private checkpoints are not Everybody's.
const Everybody int64 = 0

// checkpoints are those of a case that a person sees, or Everybody.
func (s *Store) checkpoints(ctx context.Context, caseID, person int64) *gorm.DB {
	return s.in(ctx).Where("case_id = ? and (not is_private or person_id = ?)", caseID, person)
}

// CheckpointsOf lists a case's checkpoints by place: those that a person sees, or Everybody.
func (s *Store) CheckpointsOf(ctx context.Context, caseID, person int64) (list []Checkpoint, err error) {
	return list, translate(s.checkpoints(ctx, caseID, person).Preload("Person").Order("file, line, id").Find(&list).Error, "checkpoints")
}

// CheckpointByID finds a checkpoint of a case that a person sees.
func (s *Store) CheckpointByID(ctx context.Context, caseID, person, id int64) (c Checkpoint, err error) {
	return c, translate(s.checkpoints(ctx, caseID, person).Preload("Person").Take(&c, id).Error, fmt.Sprintf("checkpoint %d", id))
}

// AddCheckpoint adds a checkpoint.
func (s *Store) AddCheckpoint(ctx context.Context, c *Checkpoint) error {
	c.CreatedAt, c.Version = time.Now(), 1
	return translate(s.in(ctx).Omit("Person").Create(c).Error, "checkpoint")
}

// ChangeCheckpoint changes a checkpoint of a case that a person sees, as it is now, and returns it. Others who change it wait. An error of do is returned
// and changes nothing.
func (s *Store) ChangeCheckpoint(ctx context.Context, caseID, person, id int64, do func(*Checkpoint) error) (c Checkpoint, err error) {
	err = s.Together(ctx, func(s *Store) error {
		if err := translate(locked(s.checkpoints(ctx, caseID, person)).Take(&c, id).Error, fmt.Sprintf("checkpoint %d", id)); err != nil {
			return err
		}
		if err := do(&c); err != nil {
			return err
		}
		c.Version++
		return translate(s.in(ctx).Select("*").Omit("Person").Updates(&c).Error, "checkpoint")
	})
	if err != nil {
		return c, err
	}
	return s.CheckpointByID(ctx, caseID, person, id)
}

// locked locks the records that a query finds until the transaction ends.
func locked(query *gorm.DB) *gorm.DB { return query.Clauses(clause.Locking{Strength: "UPDATE"}) }

// SwitchCheckpoints enables or disables all checkpoints of a case that a person sees.
func (s *Store) SwitchCheckpoints(ctx context.Context, caseID, person int64, enabled bool) error {
	return translate(s.checkpoints(ctx, caseID, person).Model(&Checkpoint{}).Update("enabled", enabled).Error, "checkpoints")
}

// DeleteCheckpoints deletes all checkpoints of a case that a person sees.
func (s *Store) DeleteCheckpoints(ctx context.Context, caseID, person int64) error {
	return translate(s.checkpoints(ctx, caseID, person).Delete(&Checkpoint{}).Error, "checkpoints")
}

// DeleteCheckpoint deletes a checkpoint of a case.
func (s *Store) DeleteCheckpoint(ctx context.Context, caseID, id int64) error {
	return s.deleteOf(ctx, &Checkpoint{}, caseID, "id", id, "checkpoint")
}
