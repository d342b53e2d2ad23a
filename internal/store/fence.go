package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"regexp"
	"strconv"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
)

// fence is the run whose step is at work, and the epoch in which its worker took it.
type fence struct {
	run   uuid.UUID
	epoch int64
}

type fenceKey struct{}

// ForRun returns a context for the steps of a run: whatever is written in it is written only while
// the epoch is the run's, and is ErrFenced otherwise. Another worker that takes the run waits for
// the transaction that is at work.
func ForRun(ctx context.Context, run uuid.UUID, epoch int64) context.Context {
	return context.WithValue(ctx, fenceKey{}, fence{run, epoch})
}

// withoutFence is for statements that name the epoch themselves.
func withoutFence(ctx context.Context) context.Context {
	return context.WithValue(ctx, fenceKey{}, nil)
}

func fenceOf(ctx context.Context) (fence, bool) {
	f, ok := ctx.Value(fenceKey{}).(fence)
	return f, ok
}

// The row of a run is held until the transaction ends, if the epoch is still its own; otherwise the
// statement fails by a division by zero. It so goes out together with what follows it.
const (
	holding      = "SELECT 1 / (SELECT count(*) FROM (SELECT FROM runs WHERE id = %s AND epoch = %s FOR SHARE) r)"
	divideByZero = "22012"
)

var holdingArgs = fmt.Sprintf(holding, "$1", "$2")

// fencedBy turns the failure of the statement into ErrFenced.
func fencedBy(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == divideByZero {
		return ErrFenced
	}
	return err
}

// begin begins a transaction, which is fenced where ctx is a step's.
// Raw, since the begin of the transaction and the fence's statement go out at once.
func (p *pools) begin(ctx context.Context, o *sql.TxOptions) (gorm.ConnPool, error) {
	f, fenced := fenceOf(ctx)
	if !fenced || o != nil && o.ReadOnly {
		return p.of(ctx).BeginTx(ctx, o)
	}
	conn, err := p.of(ctx).Conn(ctx)
	if err != nil {
		return nil, err
	}
	tx := &fencedTx{conn}
	both := fmt.Sprintf("BEGIN; "+holding, "'"+f.run.String()+"'", strconv.FormatInt(f.epoch, 10))
	if _, err := conn.ExecContext(ctx, both); err != nil {
		return nil, errors.Join(fencedBy(err), tx.Rollback())
	}
	return tx, nil
}

// fencedTx is a transaction that was begun together with the fence's statement.
type fencedTx struct{ *sql.Conn }

// Commit ends the transaction.
func (t *fencedTx) Commit() error { return t.end("COMMIT") }

// Rollback takes the transaction back.
func (t *fencedTx) Rollback() error { return t.end("ROLLBACK") }

func (t *fencedTx) end(how string) error {
	ctx, cancel := context.WithTimeout(context.Background(), lockTimeout)
	defer cancel()
	_, err := t.ExecContext(ctx, how)
	return errors.Join(err, t.Close())
}

// exec runs a statement, fenced where ctx is a step's: both go out at once and are one transaction.
func (p *pools) exec(ctx context.Context, query string, args []any) (sql.Result, error) {
	f, fenced := fenceOf(ctx)
	if !fenced {
		return p.of(ctx).ExecContext(ctx, query, args...)
	}
	batch := &pgx.Batch{}
	batch.Queue(holdingArgs, f.run, f.epoch)
	batch.Queue(query, args...)
	answers := p.plainOf(ctx).SendBatch(ctx, batch)
	_, err := answers.Exec()
	var done pgconn.CommandTag
	if err == nil {
		done, err = answers.Exec()
	} else {
		err = fencedBy(err)
	}
	if closed := answers.Close(); err == nil {
		err = closed
	}
	return driver.RowsAffected(done.RowsAffected()), err
}

var (
	writing     = regexp.MustCompile(`(?i)\b(INSERT\s+INTO|DELETE\s+FROM|UPDATE\s+\S+\s+SET)\b`)
	errUnfenced = errors.New(
		"a step of a run writes with a query that returns rows, and outside a transaction: nothing would hold it off once " +
			"another worker has the run",
	)
)

// reads is nil for a query that may be made in ctx outside a transaction.
func reads(ctx context.Context, query string) error {
	if _, fenced := fenceOf(ctx); fenced && writing.MatchString(query) {
		return errUnfenced
	}
	return nil
}
