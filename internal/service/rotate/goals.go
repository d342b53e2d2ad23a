package rotate

import (
	"context"
	"fmt"
	"time"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/service/problem"
)

// Goal is what a rotation may be for.
type Goal string

// The goals.
const (
	Old    Goal = "old"
	Weak   Goal = "weak"
	Shared Goal = "shared"
	Lost   Goal = "lost"
)

// Reached is how much there is to do for a goal.
type Reached struct {
	Goal Goal
	// Keys are in place, or should be, in Lines.
	Keys, Lines int
}

// Goals returns how many keys are older than so many days, weaker than that, shared, and lost, of those that are in
// place somewhere or should be.
func (s *Service) Goals(ctx context.Context, days int, weaker string) ([]Reached, error) {
	if days < 1 || days > 36500 {
		return nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-older-days",
			Field:  "older_days",
			Detail: fmt.Sprintf("%d days are no age for a key", days),
			Remedy: "Give 1 to 36500",
		}
	}
	if _, _, err := rotation.ReadStrength(weaker); err != nil {
		return nil, &problem.Problem{
			Kind: problem.Invalid, Code: "bad-weaker-than", Field: "weaker_than", Detail: err.Error(),
		}
	}
	keys, err := s.store.KeysInPlace(ctx)
	if err != nil {
		return nil, err
	}
	now := s.now()
	goals := []struct {
		Goal
		rotation.Selection
	}{
		{Old, rotation.Selection{Older: time.Duration(days) * 24 * time.Hour}},
		{Weak, rotation.Selection{Weaker: weaker}},
		{Shared, rotation.Selection{Shared: true}},
		{Lost, rotation.Selection{Lost: true}},
	}
	out := make([]Reached, len(goals))
	for n, g := range goals {
		out[n].Goal = g.Goal
		for _, k := range keys {
			if g.Wants(rotation.Key{
				Type: k.Type, Bits: k.Bits, Created: k.CreatedAt, Lost: k.State == custody.Lost, Instances: k.Instances,
			}, now) {
				out[n].Keys++
				out[n].Lines += k.Lines
			}
		}
	}
	return out, nil
}
