package httpapi

import (
	"context"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/glance"
)

func (a *api) GetGlance(
	ctx context.Context, r contract.GetGlanceRequestObject,
) (contract.GetGlanceResponseObject, error) {
	days := 90
	if r.Params.Days != nil {
		days = *r.Params.Days
	}
	g, err := a.Service.Glance.Glance(ctx, actorOf(ctx), days)
	return contract.GetGlance200JSONResponse{
		Since:   g.Since,
		Looked:  g.Looked,
		Changed: g.Changed,
		Pending: each(g.Pending, func(p glance.Pending) contract.PendingThings {
			return contract.PendingThings{Kind: contract.PendingKind(p.Kind), Count: p.Count, Names: p.Names}
		}),
		Changes: each(g.Changes, func(c record.ReachChange) contract.ReachChange {
			out := contract.ReachChange{
				Login: fleet.LoginName(c.OSUser, c.InstanceName), After: contract.ReachState(c.After), At: c.At,
			}
			if c.Before != "" {
				out.Before = new(contract.ReachState(c.Before))
			}
			return out
		}),
		History: each(g.History, func(m reach.Moment) contract.ReachMoment {
			counts := map[string]int{}
			for state, n := range m.Counts {
				counts[string(state)] = n
			}
			return contract.ReachMoment{At: m.At, Counts: counts}
		}),
	}, err
}

func (a *api) AddLook(ctx context.Context, _ contract.AddLookRequestObject) (contract.AddLookResponseObject, error) {
	return contract.AddLook204Response{}, a.Service.Glance.Look(ctx, actorOf(ctx))
}
