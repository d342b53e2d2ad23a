package charter

import (
	"context"

	"plumlatch/internal/core/charter"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
)

// Write writes who may open what, as it is now, as a charter.
func (s *Service) Write(ctx context.Context, name, labelName, labelText string, withKeys bool) (string, error) {
	if err := people.FleetWide(ctx, "a charter"); err != nil {
		return "", err
	}
	if err := problem.CheckName("name", name); err != nil {
		return "", err
	}
	w, err := s.world(ctx, charter.Charter{})
	if err != nil {
		return "", err
	}
	return charter.Write(name, w.World, labelName, labelText, withKeys), nil
}
