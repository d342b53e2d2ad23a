package store

import (
	"context"
	"sync/atomic"

	"github.com/jackc/pgx/v5"
)

// Statements counts what is sent to the database for one call.
type Statements struct{ n atomic.Int64 }

// Count returns how many statements were sent so far.
func (s *Statements) Count() int { return int(s.n.Load()) }

type statementsKey struct{}

// Counting returns a context whose statements are counted, so that a list can be seen to cost the same
// whatever its length.
func Counting(ctx context.Context) (context.Context, *Statements) {
	s := &Statements{}
	return context.WithValue(ctx, statementsKey{}, s), s
}

// counter counts the statements of those who want it.
type counter struct{}

func (counter) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	if s, counts := ctx.Value(statementsKey{}).(*Statements); counts {
		s.n.Add(1)
	}
	return ctx
}

func (counter) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}
