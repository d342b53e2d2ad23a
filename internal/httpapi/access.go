package httpapi

import (
	"context"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/service"
	"plumlatch/internal/store"
)

// The calls about what stands on instances, what is wanted there, and what is proved.

func (a *api) GetReach(ctx context.Context, r contract.GetReachRequestObject) (contract.GetReachResponseObject, error) {
	q := r.Params
	p, err := pageFrom(q.After, q.Limit, nil)
	if err != nil {
		return nil, err
	}
	name, text, err := labelFrom(q.Label)
	if err != nil {
		return nil, err
	}
	page, err := a.Service.Reach(ctx, service.ReachWanted{
		ReachFilter: store.ReachFilter{Text: given(q.Q), Region: given(q.Region), LabelName: name, LabelText: text, Keeper: given(q.Keeper), Key: given(q.Key)},
		State:       string(given(q.State)), Drift: given(q.Drift), After: p.After, Limit: p.Limit,
	})
	counts := map[string]int{}
	for state, n := range page.Counts {
		counts[string(state)] = n
	}
	return contract.GetReach200JSONResponse{
		Items: each(page.Items, loginReachOf), Next: optional(page.Next), Total: page.Total, Counts: counts, Drifting: page.Drifting,
		FreshDays: int(a.Service.Fresh / (24 * time.Hour)),
	}, err
}

func (a *api) GetLogin(ctx context.Context, r contract.GetLoginRequestObject) (contract.GetLoginResponseObject, error) {
	l, err := a.Service.Login(ctx, r.Login)
	return contract.GetLogin200JSONResponse(loginOf(l)), err
}

func (a *api) ReportFiles(ctx context.Context, r contract.ReportFilesRequestObject) (contract.ReportFilesResponseObject, error) {
	files := each(r.Body.Files, func(f contract.SeenFile) service.SeenFile {
		return service.SeenFile{Path: f.Path, There: f.There, Content: f.Content, Mode: fs.FileMode(f.Mode) & fs.ModePerm}
	})
	l, err := a.Service.ReportFiles(ctx, actorOf(ctx), r.Login, files, r.Body.HostKey)
	return contract.ReportFiles200JSONResponse(loginOf(l)), err
}

func (a *api) ListVersions(ctx context.Context, r contract.ListVersionsRequestObject) (contract.ListVersionsResponseObject, error) {
	versions, err := a.Service.Versions(ctx, r.Login)
	return contract.ListVersions200JSONResponse(each(versions, versionOf)), err
}

func (a *api) ReportEntry(ctx context.Context, r contract.ReportEntryRequestObject) (contract.ReportEntryResponseObject, error) {
	l, err := a.Service.ReportEntry(ctx, actorOf(ctx), r.Login, r.Body.Key, r.Body.HostKey)
	return contract.ReportEntry200JSONResponse(loginOf(l)), err
}

func (a *api) StartSweep(ctx context.Context, r contract.StartSweepRequestObject) (contract.StartSweepResponseObject, error) {
	name, text, err := labelFrom(r.Body.Label)
	if err != nil {
		return nil, err
	}
	w, err := a.Service.StartSweep(ctx, actorOf(ctx), service.SweepWanted{Instances: given(r.Body.Instances), LabelName: name, LabelText: text, All: given(r.Body.All)})
	return contract.StartSweep202JSONResponse(sweepOf(w)), err
}

func (a *api) GetSweep(ctx context.Context, r contract.GetSweepRequestObject) (contract.GetSweepResponseObject, error) {
	w, err := a.Service.Sweep(ctx, r.Sweep)
	return contract.GetSweep200JSONResponse(sweepOf(w)), err
}

func (a *api) ListSweepItems(ctx context.Context, r contract.ListSweepItemsRequestObject) (contract.ListSweepItemsResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, nil)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.SweepItems(ctx, r.Sweep, string(given(r.Params.State)), p)
	return contract.ListSweepItems200JSONResponse{Items: each(l.Items, func(i store.SweepItem) contract.SweepItem {
		return contract.SweepItem{Login: i.OSUser + "@" + i.InstanceName, Instance: i.InstanceName, State: contract.SweepItemState(i.State), Outcome: i.Outcome}
	}), Next: optional(l.Next)}, err
}

func (a *api) AddGrant(ctx context.Context, r contract.AddGrantRequestObject) (contract.AddGrantResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	b := r.Body
	g, err := a.Service.AddGrant(ctx, actorOf(ctx), once, service.GrantWanted{Key: b.Key, Login: b.Login, Until: b.Until, Reason: given(b.Reason), FromHere: given(b.FromHere)})
	return contract.AddGrant202JSONResponse(grantOf(g)), err
}

func (a *api) WithdrawGrant(ctx context.Context, r contract.WithdrawGrantRequestObject) (contract.WithdrawGrantResponseObject, error) {
	b := r.Body
	g, err := a.Service.WithdrawGrant(ctx, actorOf(ctx), service.Withdrawal{Key: b.Key, Login: b.Login, Reason: given(b.Reason), Anyway: given(b.Anyway), FromHere: given(b.FromHere)})
	return contract.WithdrawGrant202JSONResponse(grantOf(g)), err
}

func (a *api) GetLoss(ctx context.Context, r contract.GetLossRequestObject) (contract.GetLossResponseObject, error) {
	changes, err := a.Service.Loss(ctx, r.Key)
	return contract.GetLoss200JSONResponse(each(changes, func(c service.LossChange) contract.LossChange {
		return contract.LossChange{Login: c.Login, Instance: c.Instance, Before: contract.ReachState(c.Before), After: contract.ReachState(c.After)}
	})), err
}

