package service

import (
	"fmt"
	"math"
	"sync"
	"time"
)

// guesses slows down whoever guesses at passwords and codes: after some failures, each
// further one makes the next wait twice as long. It says nothing of whether what
// is guessed at exists. The counts are kept in memory, so a restart forgets them.
type guesses struct {
	mu sync.Mutex
	of map[string]guess
}

type guess struct {
	failures int
	last     time.Time
	until    time.Time
}

const (
	freeGuesses    = 5  // at one account
	freeAddresses  = 20 // from one address, at all accounts together
	longestWait    = 15 * time.Minute
	guessForgotten = time.Hour
	mostGuesses    = 50_000
)

// wait is for how long nothing is looked at.
func (g *guesses) wait(now time.Time, account, address string) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	var until time.Time
	for key := range keysOf(account, address) {
		if at := g.of[key].until; at.After(until) {
			until = at
		}
	}
	return max(0, until.Sub(now))
}

func (g *guesses) failed(now time.Time, account, address string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.of == nil || len(g.of) > mostGuesses {
		g.forget(now)
	}
	for key, free := range keysOf(account, address) {
		t := g.of[key]
		if now.Sub(t.last) > guessForgotten {
			t = guess{}
		}
		t.failures++
		t.last = now
		if over := t.failures - free; over >= 0 {
			t.until = now.Add(min(longestWait, time.Second<<min(over, 20)))
		}
		g.of[key] = t
	}
}

// forget drops what is of no account any more, or all where that is not enough.
func (g *guesses) forget(now time.Time) {
	kept := map[string]guess{}
	for key, t := range g.of {
		if now.Before(t.until) {
			kept[key] = t
		}
	}
	if len(kept) > mostGuesses/2 {
		kept = map[string]guess{}
	}
	g.of = kept
}

func (g *guesses) passed(account string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.of, "account "+account)
}

func keysOf(account, address string) map[string]int {
	keys := map[string]int{"account " + account: freeGuesses}
	if address != "" {
		keys["address "+address] = freeAddresses
	}
	return keys
}

// throttled refuses while a wait is on.
func (s *Service) throttled(account, address string) error {
	wait := s.guesses.wait(s.now(), account, address)
	if wait == 0 {
		return nil
	}
	seconds := int(math.Ceil(wait.Seconds()))
	return &Problem{Kind: TooMany, Code: "too-many-tries", After: seconds, Detail: "there were too many wrong tries", Remedy: fmt.Sprintf("Try again in %s", counted(seconds, "second"))}
}
