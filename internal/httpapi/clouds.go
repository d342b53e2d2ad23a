package httpapi

import (
	"context"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/clouds"
)

func (a *api) ListClouds(
	ctx context.Context, _ contract.ListCloudsRequestObject,
) (contract.ListCloudsResponseObject, error) {
	list, err := a.Service.Clouds.List(ctx)
	return contract.ListClouds200JSONResponse(each(list, cloudOf)), err
}

func (a *api) AddCloud(ctx context.Context, r contract.AddCloudRequestObject) (contract.AddCloudResponseObject, error) {
	c, err := a.Service.Clouds.Add(ctx, actorOf(ctx), clouds.Wanted{
		Name: r.Body.Name, Adapter: r.Body.Adapter, Token: r.Body.Token, CA: r.Body.Ca, Reason: given(r.Body.Reason),
	})
	return contract.AddCloud201JSONResponse(cloudOf(c)), err
}

func (a *api) GetCloud(ctx context.Context, r contract.GetCloudRequestObject) (contract.GetCloudResponseObject, error) {
	c, err := a.Service.Clouds.Cloud(ctx, r.Cloud)
	return contract.GetCloud200JSONResponse(cloudOf(c)), err
}

func (a *api) ChangeCloud(
	ctx context.Context, r contract.ChangeCloudRequestObject,
) (contract.ChangeCloudResponseObject, error) {
	b, reason := r.Body, given(r.Body.Reason)
	c, err := a.Service.Clouds.Cloud(ctx, r.Cloud)
	if err == nil && (b.Adapter != nil || b.Token != nil || b.Ca != nil) {
		c, err = a.Service.Clouds.Change(ctx, actorOf(ctx), r.Cloud, clouds.Wanted{
			Adapter: given(b.Adapter), Token: given(b.Token), CA: b.Ca, Reason: reason,
		})
	}
	if err == nil && b.Paused != nil {
		do := a.Service.Clouds.Resume
		if *b.Paused {
			do = a.Service.Clouds.Pause
		}
		c, err = do(ctx, actorOf(ctx), r.Cloud, reason)
	}
	return contract.ChangeCloud200JSONResponse(cloudOf(c)), err
}

func (a *api) ForgetCloud(
	ctx context.Context, r contract.ForgetCloudRequestObject,
) (contract.ForgetCloudResponseObject, error) {
	left, err := a.Service.Clouds.Forget(ctx, actorOf(ctx), r.Cloud, given(r.Params.Reason))
	return contract.ForgetCloud200JSONResponse{Instances: left}, err
}

func (a *api) CheckCloud(
	ctx context.Context, r contract.CheckCloudRequestObject,
) (contract.CheckCloudResponseObject, error) {
	c, err := a.Service.Clouds.Check(ctx, r.Cloud)
	return contract.CheckCloud200JSONResponse(cloudOf(c)), err
}

func cloudOf(c record.Cloud) contract.Cloud {
	out := contract.Cloud{
		Name: c.Name, Adapter: c.Adapter, Given: c.Given, Capabilities: []string{}, Zones: []contract.Zone{},
		Instances: c.Instances, AskedAt: c.AskedAt, AnsweredAt: c.AnsweredAt, LatencyMs: c.LatencyMs, Failure: c.Failure,
		PausedAt: c.PausedAt, PausedBy: optional(c.PausedBy), PausedWhy: optional(c.PausedWhy), AddedAt: c.AddedAt,
		AddedBy: c.AddedBy,
	}
	if c.CA != "" {
		out.OwnCa = new(true)
	}
	if c.Said != nil {
		out.Says, out.Capabilities = c.Said.Name, c.Said.Capabilities
		out.Zones = each(c.Said.Zones, func(z record.CloudZone) contract.Zone { return contract.Zone(z) })
	}
	return out
}