func (a *api) MarkLost(ctx context.Context, r contract.MarkLostRequestObject) (contract.MarkLostResponseObject, error) {
	k, err := a.Service.MarkLost(ctx, actorOf(ctx), r.Key, r.Body.Reason)
	return contract.MarkLost200JSONResponse(keyOf(k)), err
}

func (a *api) ChallengeKey(ctx context.Context, r contract.ChallengeKeyRequestObject) (contract.ChallengeKeyResponseObject, error) {
	c, err := a.Service.Challenge(ctx, actorOf(ctx), r.Key)
	return contract.ChallengeKey201JSONResponse{Id: c.ID, Text: c.Text, Namespace: signature.Namespace, ExpiresAt: c.ExpiresAt}, err
}

func (a *api) ProveKey(ctx context.Context, r contract.ProveKeyRequestObject) (contract.ProveKeyResponseObject, error) {
	k, err := a.Service.Prove(ctx, actorOf(ctx), r.Key, r.Body.Challenge, r.Body.Signature)
	return contract.ProveKey200JSONResponse(keyOf(k)), err
}

func (a *api) AdoptInstance(ctx context.Context, r contract.AdoptInstanceRequestObject) (contract.AdoptInstanceResponseObject, error) {
	b := r.Body
	i, err := a.Service.Adopt(ctx, actorOf(ctx), service.Adopted{Name: b.Name, Address: b.Address, Port: given(b.Port), LoginUser: b.LoginUser, HostKeys: b.HostKeys, Learnt: given(b.Learnt), Labels: given(b.Labels)})
	return contract.AdoptInstance201JSONResponse(instanceOf(i)), err
}

func (a *api) ReleaseInstance(ctx context.Context, r contract.ReleaseInstanceRequestObject) (contract.ReleaseInstanceResponseObject, error) {
	return contract.ReleaseInstance204Response{}, a.Service.Release(ctx, actorOf(ctx), r.Instance, given(r.Params.Reason))
}

func (a *api) AddSteward(ctx context.Context, r contract.AddStewardRequestObject) (contract.AddStewardResponseObject, error) {
	g, err := a.Service.AddSteward(ctx, actorOf(ctx), r.Instance)
	return contract.AddSteward201JSONResponse(grantOf(g)), err
}

func loginReachOf(l service.LoginReach) contract.LoginReach {
	return contract.LoginReach{
		Login: l.OSUser + "@" + l.Instance, OsUser: l.OSUser, Instance: l.Instance, Region: l.Region, Reach: contract.ReachState(l.Standing.State),
		Keepers: l.Keepers, InPlace: l.InPlace, Missing: l.Missing, Ungranted: l.Ungranted, Strangers: l.Standing.Strangers, Steward: l.Steward,
		SweptAt: l.SweptAt, SweepError: optional(l.SweepError), Why: l.Why, Next: optional(l.Next),
	}
}

func loginOf(l service.Login) contract.Login {
	return contract.Login{
		Reach: loginReachOf(l.LoginReach), Openers: each(l.Openers, openingOf), Strangers: each(l.Strangers, strangerOf), Connection: connectionOf(l.Of, l.OSUser),
		SweptBy: optional(l.SweptBy), Label: optional(l.Label),
		Files: each(l.Files, func(v store.FileVersion) contract.FileVersion { return versionOf(service.Version{FileVersion: v}) }),
	}
}

func strangerOf(g store.Stranger) contract.Stranger {
	k := keypair.Public{Algorithm: g.Algorithm, Blob: g.Blob, Comment: g.Comment}
	return contract.Stranger{
		Algorithm: g.Algorithm, Sha256: keypair.FormatSHA256(g.SHA256), Comment: g.Comment, Line: k.Line(), Limits: optional(g.Limits),
		FirstSeenAt: g.FirstSeenAt, SeenAt: g.SeenAt,
	}
}

func versionOf(v service.Version) contract.FileVersion {
	out := contract.FileVersion{
		Path: v.Path, There: v.There, Content: strings.ToValidUTF8(string(v.Content), "\ufffd"), Mode: fmt.Sprintf("%04o", v.Mode), Method: v.Method,
		SeenAt: v.SeenAt, SeenUntil: v.SeenUntil, Came: v.Came, Went: v.Went,
	}
	if out.Came == nil {
		out.Came = []string{}
	}
	if out.Went == nil {
		out.Went = []string{}
	}
	return out
}

func sweepOf(w service.SweepState) contract.Sweep {
	out := contract.Sweep{Id: w.ID, RequestedBy: w.RequestedBy, CreatedAt: w.CreatedAt, EndedAt: w.EndedAt, Waiting: w.Counts["waiting"], AsBefore: w.Counts["as before"], Changed: w.Counts["changed"], Failed: w.Counts["failed"]}
	out.Total = out.Waiting + out.AsBefore + out.Changed + out.Failed
	return out
}

func grantOf(g service.Granted) contract.Grant {
	out := contract.Grant{Key: g.Key.Name, Login: g.Name, Line: g.Line, Connection: connectionOf(g.Instance, g.Login.OSUser)}
	if g.Run != nil {
		out.Run = new(runOf(*g.Run))
	}
	return out
}
