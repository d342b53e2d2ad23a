package rules

import "context"

// CarryRules begins what is due by the rules.
func (s *Service) CarryRules(ctx context.Context) error { return s.carryRules(ctx) }
