package service

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/store"
)

// RotationReport tells of a rotation for whoever asks for it.
type RotationReport struct {
	RotationState
	MadeAt time.Time
	// Replaced and NotDone are its items in the order of the plan.
	Replaced, NotDone []store.ReportedItem
	Elsewhere         []OldKeyPlace
}

// OldKeyPlace is where an old key may still live.
type OldKeyPlace struct {
	Old, Kind, Place, Note string
	At                     *time.Time
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
		if i.State == itemDone {
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
func (s *Service) oldKeyPlaces(ctx context.Context, items []store.ReportedItem) ([]OldKeyPlace, error) {
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
	var out []OldKeyPlace
	for _, st := range stands {
		out = append(
			out,
			OldKeyPlace{
				Old:   st.KeyName,
				Kind:  "login",
				Place: loginName(st.OSUser, st.InstanceName),
				At:    new(st.SeenAt),
				Note:  "it stood there at the last look, and opens it",
			},
		)
	}
	kept, err := s.store.KeptAmong(ctx, keys)
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		if kept[k] {
			out = append(
				out,
				OldKeyPlace{Old: names[k], Kind: "safe", Place: "the safe", Note: "the service still keeps its private half"},
			)
		}
	}
	copies, err := s.copiesWithOldKeys(ctx, items)
	if err != nil {
		return nil, err
	}
	out = append(out, copies...)
	slices.SortStableFunc(
		out,
		func(a, b OldKeyPlace) int { return slices.Compare([]string{a.Old, a.Kind}, []string{b.Old, b.Kind}) },
	)
	return out, nil
}

// copiesWithOldKeys returns the snapshots and images that were made of the items'
// instances before the old key was gone from them. A cloud that does not tell is one
// place that is told of as such.
func (s *Service) copiesWithOldKeys(ctx context.Context, items []store.ReportedItem) ([]OldKeyPlace, error) {
	can, _, err := s.outline(ctx)
	var copies []cloud.Snapshot
	if err == nil {
		if !slices.Contains(can.Capabilities, cloud.CanSnapshots) {
			return nil, nil
		}
		copies, err = s.cloud.Snapshots(ctx)
	}
	if err != nil && ctx.Err() != nil {
		return nil, ctx.Err()
	}
	of := map[string][]cloud.Snapshot{}
	for _, c := range copies {
		of[c.Instance] = append(of[c.Instance], c)
	}
	var out []OldKeyPlace
	if err != nil && len(items) > 0 {
		out = append(
			out,
			OldKeyPlace{
				Old:   items[0].OldName,
				Kind:  "snapshot",
				Place: "unknown",
				Note:  "the cloud could not be asked for snapshots and images: " + err.Error(),
			},
		)
	}
	for _, i := range items {
		for _, c := range of[i.CloudID] {
			if i.State == itemDone && i.EndedAt != nil && c.CreatedAt.After(*i.EndedAt) {
				continue
			}
			out = append(
				out,
				OldKeyPlace{
					Old:   i.OldName,
					Kind:  string(c.Kind),
					Place: c.Name,
					At:    new(c.CreatedAt),
					Note: fmt.Sprintf(
						"a copy of the disk of %s from before the old line went; what is started from it is opened by the old key",
						i.InstanceName,
					),
				},
			)
		}
	}
	return out, nil
}
