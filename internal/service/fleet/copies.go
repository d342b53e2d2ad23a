package fleet

import (
	"context"
	"fmt"
	"slices"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
)

// OldKeyPlace is where an old key may still live.
type OldKeyPlace struct {
	Old, Kind, Place, Note string
	At                     *time.Time
}

// CopiesWithOldKeys returns the snapshots and images that were made of the items'
// instances before the old key was gone from them. A cloud that does not tell is one
// place that is told of as such.
func (s *Service) CopiesWithOldKeys(ctx context.Context, items []record.ReportedItem) ([]OldKeyPlace, error) {
	can, _, err := s.Outline(ctx)
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
		out = append(out, OldKeyPlace{
			Old:   items[0].OldName,
			Kind:  "snapshot",
			Place: "unknown",
			Note:  "the cloud could not be asked for snapshots and images: " + err.Error(),
		})
	}
	for _, i := range items {
		for _, c := range of[i.CloudID] {
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
