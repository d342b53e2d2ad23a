package kit

import (
	"context"
	"fmt"
	"time"
)

// How long a watch waits for a service that does not answer, and the pauses between its tries.
const (
	patienceLasts = 10 * time.Minute
	firstPause    = 250 * time.Millisecond
	longestPause  = 5 * time.Second
)

// Patience is that of somebody who watches: a service that has answered and is restarted is waited for, and any
// other error ends it.
type Patience struct {
	s     *Session
	once  bool      // it has answered
	since time.Time // when it was first not reached; zero while it answers
	pause time.Duration
}

// Patience returns the patience of one watch.
func (s *Session) Patience() *Patience { return &Patience{s: s} }

// Answered says that the service has answered.
func (p *Patience) Answered() {
	if !p.since.IsZero() && !p.s.Quiet && !p.s.Json {
		fmt.Fprintln(p.s.Env.Err, "  The service answers again.")
	}
	p.once, p.since, p.pause = true, time.Time{}, firstPause
}

// Wait waits before another try after err; none is a stream that broke off. It returns err where another try is
// of no use, or patience is over.
func (p *Patience) Wait(ctx context.Context, err error) error {
	switch {
	case err == nil:
		p.pause = firstPause
	case Status(err) != ExitUnreachable || !p.once || ctx.Err() != nil:
		return err
	case p.since.IsZero():
		p.since, p.pause = time.Now(), firstPause
		if !p.s.Quiet && !p.s.Json {
			fmt.Fprintln(p.s.Env.Err, "  The service does not answer. The work continues when it is back, and so does this.")
		}
	case time.Since(p.since) > patienceLasts:
		return err
	}
	select {
	case <-ctx.Done():
	case <-time.After(p.pause):
	}
	p.pause = min(2*p.pause, longestPause)
	return nil
}

// Stopped is the failure of a watch that the person who watched has ended.
func Stopped(what, again string) error {
	remedy := ""
	if again != "" {
		remedy = "Watch again: " + again
	}
	return Failed("stopped-watching", "you stopped watching; the "+what+" continues in the service", remedy)
}
