package store

import (
	"context"
	"encoding/json"

	"github.com/jackc/pgx/v5"
)

// Limit is what a person sees and touches of the fleet: the instances with all of
// these labels, and what is about those. An empty one is no limit.
//
// It is the database that holds to it: connections for a limited person look through the
// schema limited, whose views come before the tables of the same names. What no
// statement can forget cannot leak.
type Limit struct {
	Labels map[string]string
	// Person sees, of the daybook, also what they did themselves.
	Person string
}

type limitKey struct{}

// WithLimit returns a context in which the database shows only what is within l.
func WithLimit(ctx context.Context, l Limit) context.Context {
	return context.WithValue(ctx, limitKey{}, l)
}

// Unlimited returns a context for work that the service does on its own.
func Unlimited(ctx context.Context) context.Context { return WithLimit(ctx, Limit{}) }

// Limited reports whether the context has a limit.
func Limited(ctx context.Context) bool {
	l, _ := ctx.Value(limitKey{}).(Limit)
	return len(l.Labels) > 0
}

const limitNow = "plumlatch.limit"

// setLimit readies a connection for the context that takes it from the pool.
func setLimit(ctx context.Context, conn *pgx.Conn) (bool, error) {
	l, _ := ctx.Value(limitKey{}).(Limit)
	wanted, path := "", "public"
	if len(l.Labels) > 0 {
		labels, err := json.Marshal(l.Labels)
		if err != nil {
			return true, err
		}
		wanted, path = string(labels)+"\n"+l.Person, "limited, public"
	}
	data := conn.PgConn().CustomData()
	if now, _ := data[limitNow].(string); now == wanted {
		return true, nil
	}
	labels := "{}"
	if wanted != "" {
		labels = wanted[:len(wanted)-len(l.Person)-1]
	}
	data[limitNow] = "?" // what an error leaves is not known
	_, err := conn.Exec(
		ctx,
		"SELECT set_config('plumlatch.labels', $1, false), set_config('plumlatch.person', $2, false), "+
			"set_config('search_path', $3, false)",
		labels,
		l.Person,
		path,
	)
	if err != nil {
		return false, err
	}
	data[limitNow] = wanted
	return true, nil
}
