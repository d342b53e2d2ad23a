package store

import (
	"context"
	"database/sql"
	"errors"
	"regexp"

	"github.com/google/uuid"
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

// keep holds the run's row until the transaction ends, if the epoch is still its own.
func (f fence) keep(ctx context.Context, tx *sql.Tx) error {
	var there int
	err := tx.QueryRowContext(ctx, "SELECT 1 FROM runs WHERE id = $1 AND epoch = $2 FOR SHARE", f.run, f.epoch).Scan(&there)
	if errors.Is(err, sql.ErrNoRows) {
		return ErrFenced
	}
	return err
}

// begin begins a transaction that is fenced where ctx is a step's.
func (p *pools) begin(ctx context.Context, o *sql.TxOptions) (*sql.Tx, error) {
	tx, err := p.of(ctx).BeginTx(ctx, o)
	f, fenced := fenceOf(ctx)
	if err != nil || !fenced || o != nil && o.ReadOnly {
		return tx, err
	}
	if err := f.keep(ctx, tx); err != nil {
		return nil, errors.Join(err, tx.Rollback())
	}
	return tx, nil
}

// exec runs a statement, in a fenced transaction of its own where ctx is a step's.
func (p *pools) exec(ctx context.Context, query string, args []any) (sql.Result, error) {
	if _, fenced := fenceOf(ctx); !fenced {
		return p.of(ctx).ExecContext(ctx, query, args...)
	}
	tx, err := p.begin(ctx, nil)
	if err != nil {
		return nil, err
	}
	done, err := tx.ExecContext(ctx, query, args...)
	if err != nil {
		return nil, errors.Join(err, tx.Rollback())
	}
	return done, tx.Commit()
}

var (
	writing     = regexp.MustCompile(`(?i)\b(INSERT\s+INTO|DELETE\s+FROM|UPDATE\s+\S+\s+SET)\b`)
	errUnfenced = errors.New("a step of a run writes with a query that returns rows, and outside a transaction: nothing would hold it off once another worker has the run")
)

// reads is nil for a query that may be made in ctx outside a transaction.
func reads(ctx context.Context, query string) error {
	if _, fenced := fenceOf(ctx); fenced && writing.MatchString(query) {
		return errUnfenced
	}
	return nil
}
