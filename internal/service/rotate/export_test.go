package rotate

import "context"

// CarryRotations begins what is due.
func (s *Service) CarryRotations(ctx context.Context) error { return s.carryRotations(ctx) }
