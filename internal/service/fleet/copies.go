package fleet

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
)

// OldKeyPlace is where an old key may still live.
type OldKeyPlace struct {
	Old, Kind, Place, Note string
	At                     *time.Time
}

// copiedFrom is an instance by its id in its cloud.
type copiedFrom struct {
	cloud    uuid.UUID
	instance string
}

// copiesIn returns the snapshots and images that a cloud has, where it can tell.
func (s *Service) copiesIn(ctx context.Context, in *uuid.UUID) ([]cloud.Snapshot, error) {
	can, _, err := s.clouds.Outline(ctx, in)
	if err != nil || !slices.Contains(can.Capabilities, cloud.CanSnapshots) {
		return nil, err
	}
	return s.clouds.Of(in).Snapshots(ctx)
}

// CopiesWithOldKeys returns the snapshots and images that were made of the items'
// instances before the old key was gone from them. A cloud that does not tell is one
// place that is told of as such.
func (s *Service) CopiesWithOldKeys(ctx context.Context, items []record.ReportedItem) ([]OldKeyPlace, error) {
	of := map[copiedFrom][]cloud.Snapshot{}
	var out []OldKeyPlace
	for _, i := range items {
		if i.InCloud == nil {
			continue
		}
		if _, asked := of[copiedFrom{*i.InCloud, ""}]; asked {
			continue
		}
		of[copiedFrom{*i.InCloud, ""}] = nil
		copies, err := s.copiesIn(ctx, i.InCloud)
		if err != nil && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			out = append(out, OldKeyPlace{
				Old:   i.OldName,
				Kind:  "snapshot",
				Place: "unknown",
				Note:  "the cloud could not be asked for snapshots and images: " + err.Error(),
			})
		}
		for _, c := range copies {
			of[copiedFrom{*i.InCloud, c.Instance}] = append(of[copiedFrom{*i.InCloud, c.Instance}], c)
		}
	}
	for _, i := range items {
		if i.InCloud == nil {
			continue
		}
		for _, c := range of[copiedFrom{*i.InCloud, i.CloudID}] {
			if i.State == rotation.ItemDone && i.EndedAt != nil && c.CreatedAt.After(*i.EndedAt) {
				continue
			}
			out = append(out, OldKeyPlace{
				Old:   i.OldName,
				Kind:  string(c.Kind),
				Place: c.Name,
				At:    new(c.CreatedAt),
				Note: fmt.Sprintf(
					"a copy of the disk of %s from before the old line went; what is started from it is opened by the old key",
					i.InstanceName,
				),
			})
		}
	}
	return out, nil
}
