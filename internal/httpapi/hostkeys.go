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
		Expected: new(each(keys.Expected, func(e record.ExpectedHostKey) contract.ExpectedHostKey {
			return contract.ExpectedHostKey{Sha256: keypair.FormatSHA256(e.SHA256), At: e.At, By: e.By, Reason: e.Reason}
		})),
	}
}

func (a *api) ExpectHostKey(
	ctx context.Context, r contract.ExpectHostKeyRequestObject,
) (contract.ExpectHostKeyResponseObject, error) {
	keys, err := a.Service.Fleet.Expect(
		ctx, actorOf(ctx), r.Instance, r.Body.Sha256, r.Body.Reason, given(r.Body.Withdraw),
	)
	return contract.ExpectHostKey200JSONResponse(hostKeysOf(keys)), err
}

func (a *api) ListHostAuthorities(
	ctx context.Context, _ contract.ListHostAuthoritiesRequestObject,
) (contract.ListHostAuthoritiesResponseObject, error) {
	all, err := a.Service.Fleet.HostAuthorities(ctx)
	return contract.ListHostAuthorities200JSONResponse(each(all, hostAuthorityOf)), err
}

func hostAuthorityOf(h record.HostAuthority) contract.HostAuthority {
	return contract.HostAuthority{
		Name: h.Name, Sha256: keypair.FormatSHA256(h.SHA256), Hosts: h.Hosts, AddedAt: h.AddedAt, AddedBy: h.AddedBy,
		PublicKey: keypair.Public{Algorithm: h.Algorithm, Blob: h.Blob}.Line(),
	}
}

func (a *api) AddHostAuthority(
	ctx context.Context, r contract.AddHostAuthorityRequestObject,
) (contract.AddHostAuthorityResponseObject, error) {
	h, err := a.Service.Fleet.AddHostAuthority(ctx, actorOf(ctx), fleet.AuthorityWanted{
		Name: r.Body.Name, PublicKey: r.Body.PublicKey, Hosts: given(r.Body.Hosts), Reason: given(r.Body.Reason),
	})
	return contract.AddHostAuthority201JSONResponse(hostAuthorityOf(h)), err
}

func (a *api) RemoveHostAuthority(
	ctx context.Context, r contract.RemoveHostAuthorityRequestObject,
) (contract.RemoveHostAuthorityResponseObject, error) {
	return contract.RemoveHostAuthority204Response{}, a.Service.Fleet.RemoveHostAuthority(
		ctx, actorOf(ctx), r.Name, given(r.Params.Reason),
	)
}
