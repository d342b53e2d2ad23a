package httpapi

import (
	"context"
	"maps"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"plumlatch/internal/service/problem"
)

const (
	// askAgainEvery is how often it is asked again who reads a stream.
	askAgainEvery = 5 * time.Second
	// longestStream is after how long a stream ends. Whoever reads it continues with another, from
	// the last event that they have seen.
	longestStream = 15 * time.Minute
	// streamsEach is how many streams one account may read at once.
	streamsEach = 32
)

// streams counts the streams that are read, by account.
type streams struct {
	askAgain, longest time.Duration

	mu sync.Mutex
	of map[uuid.UUID]int
}

// begin reports whether the account may read one more.
func (s *streams) begin(account uuid.UUID) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil {
		s.of = map[uuid.UUID]int{}
	}
	if s.of[account] >= streamsEach {
		return false
	}
	s.of[account]++
	return true
}

func (s *streams) end(account uuid.UUID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of[account]--; s.of[account] <= 0 {
		delete(s.of, account)
	}
}

// watchOver ends a stream when it is not for its reader now: the session or token is over,
// the account is closed, or its role or limits are other ones.
func (s *server) watchOver(c *gin.Context, of call) {
	least := of.role
	reader := actorOf(c)
	if !of.socket && !s.streams.begin(reader.ID) {
		s.fail(c, &problem.Problem{
			Kind:   problem.TooMany,
			Code:   "too-many-streams",
			After:  5,
			Detail: "this account reads as many streams as one may",
			Remedy: "Close some of them",
		})
		return
	}
	if !of.socket {
		defer s.streams.end(reader.ID)
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), s.streams.longest)
	defer cancel()
	asked := c.Copy() // the other one is the handler's
	go func() {
		tick := time.NewTicker(s.streams.askAgain)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			now, _, err := s.whoAsks(asked)
			if err == nil && now.Role.May(least) && now.Role == reader.Role && now.Only == reader.Only &&
				maps.Equal(now.Limits, reader.Limits) {
				continue
			}
			if ctx.Err() == nil {
				s.Log.Info("a stream is ended, because its reader may no longer read it", "id", reader.RequestID, "err", err)
			}
			cancel()
			return
		}
	}()
	c.Request = c.Request.WithContext(ctx)
	c.Next()
}
