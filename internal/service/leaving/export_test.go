package leaving

import "context"

// CarryLeavings continues with what is left of leavings.
func (s *Service) CarryLeavings(ctx context.Context) error { return s.carryLeavings(ctx) }
