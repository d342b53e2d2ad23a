package route

import (
	"context"
	"slices"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/keys"
)

// metadataKeys hands the key to a process in the guest, which places it.
var metadataKeys = Route{
	Way: must(restore.MetadataKeys),
	by:  func(*restoring) string { return "as an entry of the instance's metadata" },
	rehearse: func(s *Service, c Rehearsing) (string, func(context.Context) (string, error)) {
		return "the entries in the instance's metadata", func(ctx context.Context) (string, error) {
			keys, err := s.clouds.Of(c.Instance.InCloud).MetadataKeys(ctx, c.Instance.CloudID)
			return text.Counted(len(keys), "key"), err
		}
	},
	place: func(
		ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep,
	) (string, error) {
		err := r.placeEntry(ctx, p, k, l)
		return "the entry for " + l.OSUser + " is in the instance's metadata", err
	},
	takeBack: func(ctx context.Context, r *restoring, _ *runs.Progress, k record.Key, l record.LoginToSweep) error {
		if !r.work.Entries {
			return nil
		}
		return r.changeEntries(ctx, l, func(entries []cloud.MetadataKey) []cloud.MetadataKey {
			return slices.DeleteFunc(
				entries,
				func(e cloud.MetadataKey) bool { return e.User == l.OSUser && holdsKey(e.Line, k) },
			)
		})
	},
	slow: true, // the process in the guest takes its time
}

func (r *restoring) changeEntries(
	ctx context.Context, l record.LoginToSweep, change func([]cloud.MetadataKey) []cloud.MetadataKey,
) error {
	entries, err := r.cloud.MetadataKeys(ctx, l.Instance.CloudID)
	if err != nil {
		return fleet.Calling(err)
	}
	return fleet.Calling(r.cloud.SetMetadataKeys(ctx, l.Instance.CloudID, change(slices.Clone(entries))))
}

func (r *restoring) placeEntry(ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
	entries, err := r.cloud.MetadataKeys(ctx, l.Instance.CloudID)
	if err != nil {
		return fleet.Calling(err)
	}
	if slices.ContainsFunc(entries, func(e cloud.MetadataKey) bool { return e.User == l.OSUser && holdsKey(e.Line, k) }) {
		return nil
	}
	r.work.Entries = true
	if err := p.Save(ctx); err != nil {
		return err
	}
	return fleet.Calling(r.cloud.SetMetadataKeys(
		ctx, l.Instance.CloudID, append(entries, cloud.MetadataKey{User: l.OSUser, Line: keys.LineOf(k)}),
	))
}
