package httpapi

import (
	"context"
	"strings"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/jump"
)

func (a *api) ListJumps(
	ctx context.Context,
	_ contract.ListJumpsRequestObject,
) (contract.ListJumpsResponseObject, error) {
	w, err := a.Service.Jumps.List(ctx)
	return contract.ListJumps200JSONResponse{
		Hosts: each(w.Hosts, func(h record.JumpHost) contract.JumpHost {
			return contract.JumpHost{Instance: h.Name, Behind: h.Behind}
		}),
		Rules: each(w.Rules, jumpRuleOf),
	}, err
}

func jumpRuleOf(r record.JumpRule) contract.JumpRule {
	out := contract.JumpRule{Id: r.ID, Network: r.Network, Via: r.ViaName, AddedAt: r.AddedAt, AddedBy: r.AddedBy}
	if r.Network == nil {
		out.Label = new(r.LabelName + "=" + r.LabelText)
	}
	return out
}

func (a *api) SetJumps(ctx context.Context, r contract.SetJumpsRequestObject) (contract.SetJumpsResponseObject, error) {
	changed, err := a.Service.Jumps.Set(ctx, actorOf(ctx), jump.Wanted{
		Instances: r.Body.Instances, Via: given(r.Body.Via), Direct: given(r.Body.Direct), Reason: given(r.Body.Reason),
	})
	return contract.SetJumps200JSONResponse{Changed: changed}, err
}

func (a *api) PutJumpRule(
	ctx context.Context, r contract.PutJumpRuleRequestObject,
) (contract.PutJumpRuleResponseObject, error) {
	w := jump.RuleWanted{Network: given(r.Body.Network), Via: r.Body.Via, Reason: given(r.Body.Reason)}
	w.LabelName, w.LabelText, _ = strings.Cut(given(r.Body.Label), "=")
	rule, err := a.Service.Jumps.PutRule(ctx, actorOf(ctx), w)
	return contract.PutJumpRule200JSONResponse(jumpRuleOf(rule)), err
}

func (a *api) RemoveJumpRule(
	ctx context.Context, r contract.RemoveJumpRuleRequestObject,
) (contract.RemoveJumpRuleResponseObject, error) {
	return contract.RemoveJumpRule204Response{}, a.Service.Jumps.RemoveRule(
		ctx, actorOf(ctx), r.Rule, given(r.Params.Reason),
	)
}
