package httpapi

import (
	"context"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/reading"
)

func (a *api) GetHostKeys(
	ctx context.Context, r contract.GetHostKeysRequestObject,
) (contract.GetHostKeysResponseObject, error) {
	keys, err := a.Service.Fleet.HostKeys(ctx, r.Instance)
	return contract.GetHostKeys200JSONResponse(hostKeysOf(keys)), err
}

func (a *api) PinHostKeys(
	ctx context.Context, r contract.PinHostKeysRequestObject,
) (contract.PinHostKeysResponseObject, error) {
	keys, changed, err := a.Service.Fleet.PinHostKeys(ctx, actorOf(ctx), r.Instance, fleet.PinWanted{
		HostKeys: r.Body.HostKeys, Learnt: r.Body.Learnt, Reason: given(r.Body.Reason),
	})
	if err != nil {
		return nil, err
	}
	if changed { // what was read of it may be of another machine; where this fails, the schedule comes to it
		a.Service.Reading.StartSweep(ctx, actorOf(ctx), reading.SweepWanted{Instances: []string{r.Instance}})
	}
	return contract.PinHostKeys200JSONResponse(hostKeysOf(keys)), nil
}

func hostKeysOf(keys fleet.HostKeysOf) contract.HostKeys {
	return contract.HostKeys{
		Pinned: each(keys.Pinned, hostKeyOf),
		Former: each(keys.Former, func(k record.FormerHostKey) contract.FormerHostKey {
			return contract.FormerHostKey{
				Algorithm: k.Algorithm, Sha256: keypair.FormatSHA256(k.SHA256), Learnt: k.Learnt, PinnedAt: k.PinnedAt,
				ReplacedAt: k.ReplacedAt, ReplacedBy: k.ReplacedBy, Reason: k.Reason,
			}
		}),
	}
}
