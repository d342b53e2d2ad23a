package service

import (
	"context"
	"slices"

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

// agentMissing says what keeps the guest agent of an instance from being asked, ""
// if nothing does.
func (s *Service) agentMissing(ctx context.Context, i store.Instance) (string, error) {
	if i.Adopted {
		return "it was adopted, so no cloud's guest agent can be asked", nil
	}
	can, _, err := s.outline(ctx)
	if err != nil {
		return "", err
	}
	if !slices.Contains(can.Capabilities, cloud.CanGuestAgent) {
		return "the cloud has no guest agent to ask", nil
	}
	state, err := s.cloud.Agent(ctx, i.CloudID)
	switch {
	case err != nil:
		return "", err
	case state == cloud.AgentReady:
		return "", nil
	case state == cloud.AgentAbsent:
		return "its image has no guest agent", nil
	case state == cloud.AgentNotPermitted:
		return "its guest agent is not permitted", nil
	}
	return "its guest agent has not registered yet", nil
}
