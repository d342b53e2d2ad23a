// Package store keeps the service's records in PostgreSQL. It knows tables,
// transactions and pages; what the records mean is the service's business.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// ErrNotFound is returned where a record that was asked for is not there.
var ErrNotFound = errors.New("not found")

// ErrText is returned where a text holds bytes that no text may hold.
var ErrText = errors.New("the text is not valid UTF-8 or has a zero byte in it")

// ErrDeadlock is returned where two transactions waited for each other and this
// one was given up; again, it is likely to succeed.
var ErrDeadlock = errors.New("two changes waited for each other")

// TakenError says that a record with the same unique value is there already.
type TakenError struct{ Constraint string }

func (e *TakenError) Error() string { return "taken: " + e.Constraint }

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the connections to the database, or one transaction in it.
type Store struct {
	db    *gorm.DB
	pools *pools
	// notes are the entries of a transaction's daybook; nil outside one.
	notes *notes
}

// Open connects to the database at url and brings its schema up to date, if the
// role may; see Prepare.
func Open(ctx context.Context, url string) (*Store, error) {
	p, err := openPools(ctx, url)
	if err != nil {
		return nil, err
	}
	db, err := gorm.Open(postgres.New(postgres.Config{Conn: p}), &gorm.Config{
		Logger:                 logger.Discard,
		SkipDefaultTransaction: true,
	})
	if err != nil {
		p.close()
		return nil, fmt.Errorf("open the database: %w", err)
	}
	return &Store{db: db, pools: p}, nil
}

// Prepare brings the schema up to date as its owner, and lets the role of the service's
// URL do what the service does: change records, and only add to the daybook.
// Raw, since it grants rights.
func Prepare(ctx context.Context, ownerURL, serviceURL string) error {
	service, err := pgxpool.ParseConfig(serviceURL)
	if err != nil {
		return errURL
	}
	pool, err := connect(ctx, ownerURL, 2, false)
	if err != nil {
		return err
	}
	defer pool.Close()
	if err := checkDirect(ctx, pool); err != nil {
		return err
	}
	if err := migrate(ctx, pool); err != nil {
		return err
	}
	role := pgx.Identifier{service.ConnConfig.User}.Sanitize()
	for _, grant := range []string{
		"GRANT USAGE ON SCHEMA public, limited TO %s",
		"GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public, limited TO %s",
		"GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO %s",
		"REVOKE UPDATE, DELETE, TRUNCATE ON public.daybook, limited.daybook FROM %s",
		"REVOKE DELETE, TRUNCATE ON public.proofs, limited.proofs, public.consents, public.password_readings, " +
			"limited.password_readings FROM %s",
		"REVOKE INSERT, UPDATE, DELETE, TRUNCATE ON public.goose_db_version FROM %s",
	} {
		if _, err := pool.Exec(ctx, fmt.Sprintf(grant, role)); err != nil {
			return fmt.Errorf("give the service's role its rights: %w", err)
		}
	}
	return nil
}

// schema is the migrations of the schema.
func schema(pool *pgxpool.Pool) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	chain := goose.NewGoMigration(9, &goose.GoFunc{RunTx: chainEarlier}, &goose.GoFunc{RunTx: nil})
	return goose.NewProvider(goose.DialectPostgres, stdlib.OpenDBFromPool(pool), files, goose.WithGoMigrations(
		chain, goose.NewGoMigration(15, &goose.GoFunc{RunTx: redactPrivate}, &goose.GoFunc{RunTx: nil}),
	))
}

// NewerError is returned for a database that a later program has brought up to date.
type NewerError struct {
	// There is the version of the database's schema, Known the last that this program knows.
	There, Known int64
}

