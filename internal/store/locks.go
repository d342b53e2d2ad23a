package store

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// ErrLockLost is why the context of a lock ends where the database does not hold the lock for
// this process now. Somebody else may have it by then.
var ErrLockLost = errors.New("the lock's connection to the database is gone, and the lock with it")

// locks are the advisory locks that this process holds, all of them by one connection. When
// that goes, the database has released them, and all who hold one are told.
type locks struct {
	url string

	mu   sync.Mutex
	conn *pgx.Conn
	held map[string]context.CancelCauseFunc
	stop context.CancelFunc // of the watch over conn
}

const (
	// watchLocks is how often it is seen whether the connection is still there.
	watchLocks = time.Second
	lockWithin = 5 * time.Second
)

// Lock takes a lock on the name until it is released, in this and every other process. ok is
// false if somebody else has it. The context that is returned is ctx for as long as the lock is
// held: it ends with ErrLockLost where the database lost it.
func (s *Store) Lock(ctx context.Context, name string) (held context.Context, release func(), ok bool, err error) {
	return s.pools.locks.take(ctx, name)
}

// take takes the lock of a name on the connection that holds locks. Raw, since GORM has no advisory locks.
func (l *locks) take(ctx context.Context, name string) (context.Context, func(), bool, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.held[name] != nil {
		return nil, nil, false, nil
	}
	if err := l.connect(ctx); err != nil {
		return nil, nil, false, err
	}
	// Not interrupted with ctx: an answer that is not waited for would take the connection
	// along.
	within, cancel := context.WithTimeout(context.WithoutCancel(ctx), lockWithin)
	defer cancel()
	var ok bool
	if err := l.conn.QueryRow(within, "SELECT pg_try_advisory_lock(hashtextextended($1, 0))", name).Scan(&ok); err != nil {
		l.lose()
		return nil, nil, false, err
	}
	if !ok {
		return nil, nil, false, nil
	}
	held, lost := context.WithCancelCause(ctx)
	l.held[name] = lost
	conn := l.conn
	return held, sync.OnceFunc(func() {
		l.release(name, conn)
		lost(context.Canceled)
	}), true, nil
}

// release gives a lock back. Raw, since GORM has no advisory locks.
func (l *locks) release(name string, conn *pgx.Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn != conn { // the lock went with the connection
		return
	}
	delete(l.held, name)
	ctx, cancel := context.WithTimeout(context.Background(), lockWithin)
	defer cancel()
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_unlock(hashtextextended($1, 0))", name); err != nil {
		l.lose()
	}
}

// connect sees that there is a connection. l.mu is held.
func (l *locks) connect(ctx context.Context) error {
	if l.conn != nil && !l.conn.IsClosed() {
		return nil
	}
	l.lose()
	config, err := pgx.ParseConfig(l.url)
	if err != nil {
		return errURL
	}
	config.ConnectTimeout = lockWithin
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return fmt.Errorf("connect for the locks: %w", err)
	}
	watched, stop := context.WithCancel(context.Background())
	l.conn, l.stop, l.held = conn, stop, map[string]context.CancelCauseFunc{}
	go l.watch(watched, conn)
	return nil
}

// watch asks the connection for a sign of life.
func (l *locks) watch(ctx context.Context, conn *pgx.Conn) {
	tick := time.NewTicker(watchLocks)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		l.mu.Lock()
		if l.conn == conn {
			within, cancel := context.WithTimeout(ctx, lockWithin)
			if conn.Ping(within) != nil {
				l.lose()
			}
			cancel()
		}
		l.mu.Unlock()
	}
}

// lose tells all who hold a lock that it is gone. l.mu is held.
func (l *locks) lose() {
	for _, lost := range l.held {
		lost(ErrLockLost)
	}
	l.held = map[string]context.CancelCauseFunc{}
	if l.conn == nil {
		return
	}
	l.stop()
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	l.conn.Close(ctx) // if it can be; the database closes it in any case
	l.conn = nil
}

func (l *locks) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.lose()
}
