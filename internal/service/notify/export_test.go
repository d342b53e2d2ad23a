package notify

import "context"

// What the tests of this package reach.

func (s *Service) Deliver(ctx context.Context) error    { return s.deliver(ctx) }
func (s *Service) WatchReach(ctx context.Context) error { return s.watchReach(ctx) }
