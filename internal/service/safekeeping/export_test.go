package safekeeping

import (
	"context"
	"time"

	"plumlatch/internal/record"
)

// What the tests of this package reach.

func (s *Service) CarryNewKey(ctx context.Context) error { return s.carryNewKey(ctx) }

func (s *Service) EachEncrypted(ctx context.Context, tell func(record.Encrypted) error) error {
	return s.eachEncrypted(ctx, tell)
}

func (s *Service) RenewWithin(ctx context.Context, within time.Duration) (int, error) {
	return s.renew(ctx, within)
}
