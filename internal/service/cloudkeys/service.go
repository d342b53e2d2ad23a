// Package cloudkeys is about the keys that clouds know themselves: their catalogues of named keys, which launches name,
// and the keys that they hand to every instance of a project, a zone or a group, which are ways in.
package cloudkeys

import (
	"context"
	"fmt"
	"slices"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/inventory"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Service is the use cases of the keys of clouds.
type Service struct {
	store     *store.Store
	clouds    *clouds.Service
	keys      *keys.Service
	fleet     *fleet.Service
	access    *access.Service
	inventory *inventory.Service
	journal   *journal.Service
	now       func() time.Time
}

// New returns the use cases of the keys of clouds.
func New(
	s *store.Store,
	c *clouds.Service,
	k *keys.Service,
	f *fleet.Service,
	a *access.Service,
	i *inventory.Service,
	j *journal.Service,
	now func() time.Time,
) *Service {
	return &Service{s, c, k, f, a, i, j, now}
}

// asked is the cloud, where it has what is asked for.
func (s *Service) asked(ctx context.Context, name string, can cloud.Capability, what string) (record.Cloud, error) {
	c, err := s.clouds.Cloud(ctx, name)
	if err != nil {
		return c, err
	}
	outline, _, err := s.clouds.Outline(ctx, &c.ID)
	if err != nil {
		return c, problem.FromCloud(err)
	}
	if !slices.Contains(outline.Capabilities, can) {
		return c, &problem.Problem{
			Kind: problem.Conflict, Code: "cloud-cannot", Where: []string{c.Name},
			Detail: fmt.Sprintf("%s has no call for %s", c.Name, what),
			Remedy: "See what it can do: plumlatch cloud show " + c.Name,
		}
	}
	return c, nil
}
