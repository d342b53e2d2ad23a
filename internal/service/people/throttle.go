package people

import (
	"context"
	"fmt"
	"math"
	"net/netip"
	"time"

	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
)

// Whoever guesses at passwords and codes is slowed down: after some tries, each further one makes
// the next wait twice as long. It says nothing of whether what is guessed at exists.
const (
	freeGuesses   = 5  // at one account
	freeAddresses = 20 // from one address, at all accounts together
	longestWait   = 15 * time.Minute
)

// attempt is a try that was counted before it is looked at.
type attempt struct {
	service *Service
	tries   []record.Try
}

// attempt counts a try at an account, or at none in particular, from an address, or refuses it. A
// try that succeeds is given back.
func (s *Service) attempt(ctx context.Context, account, address string) (*attempt, error) {
	a := &attempt{service: s}
	if account != "" {
		a.tries = append(
			a.tries, record.Try{Subject: "account " + account, Free: freeGuesses, Longest: longestWait, Forgiven: true},
		)
	}
	if address != "" {
		a.tries = append(
			a.tries, record.Try{Subject: "address " + Neighbours(address), Free: freeAddresses, Longest: longestWait},
		)
	}
	wait, err := s.store.ReserveTries(ctx, s.now(), a.tries...)
	if err != nil {
		return nil, err
	}
	if wait > 0 {
		seconds := int(math.Ceil(wait.Seconds()))
		return nil, &problem.Problem{
			Kind:   problem.TooMany,
			Code:   "too-many-tries",
			After:  seconds,
			Detail: "there were too many wrong tries",
			Remedy: fmt.Sprintf("Try again in %s", text.Counted(seconds, "second")),
		}
	}
	return a, nil
}

// succeeded gives the try back.
func (a *attempt) succeeded(ctx context.Context) error {
	return a.service.store.ReturnTries(ctx, a.tries...)
}

// Neighbours is the address as callers are counted by: of IPv6 the network of 64 bits, all of
// which one subscriber has (RFC 6177).
func Neighbours(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if ip = ip.Unmap().WithZone(""); ip.Is4() {
		return ip.String()
	}
	p, err := ip.Prefix(64)
	if err != nil {
		return address
	}
	return p.String()
}
