package safekeeping

import (
	"context"
	"time"

	"plumlatch/internal/record"
)

// What the tests of this package reach.

func (s *Service) CarryRekey(ctx context.Context) error { return s.carryRekey(ctx) }

func (s *Service) EachSealed(ctx context.Context, tell func(record.Sealed) error) error {
	return s.eachSealed(ctx, tell)
}

func (s *Service) RekeyWithin(ctx context.Context, within time.Duration) (int, error) {
	return s.rekey(ctx, within)
}
