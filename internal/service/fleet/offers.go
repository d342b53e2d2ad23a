package fleet

import (
	"context"
	"slices"

	"plumlatch/internal/cloud"
	"plumlatch/internal/record"
)

// AgentMissing says what keeps the guest agent of an instance from being asked, ""
// if nothing does.
func (s *Service) AgentMissing(ctx context.Context, i record.Instance) (string, error) {
	if i.Adopted {
		return "it was adopted, so no cloud's guest agent can be asked", nil
	}
	can, _, err := s.clouds.Outline(ctx, i.InCloud)
	if err != nil {
		return "", err
	}
	if !slices.Contains(can.Capabilities, cloud.CanGuestAgent) {
		return "the cloud has no guest agent to ask", nil
	}
	state, err := s.clouds.Of(i.InCloud).Agent(ctx, i.CloudID)
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