func (e *NewerError) Error() string {
	return fmt.Sprintf(
		"the database's schema has the version %d, and this program knows no later one than %d: start the newer program, "+
			"or restore a copy from before",
		e.There,
		e.Known,
	)
}

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	provider, err := schema(pool)
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	there, known, err := provider.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("read how far the database's schema is: %w", err)
	}
	if there > known {
		return &NewerError{There: there, Known: known}
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bring the database up to date: %w", err)
	}
	queue, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return fmt.Errorf("read the job queue's migrations: %w", err)
	}
	if _, err := queue.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bring the job queue up to date: %w", err)
	}
	return nil
}

// Pool returns the connections for the service's own work, for the job queue.
func (s *Store) Pool() *pgxpool.Pool { return s.pools.work }

// Close gives the connections back.
func (s *Store) Close() { s.pools.close() }

// Ping asks the database for a sign of life.
func (s *Store) Ping(ctx context.Context) error { return s.pools.plainOf(ctx).Ping(ctx) }

// InTx runs f in one transaction: all of it is kept, or nothing.
func (s *Store) InTx(ctx context.Context, f func(*Store) error) error {
	return plain(s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		tx := &Store{db: db, pools: s.pools, notes: s.notes}
		outermost := s.notes == nil
		if outermost {
			tx.notes = &notes{}
		}
		before := len(tx.notes.waiting)
		if err := f(tx); err != nil {
			tx.notes.waiting = tx.notes.waiting[:before]
			return err
		}
		if outermost {
			return tx.writeNotes(ctx)
		}
		return nil
	}))
}

// InLooseTx is InTx for what is found out again if it is lost: it does not wait
// for the disk, so that a crash of the database may undo the last of them whole.
// Raw, since it is a setting of the transaction.
func (s *Store) InLooseTx(ctx context.Context, f func(*Store) error) error {
	return s.InTx(ctx, func(tx *Store) error {
		if err := tx.db.WithContext(ctx).Exec("SET LOCAL synchronous_commit = off").Error; err != nil {
			return plain(err)
		}
		return f(tx)
	})
}

// Unavailable reports whether err tells of a database that does not answer,
// rather than of what was asked.
func Unavailable(err error) bool {
	var connect *pgconn.ConnectError
	var network *net.OpError
	var pg *pgconn.PgError
	switch {
	case err == nil || errors.Is(err, context.Canceled):
		return false
	case errors.As(err, &connect), errors.As(err, &network):
		return true
	case errors.As(err, &pg):
		// 08: connection exception, 57P: shut down or starting, 53300: too many connections; 55P03, 57014
		// and 25P03: a lock, a statement or a transaction took too long (see pools.go)
		return strings.HasPrefix(pg.Code, "08") || strings.HasPrefix(pg.Code, "57P") ||
			slices.Contains([]string{"53300", "55P03", "57014", "25P03"}, pg.Code)
	}
	text := err.Error()
	return strings.Contains(text, "conn closed") || strings.Contains(text, "unexpected EOF") ||
		strings.Contains(text, "closed pool")
}

// plain turns the library's errors into this package's.
func plain(err error) error {
	var pg *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrRecordNotFound), errors.Is(err, pgx.ErrNoRows):
		return ErrNotFound
	case errors.As(err, &pg) && pg.Code == "23505":
		return &TakenError{pg.ConstraintName}
	case errors.As(err, &pg) && pg.Code == "22021":
		return ErrText
	case errors.As(err, &pg) && pg.Code == "40P01":
		return ErrDeadlock
	}
	return err
}

// Empty reports whether the database at url has no tables.
// Raw, since it asks the catalogue of the database.
func Empty(ctx context.Context, url string) (empty bool, err error) {
	pool, err := connect(ctx, url, 2, false)
	if err != nil {
		return false, err
	}
	defer pool.Close()
	err = pool.QueryRow(
		ctx,
		"SELECT NOT EXISTS (SELECT 1 FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema'))",
	).
		Scan(&empty)
	return empty, err
}

// NewID returns an id that grows with time, so that indexes stay compact.
func NewID() uuid.UUID { return uuid.Must(uuid.NewV7()) }
