package httpapi

import (
	"context"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/inventory"
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
		Instances: c.Instances, NotRecorded: c.NotRecorded, AskedAt: c.AskedAt, AnsweredAt: c.AnsweredAt,
		LatencyMs: c.LatencyMs,
		Failure:   c.Failure,
		PausedAt:  c.PausedAt, PausedBy: optional(c.PausedBy), PausedWhy: optional(c.PausedWhy), AddedAt: c.AddedAt,
		AddedBy: c.AddedBy, ReadWantedAt: c.ReadWantedAt, ReadTriedAt: c.ReadTriedAt, ReadAt: c.ReadAt,
		ReadFailure: c.ReadFailure,
	}
	if c.ReadSaid != nil {
		out.ReadSaid = &contract.CloudReading{
			Instances: c.ReadSaid.Instances, New: c.ReadSaid.New, Changed: c.ReadSaid.Changed, Gone: c.ReadSaid.Gone,
			Seconds: c.ReadSaid.Seconds, Part: optional(c.ReadSaid.Part),
		}
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

func (a *api) ReadCloud(
	ctx context.Context, r contract.ReadCloudRequestObject,
) (contract.ReadCloudResponseObject, error) {
	c, err := a.Service.Inventory.Read(ctx, actorOf(ctx), r.Cloud, given(r.Params.AcceptGone))
	return contract.ReadCloud202JSONResponse(cloudOf(c)), err
}

func (a *api) ListCloudInstances(
	ctx context.Context, r contract.ListCloudInstancesRequestObject,
) (contract.ListCloudInstancesResponseObject, error) {
	q := r.Params
	p, err := pageFrom(q.After, q.Limit, q.Total)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Inventory.List(
		ctx, given(q.Cloud), record.CloudInstanceFilter{Text: given(q.Q), Recorded: q.Recorded}, p,
	)
	return contract.ListCloudInstances200JSONResponse{
		Items: each(l.Items, cloudInstanceOf), Next: optional(l.Next), Total: l.Total,
	}, err
}

func cloudInstanceOf(i record.CloudInstance) contract.CloudInstance {
	return contract.CloudInstance{
		CloudId: i.CloudID, Name: i.Name, State: contract.InstanceState(i.State), Image: i.Image, Size: i.Size, Zone: i.Zone,
		Region: i.Region, PrivateAddress: i.PrivateAddress, PublicAddress: i.PublicAddress, SshPort: i.SSHPort,
		StaticAddress: i.StaticAddress, KeyLabel: i.KeyLabel, LaunchedAt: i.LaunchedAt, FirstSeen: i.FirstSeen,
		LastSeen: i.LastSeen, RecordedAs: i.RecordedAs, Labels: &i.Labels, OtherAddresses: &i.OtherAddresses,
	}
}

func (a *api) BringIn(ctx context.Context, r contract.BringInRequestObject) (contract.BringInResponseObject, error) {
	b := r.Body
	out, err := a.Service.Inventory.BringIn(ctx, actorOf(ctx), inventory.Wanted{
		Cloud: b.Cloud, LoginUser: given(b.LoginUser), FirstContact: given(b.FirstContact), Labels: given(b.Labels),
		Via: given(b.Via), Reason: given(b.Reason), Preview: given(b.Preview),
		Instances: each(b.Instances, func(i contract.BringInInstance) inventory.WantedInstance {
			return inventory.WantedInstance{Is: i.Is, As: given(i.As), HostKey: given(i.HostKey), SameAs: given(i.SameAs)}
		}),
	})
	return contract.BringIn200JSONResponse(each(out, func(o inventory.Brought) contract.BroughtIn {
		one := contract.BroughtIn{
			Is: o.Is, Called: o.Called, CloudId: o.CloudID, Name: o.Name,
			Outcome: contract.BroughtInOutcome(o.Outcome), Login: o.Login,
			Address: o.Address, HostKeys: append([]string{}, o.HostKeys...), Learnt: o.Learnt,
		}
		if o.Problem != nil {
			one.Problem = new(contractProblem(o.Problem))
		}
		return one
	})), err
}
