package store

import (
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"gorm.io/gorm"
)

// How many connections one process has at most: for requests, for the service's own work, and one
// that holds its locks. Two processes stay within PostgreSQL's usual 100.
const (
	requestConnections = 24
	workConnections    = 20
)

// Bounds that the database keeps to by itself, so that nobody waits for ever for somebody who
// does not continue.
const (
	lockTimeout      = 10 * time.Second
	statementTimeout = 60 * time.Second
	idleTimeout      = 60 * time.Second // within a transaction
)

// pools are the connections of a store: those for requests, and others for the service's own work,
// which so continues however many requests wait.
type pools struct {
	url            string
	requests, work *pgxpool.Pool
	forRequests    *sql.DB
	forWork        *sql.DB
	locks          locks
}

type workKey struct{}

// ForWork returns a context for the service's own work, which has connections of its own.
func ForWork(ctx context.Context) context.Context {
	return context.WithValue(ctx, workKey{}, true)
}

func (p *pools) of(ctx context.Context) *sql.DB {
	if ctx.Value(workKey{}) != nil {
		return p.forWork
	}
	return p.forRequests
}

func (p *pools) plainOf(ctx context.Context) *pgxpool.Pool {
	if ctx.Value(workKey{}) != nil {
		return p.work
	}
	return p.requests
}

// PrepareContext, and those that follow, are what GORM asks of connections.
func (p *pools) PrepareContext(ctx context.Context, query string) (*sql.Stmt, error) {
	return p.of(ctx).PrepareContext(ctx, query)
}

// ExecContext runs a statement.
func (p *pools) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return p.exec(ctx, query, args)
}

// QueryContext runs a query.
func (p *pools) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if err := reads(ctx, query); err != nil {
		return nil, err
	}
	return p.of(ctx).QueryContext(ctx, query, args...)
}

// QueryRowContext runs a query for one row.
func (p *pools) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	return p.of(ctx).QueryRowContext(ctx, query, args...)
}

// BeginTx begins a transaction.
func (p *pools) BeginTx(ctx context.Context, o *sql.TxOptions) (gorm.ConnPool, error) {
	return p.begin(ctx, o)
}

func (p *pools) close() {
	p.locks.close()
	for _, db := range []*sql.DB{p.forRequests, p.forWork} {
		if db != nil {
			db.Close()
		}
	}
	for _, pool := range []*pgxpool.Pool{p.requests, p.work} {
		if pool != nil {
			pool.Close()
		}
	}
}

var errURL = errors.New("the database URL cannot be read") // pgx's own error may hold the password

// Encrypted reports whether a connection by the URL stays on this machine, or is encrypted to a
// server whose certificate and name are checked (sslmode=verify-full of libpq).
func Encrypted(url string) (bool, error) {
	config, err := pgconn.ParseConfig(url)
	if err != nil {
		return false, errURL
	}
	encrypted := func(host string, t *tls.Config) bool {
		ip := net.ParseIP(host)
		local := strings.HasPrefix(host, "/") || host == "localhost" || ip != nil && ip.IsLoopback()
		return local || t != nil && !t.InsecureSkipVerify && t.ServerName != ""
	}
	if !encrypted(config.Host, config.TLSConfig) {
		return false, nil
	}
	for _, f := range config.Fallbacks {
		if !encrypted(f.Host, f.TLSConfig) {
			return false, nil
		}
	}
	return true, nil
}

// PoolerError is returned for a database that is reached through a pooler that does not keep
// what is set on a connection.
type PoolerError struct{ Why string }

func (e *PoolerError) Error() string {
	return "the database is reached through a connection pooler, which " + e.Why +
		": limits of people and locks of runs are held by a connection, so they would not hold. Give the address of " +
		"PostgreSQL itself"
}

// probe is set as a connection begins. PostgreSQL keeps it; poolers refuse it or leave it out.
const probe = "plumlatch.probe"

// checkDirect sees that the connections are PostgreSQL's own.
func checkDirect(ctx context.Context, pool *pgxpool.Pool) error {
	var kept *string
	err := pool.QueryRow(ctx, "SELECT current_setting('"+probe+"', true)").Scan(&kept)
	var pg *pgconn.PgError
	switch {
	case errors.As(err, &pg) && strings.Contains(pg.Message, "startup parameter"):
		return &PoolerError{"takes no settings of a connection"}
	case err != nil:
		return err
	case kept == nil || *kept != "kept":
		return &PoolerError{"drops the settings of a connection"}
	}
	return nil
}

// connectWithin is for how long a connection may take to begin. Requests have less time, of their own.
const connectWithin = 15 * time.Second

// connect opens at most so many connections. Where they are bounded, the database gives up by
// itself what takes too long; a change of the schema may take as long as it does.
func connect(ctx context.Context, url string, connections int32, bounded bool) (*pgxpool.Pool, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, errURL
	}
	config.MaxConns = connections
	config.ConnConfig.ConnectTimeout = connectWithin
	config.ConnConfig.RuntimeParams[probe] = "kept"
	if bounded {
		for name, after := range map[string]time.Duration{
			"lock_timeout":                        lockTimeout,
			"statement_timeout":                   statementTimeout,
			"idle_in_transaction_session_timeout": idleTimeout,
		} {
			config.ConnConfig.RuntimeParams[name] = fmt.Sprint(after.Milliseconds())
		}
	}
	config.PrepareConn, config.ConnConfig.Tracer = setLimit, counter{}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	return pool, nil
}

// openPools brings the schema up to date and opens the connections.
func openPools(ctx context.Context, url string) (*pools, error) {
	owner, err := connect(ctx, url, 2, false)
	if err != nil {
		return nil, err
	}
	defer owner.Close()
	if err := checkDirect(ctx, owner); err != nil {
		return nil, err
	}
	if err := migrate(ctx, owner); err != nil {
		return nil, err
	}
	p := &pools{url: url}
	if p.requests, err = connect(ctx, url, requestConnections, true); err != nil {
		return nil, err
	}
	if p.work, err = connect(ctx, url, workConnections, true); err != nil {
		p.close()
		return nil, err
	}
	p.forRequests, p.forWork = stdlib.OpenDBFromPool(p.requests), stdlib.OpenDBFromPool(p.work)
	for _, db := range []*sql.DB{p.forRequests, p.forWork} {
		db.SetMaxIdleConns(0) // the pool keeps them
	}
	p.locks.url = url
	return p, nil
}

// URL is where the database is.
func (s *Store) URL() string { return s.pools.url }
