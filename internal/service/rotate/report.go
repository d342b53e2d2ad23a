package rotate

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
)

// RotationReport tells of a rotation for whoever asks for it.
type RotationReport struct {
	RotationState
	MadeAt time.Time
	// Replaced and NotDone are its items in the order of the plan.
	Replaced, NotDone []record.ReportedItem
	Elsewhere         []fleet.OldKeyPlace
}

// ReportRotation returns what was replaced where, when and by whom, with the proofs
// before and after, what could not be done, and where an old key may still live.
func (s *Service) ReportRotation(ctx context.Context, id uuid.UUID) (RotationReport, error) {
	state, err := s.Rotation(ctx, id)
	if err != nil {
		return RotationReport{}, err
	}
	items, err := s.store.ReportedItems(ctx, id)
	if err != nil {
		return RotationReport{}, err
	}
	out := RotationReport{RotationState: state, MadeAt: s.now()}
	for _, i := range items {
		if i.State == rotation.ItemDone {
			out.Replaced = append(out.Replaced, i)
		} else {
			out.NotDone = append(out.NotDone, i)
		}
	}
	out.Elsewhere, err = s.oldKeyPlaces(ctx, items)
	return out, err
}

// oldKeyPlaces returns where the old keys of the items may still live: logins, the
// safe, and copies of disks that were made while they stood there.
func (s *Service) oldKeyPlaces(ctx context.Context, items []record.ReportedItem) ([]fleet.OldKeyPlace, error) {
	var keys []uuid.UUID
	names := map[uuid.UUID]string{}
	for _, i := range items {
		if i.OldKeyID != nil && names[*i.OldKeyID] == "" {
			keys = append(keys, *i.OldKeyID)
			names[*i.OldKeyID] = i.OldName
		}
	}
	stands, err := s.store.StandsOf(ctx, keys)
	if err != nil {
		return nil, err
	}
	var out []fleet.OldKeyPlace
	for _, st := range stands {
		out = append(out, fleet.OldKeyPlace{
			Old:   st.KeyName,
			Kind:  "login",
			Place: fleet.LoginName(st.OSUser, st.InstanceName),
			At:    new(st.SeenAt),
			Note:  "it stood there at the last look, and opens it",
		})
	}
	kept, err := s.store.KeptAmong(ctx, keys)
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		if kept[k] {
			out = append(
				out,
				fleet.OldKeyPlace{Old: names[k], Kind: "safe", Place: "the safe", Note: "the service still keeps its private key"},
			)
		}
	}
	copies, err := s.fleet.CopiesWithOldKeys(ctx, items)
	if err != nil {
		return nil, err
	}
	out = append(out, copies...)
	slices.SortStableFunc(out, func(a, b fleet.OldKeyPlace) int {
		return slices.Compare([]string{a.Old, a.Kind}, []string{b.Old, b.Kind})
	})
	return out, nil
}
