package settle

import (
	"context"
	"slices"

	"github.com/google/uuid"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
)

// Difference is one with what can be done about it.
type Difference struct {
	record.Difference
	Choices []reach.Choice
	// NoMeans is why the service cannot change the login's files, "" if it can.
	NoMeans string
}

// Differences returns one page of differences.
func (s *Service) Differences(
	ctx context.Context, f record.DifferenceFilter, p record.Page,
) (record.List[Difference], error) {
	l, err := s.store.Differences(ctx, f, p)
	if err != nil {
		return record.List[Difference]{}, problem.FromPage(err)
	}
	ways, err := s.waysInto(ctx, l.Items)
	if err != nil {
		return record.List[Difference]{}, err
	}
	out := record.List[Difference]{Next: l.Next}
	for _, d := range l.Items {
		item := Difference{Difference: d, Choices: reach.Choices(reach.Status(d.Status))}
		if p := s.access.NoMeans(ways[d.LoginID]); p != nil {
			item.NoMeans = p.Detail
		}
		out.Items = append(out.Items, item)
	}
	return out, nil
}

func (s *Service) waysInto(
	ctx context.Context, differences []record.Difference,
) (map[uuid.UUID]record.LoginToSweep, error) {
	var ids []uuid.UUID
	for _, d := range differences {
		if !slices.Contains(ids, d.LoginID) {
			ids = append(ids, d.LoginID)
		}
	}
	found, err := s.store.LoginsToSweep(ctx, ids)
	ways := map[uuid.UUID]record.LoginToSweep{}
	for _, l := range found {
		ways[l.ID] = l
	}
	return ways, err
}
