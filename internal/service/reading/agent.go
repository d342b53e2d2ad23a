package reading

import (
	"context"
	"errors"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
)

// AgentOf is the means of the instance's guest agent.
func (s *Service) AgentOf(l record.LoginToSweep) means.Means {
	return means.ByAgent(s.clouds.Of(l.Instance.InCloud), cloud.AgentPlace{Instance: l.Instance.CloudID}, l.OSUser)
}

// readThroughAgent reads the files of a login through the guest agent. missing is
// what keeps it from being asked, "" if nothing does.
func (s *Service) readThroughAgent(
	ctx context.Context, l record.LoginToSweep, at time.Time,
) (out Seen, missing string, err error) {
	if missing, err = s.fleet.AgentMissing(ctx, l.Instance); err != nil || missing != "" {
		return Seen{}, missing, err
	}
	agent := s.AgentOf(l)
	read, err := agent.Read(ctx)
	if err != nil {
		return Seen{}, "", err
	}
	out = SeenBy(read)
	err = s.readMachine(ctx, l, agent, AgentMethod, at, &out)
	return out, "", err
}

// AgentReady returns an error where the guest agent cannot be asked.
func (s *Service) AgentReady(ctx context.Context, l record.LoginToSweep) error {
	missing, err := s.fleet.AgentMissing(ctx, l.Instance)
	if err == nil && missing != "" {
		err = errors.New(missing)
	}
	return ReachingOrNil(err)
}
