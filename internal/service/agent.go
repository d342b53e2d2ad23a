package service

import (
	"context"

	"plumlatch/internal/cloud"
	"plumlatch/internal/means"
	"plumlatch/internal/store"
)

// agentOf is the means of the instance's guest agent.
func (s *Service) agentOf(l store.LoginToSweep) means.Means {
	return means.ByAgent(s.cloud, cloud.AgentPlace{Instance: l.Instance.CloudID}, l.OSUser)
}

// readThroughAgent reads the files of a login through the guest agent. missing is
// what keeps it from being asked, "" if nothing does.
func (s *Service) readThroughAgent(ctx context.Context, l store.LoginToSweep) (out seen, missing string, err error) {
	if missing, err = s.agentMissing(ctx, l.Instance); err != nil || missing != "" {
		return seen{}, missing, err
	}
	read, err := s.agentOf(l).Read(ctx)
	return seenBy(read), "", err
}
