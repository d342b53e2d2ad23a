package httpapi

import (
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/time/rate"

	"plumlatch/internal/service/problem"
)

// rates holds everybody to a number of requests per second, counted by where they
// come from.
type rates struct {
	perSecond float64
	mu        sync.Mutex
	of        map[string]*pace
	swept     time.Time
}

type pace struct {
	*rate.Limiter
	last time.Time
}

// burst is how many seconds' worth of requests may come at once.
const burst = 5

func (r *rates) allow(address string, now time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.of == nil || now.Sub(r.swept) > time.Minute {
		kept := map[string]*pace{}
		for a, p := range r.of {
			if now.Sub(p.last) < time.Minute {
				kept[a] = p
			}
		}
		r.of, r.swept = kept, now
	}
	p := r.of[address]
	if p == nil {
		p = &pace{Limiter: rate.NewLimiter(rate.Limit(r.perSecond), int(r.perSecond*burst)+1)}
		r.of[address] = p
	}
	p.last = now
	return p.AllowN(now, 1)
}

// limitRate refuses who asks too often.
func (s *server) limitRate(c *gin.Context) {
	if s.rates.perSecond > 0 && !s.rates.allow(requestOf(c).counted(), time.Now()) {
		s.fail(c, &problem.Problem{
			Kind:   problem.TooMany,
			Code:   "too-many-requests",
			After:  1,
			Detail: "there were too many requests from this address",
			Remedy: "Ask less often",
		})
	}
}
