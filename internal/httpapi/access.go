package httpapi

import (
	"context"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/grants"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reach"
	seen "plumlatch/internal/core/reading"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/settle"
)

// The calls about what is on instances, what is wanted there, and what is proved.

func (a *api) GetReach(ctx context.Context, r contract.GetReachRequestObject) (contract.GetReachResponseObject, error) {
	q := r.Params
	p, err := pageFrom(q.After, q.Limit, nil)
	if err != nil {
		return nil, err
	}
	filter, err := reachFilter(q.Q, q.Region, q.Label, q.Holder, q.Key)
	if err != nil {
		return nil, err
	}
	page, err := a.Service.Access.Reach(ctx, access.ReachWanted{
		ReachFilter: filter, State: string(given(q.State)), Drift: given(q.Drift), Worry: given(q.Worry),
		After: p.After, Limit: p.Limit,
	})
	counts := map[string]int{}
	for state, n := range page.Counts {
		counts[string(state)] = n
	}
	return contract.GetReach200JSONResponse{
		Items: each(
			page.Items, loginReachOf,
		), Next: optional(page.Next), Total: page.Total, Counts: counts, Drifting: page.Drifting,
		FreshDays: int(a.Service.Access.Fresh / (24 * time.Hour)), Asked: page.Asked, Worrying: page.Worrying,
		Overdue: page.Overdue, Charters: optional(page.Charters),
	}, err
}

func (a *api) ListDrift(
	ctx context.Context, r contract.ListDriftRequestObject,
) (contract.ListDriftResponseObject, error) {
	q := r.Params
	p, err := pageFrom(q.After, q.Limit, nil)
	if err != nil {
		return nil, err
	}
	f := record.DifferenceFilter{Status: reach.Status(given(q.Status))}
	if f.LabelName, f.LabelText, err = labelFrom(q.Label); err != nil {
		return nil, err
	}
	f.OSUser, f.Instance = splitLogin(given(q.Login))
	l, err := a.Service.Settle.Differences(ctx, f, p)
	return contract.ListDrift200JSONResponse{Items: each(l.Items, differenceOf), Next: optional(l.Next)}, err
}

// splitLogin splits user@instance; an instance alone has no user.
func splitLogin(login string) (user, instance string) {
	if user, instance, ok := strings.Cut(login, "@"); ok {
		return user, instance
	}
	return "", login
}

func differenceOf(d settle.Difference) contract.Difference {
	return contract.Difference{
		Login:    d.OSUser + "@" + d.InstanceName,
		Instance: d.InstanceName,
		Status:   contract.Status(d.Status),
		Name:     d.Name,
		Sha256:   keypair.FormatSHA256(d.SHA256),
		Holder:   d.HolderName,
		Since:    d.Since, SeenAt: d.SeenAt, NoMeans: optional(d.NoMeans),
		Choices: each(d.Choices, func(c reach.Choice) contract.Choice { return contract.Choice(c) }),
	}
}

func (a *api) SettleDrift(
	ctx context.Context, r contract.SettleDriftRequestObject,
) (contract.SettleDriftResponseObject, error) {
	choices := each(r.Body.Choices, func(c contract.ChosenDifference) settle.Choice {
		return settle.Choice{
			Login:  c.Login,
			SHA256: c.Sha256,
			Status: reach.Status(c.Status),
			Choice: reach.Choice(c.Choice),
			Name:   given(c.Name),
			Holder: given(c.Holder),
		}
	})
	settled, runs, err := a.Service.Settle.Settle(ctx, actorOf(ctx), choices, given(r.Body.Reason))
	return contract.SettleDrift202JSONResponse{
		Items: each(settled, func(d settle.Settled) contract.SettledDifference {
			out := contract.SettledDifference{
				Login:  d.Login,
				Sha256: d.SHA256,
				Name:   d.Name,
				Choice: contract.Choice(d.Choice.Choice),
				State:  contract.SettledDifferenceState(d.State),
				Detail: optional(d.Detail),
			}
			out.Run = optional(d.Run)
			return out
		}),
		Runs: each(runs, runOf),
	}, err
}

func (a *api) CompareVersions(
	ctx context.Context, r contract.CompareVersionsRequestObject,
) (contract.CompareVersionsResponseObject, error) {
	v, err := a.Service.Access.Compare(ctx, r.Login, r.Params.From, r.Params.To)
	return contract.CompareVersions200JSONResponse(versionOf(v)), err
}

func (a *api) ListGrants(
	ctx context.Context, r contract.ListGrantsRequestObject,
) (contract.ListGrantsResponseObject, error) {
	q := r.Params
	p, err := pageFrom(q.After, q.Limit, q.Total)
	if err != nil {
		return nil, err
	}
	f := record.GrantFilter{Key: given(q.Key), Holder: given(q.Holder), Ended: given(q.Ended), WithEnd: given(q.Until)}
	if f.LabelName, f.LabelText, err = labelFrom(q.Label); err != nil {
		return nil, err
	}
	f.OSUser, f.Instance = splitLogin(given(q.Login))
	f.Overdue, f.Own = given(q.Overdue), q.Own
	l, err := a.Service.Access.Grants(ctx, f, p)
	return contract.ListGrants200JSONResponse{Items: each(l.Items, func(g record.GrantRecord) contract.GrantRecord {
		o := openingOf(g.Opening)
		status := &o.Status
		if g.WithdrawnAt != nil {
			status = nil
		}
		return contract.GrantRecord{
			Key:         o.Key,
			Login:       o.Login,
			Instance:    o.Instance,
			Status:      status,
			GrantedAt:   *g.GrantedAt,
			GrantedBy:   given(g.GrantedBy),
			Until:       g.Until,
			Reason:      optional(given(g.Reason)),
			WithdrawnAt: g.WithdrawnAt,
			WithdrawnBy: optional(given(g.WithdrawnBy)),
			Overdue:     optional(a.Service.Access.Overdue(g)),
			EndBy:       endByOf(g.Until, g.EndBy),
			EndProblem:  optional(g.EndProblem),
			EndRefused:  optional(g.EndProblem != ""),
			LineEndsAt:  g.ExpiresAt,
			Steward:     o.Steward,
			Charter:     optional(g.Charter),
			CharterAt:   optional(g.CharterAt),
			Limits:      optional(g.GrantLimits),
		}
	}), Next: optional(l.Next), Total: l.Total}, err
}

func (a *api) ListProofsDue(
	ctx context.Context, r contract.ListProofsDueRequestObject,
) (contract.ListProofsDueResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, nil)
	if err != nil {
		return nil, err
	}
	within := 7
	if r.Params.Within != nil {
		within = *r.Params.Within
	}
	l, err := a.Service.Access.ProofsDue(ctx, actorOf(ctx), given(r.Params.Holder), within, p)
	return contract.ListProofsDue200JSONResponse{Items: each(l.Items, func(d access.ProofDue) contract.ProofDue {
		return contract.ProofDue{
			Key: contract.KeyRef{
				Name:   d.KeyName,
				Type:   d.KeyType,
				Bits:   d.KeyBits,
				Sha256: keypair.FormatSHA256(d.KeySHA256),
				Holder: &d.HolderName,
			},
			HolderTitle: optional(
				d.HolderTitle,
			), State: contract.ProofDueState(d.State), ProvedAt: d.ProvedAt, StaleAt: d.StaleAt, Logins: d.Logins,
		}
	}), Next: optional(l.Next)}, err
}

func (a *api) ReadMachineList(
	ctx context.Context, r contract.ReadMachineListRequestObject,
) (contract.ReadMachineListResponseObject, error) {
	format, list, err := a.Service.Fleet.ReadMachines(ctx, r.Body.Text, given(r.Body.LoginUser))
	return contract.ReadMachineList200JSONResponse{
		Format: contract.MachineListReadingFormat(format),
		Machines: each(list, func(m fleet.ListedMachine) contract.ListedMachine {
			out := contract.ListedMachine{
				Line:      m.Line,
				Name:      optional(m.Name),
				Address:   optional(m.Address),
				Port:      optional(m.Port),
				LoginUser: optional(m.User),
				Refused:   optional(m.Refused),
				KnownAs:   optional(m.KnownAs),
				HostKey:   optional(m.HostKey),
				Via:       optional(m.Via),
				LoginOf:   optional(m.LoginOf),
			}
			if len(m.Logins) > 0 {
				out.Logins = &m.Logins
			}
			if m.Labels != nil {
				out.Labels = &m.Labels
			}
			return out
		}),
	}, err
}

func (a *api) ReadHostKeys(
	ctx context.Context, r contract.ReadHostKeysRequestObject,
) (contract.ReadHostKeysResponseObject, error) {
	keys, err := a.Service.Fleet.ShownHostKeys(ctx, r.Body.Address, given(r.Body.Port), given(r.Body.Via))
	return contract.ReadHostKeys200JSONResponse(each(keys, func(k keypair.Public) contract.ShownHostKey {
		return contract.ShownHostKey{Algorithm: k.Algorithm, Sha256: keypair.FormatSHA256(k.SHA256()), Line: k.Line()}
	})), err
}

func (a *api) GetApproach(
	ctx context.Context, r contract.GetApproachRequestObject,
) (contract.GetApproachResponseObject, error) {
	from := given(r.Params.From)
	if from == "" {
		from = requestOf(ctx).address
	}
	p, err := a.Service.Fleet.Approach(ctx, r.Instance, from)
	out := contract.GetApproach200JSONResponse{
		From:            p.From,
		CloudAsked:      p.Asked,
		State:           optional(contract.InstanceState(p.State)),
		Address:         optional(p.Address),
		RecordedAddress: optional(p.Instance.PublicAddress),
		AddressBefore:   optional(p.Instance.AddressBefore), AddressChangedAt: p.Instance.AddressChangedAt,
		Rules: each(p.Rules, func(f fleet.FirewallRule) contract.FirewallRule {
			return contract.FirewallRule{Source: f.Source, Port: f.Port, Admits: f.Admits}
		}),
	}
	if p.AdmittedBy != nil {
		out.AdmittedBy = &p.AdmittedBy.Source
	}
	return out, err
}

func (a *api) GetServerFault(
	ctx context.Context, r contract.GetServerFaultRequestObject,
) (contract.GetServerFaultResponseObject, error) {
	asked, fault, err := a.Service.Fleet.ServerFault(ctx, r.Instance)
	return contract.GetServerFault200JSONResponse{Asked: asked, Fault: optional(fault)}, err
}

func (a *api) GetLogin(ctx context.Context, r contract.GetLoginRequestObject) (contract.GetLoginResponseObject, error) {
	l, err := a.Service.Access.Login(ctx, r.Login)
	if err != nil {
		return nil, err
	}
	out := loginOf(l)
	no, err := a.Service.Access.WhyNoMeans(ctx, l.ReachLogin)
	out.NoMeans = optional(no)
	return contract.GetLogin200JSONResponse(out), err
}

func (a *api) ReportFiles(
	ctx context.Context, r contract.ReportFilesRequestObject,
) (contract.ReportFilesResponseObject, error) {
	files := each(r.Body.Files, func(f contract.SeenFile) reading.SeenFile {
		return reading.SeenFile{Path: f.Path, There: f.There, Content: f.Content, Mode: fs.FileMode(f.Mode) & fs.ModePerm}
	})
	var folders []record.Folder
	for _, f := range given(r.Body.Folders) {
		mode, err := strconv.ParseUint(f.Mode, 8, 32)
		if err != nil {
			return nil, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-folders",
				Field:  "folders",
				Detail: fmt.Sprintf("the mode %q of %q is not octal", f.Mode, f.Path),
			}
		}
		folders = append(folders, record.Folder{Path: f.Path, Mode: int(mode & uint64(fs.ModePerm))})
	}
	seen := reading.Seen{Files: files, Folders: folders, Server: serverReported(r.Body.Server)}
	l, err := a.Service.Access.ReportFiles(
		ctx, actorOf(ctx), r.Login, seen, machineReported(r.Body.Machine), r.Body.HostKey,
	)
	return contract.ReportFiles200JSONResponse(loginOf(l)), err
}

func (a *api) ListVersions(
	ctx context.Context, r contract.ListVersionsRequestObject,
) (contract.ListVersionsResponseObject, error) {
	versions, err := a.Service.Access.Versions(ctx, r.Login)
	return contract.ListVersions200JSONResponse(each(versions, versionOf)), err
}

func (a *api) ReportEntry(
	ctx context.Context, r contract.ReportEntryRequestObject,
) (contract.ReportEntryResponseObject, error) {
	l, err := a.Service.Access.ReportEntry(ctx, actorOf(ctx), r.Login, access.ReportedEntry{
		Key:       r.Body.Key,
		HostKey:   r.Body.HostKey,
		Challenge: r.Body.Challenge,
		Signature: r.Body.Signature,
	})
	return contract.ReportEntry200JSONResponse(loginOf(l)), err
}

func (a *api) StartSweep(
	ctx context.Context, r contract.StartSweepRequestObject,
) (contract.StartSweepResponseObject, error) {
	name, text, err := labelFrom(r.Body.Label)
	if err != nil {
		return nil, err
	}
	w, err := a.Service.Reading.StartSweep(
		ctx, actorOf(ctx),
		reading.SweepWanted{Instances: given(r.Body.Instances), LabelName: name, LabelText: text, All: given(r.Body.All)},
	)
	return contract.StartSweep202JSONResponse(sweepOf(w)), err
}

func (a *api) GetSweep(ctx context.Context, r contract.GetSweepRequestObject) (contract.GetSweepResponseObject, error) {
	w, err := a.Service.Reading.Sweep(ctx, r.Sweep)
	return contract.GetSweep200JSONResponse(sweepOf(w)), err
}

func (a *api) ListSweepItems(
	ctx context.Context, r contract.ListSweepItemsRequestObject,
) (contract.ListSweepItemsResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, nil)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Reading.SweepItems(ctx, r.Sweep, seen.State(given(r.Params.State)), p)
	return contract.ListSweepItems200JSONResponse{Items: each(l.Items, func(i record.SweepItem) contract.SweepItem {
		return contract.SweepItem{
			Login:    i.OSUser + "@" + i.InstanceName,
			Instance: i.InstanceName,
			State:    contract.SweepItemState(i.State),
			Outcome:  i.Outcome,
			InPlace:  i.InPlace, Missing: i.Missing, Ungranted: i.Ungranted, Strangers: i.Strangers,
			OtherWays: &i.OtherWays, Unread: &i.Unread,
		}
	}), Next: optional(l.Next)}, err
}

func (a *api) AddGrant(ctx context.Context, r contract.AddGrantRequestObject) (contract.AddGrantResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	b := r.Body
	g, err := a.Service.Access.AddGrant(
		ctx, actorOf(ctx), once,
		access.GrantWanted{
			Key:      b.Key,
			Login:    b.Login,
			Until:    b.Until,
			EndBy:    grants.EndBy(given(b.EndBy)),
			Endless:  given(b.Endless),
			Reason:   given(b.Reason),
			FromHere: given(b.FromHere),
			Limits:   b.Limits,
		},
	)
	return contract.AddGrant202JSONResponse(grantOf(g)), err
}

func (a *api) WithdrawGrant(
	ctx context.Context, r contract.WithdrawGrantRequestObject,
) (contract.WithdrawGrantResponseObject, error) {
	b := r.Body
	g, err := a.Service.Access.WithdrawGrant(ctx, actorOf(ctx), access.Withdrawal{
		Key:      b.Key,
		Login:    b.Login,
		Reason:   given(b.Reason),
		Anyway:   given(b.Anyway),
		FromHere: given(b.FromHere),
	})
	return contract.WithdrawGrant202JSONResponse(grantOf(g)), err
}

func (a *api) GetLoss(ctx context.Context, r contract.GetLossRequestObject) (contract.GetLossResponseObject, error) {
	lost, err := a.Service.Access.Loss(ctx, given(r.Params.Key), given(r.Params.Holder))
	return contract.GetLoss200JSONResponse{
		Keys: lost.Keys,
		Changes: each(lost.Changes, func(c access.LossChange) contract.LossChange {
			return contract.LossChange{
				Login:    c.Login,
				Instance: c.Instance,
				Before:   contract.ReachState(c.Before),
				After:    contract.ReachState(c.After),
			}
		}),
		Behind: new(each(lost.Behind, func(b access.LossBehind) contract.LossBehind {
			return contract.LossBehind{
				JumpHost: b.JumpHost, After: contract.ReachState(b.After), Instances: len(b.Instances),
				Names: b.Instances[:min(len(b.Instances), 10)],
			}
		})),
	}, err
}

func (a *api) MarkLost(ctx context.Context, r contract.MarkLostRequestObject) (contract.MarkLostResponseObject, error) {
	k, err := a.Service.Access.MarkLost(ctx, actorOf(ctx), r.Key, r.Body.Reason)
	return contract.MarkLost200JSONResponse(keyOf(k)), err
}

func (a *api) MarkFound(
	ctx context.Context, r contract.MarkFoundRequestObject,
) (contract.MarkFoundResponseObject, error) {
	k, err := a.Service.Access.MarkFound(ctx, actorOf(ctx), r.Key, r.Body.Reason)
	return contract.MarkFound200JSONResponse(keyOf(k)), err
}

func (a *api) ChallengeKey(
	ctx context.Context, r contract.ChallengeKeyRequestObject,
) (contract.ChallengeKeyResponseObject, error) {
	var entry *access.EntryFor
	namespace := signature.Namespace
	if r.Body != nil {
		entry, namespace = &access.EntryFor{Login: r.Body.Login, HostKey: r.Body.HostKey}, signature.EntryNamespace
	}
	c, err := a.Service.Access.Challenge(ctx, actorOf(ctx), r.Key, entry)
	return contract.ChallengeKey201JSONResponse{Id: c.ID, Text: c.Text, Namespace: namespace, ExpiresAt: c.ExpiresAt}, err
}

func (a *api) ProveKey(ctx context.Context, r contract.ProveKeyRequestObject) (contract.ProveKeyResponseObject, error) {
	k, err := a.Service.Access.Prove(ctx, actorOf(ctx), r.Key, r.Body.Challenge, r.Body.Signature)
	return contract.ProveKey200JSONResponse(keyOf(k)), err
}

func (a *api) AdoptInstance(
	ctx context.Context, r contract.AdoptInstanceRequestObject,
) (contract.AdoptInstanceResponseObject, error) {
	b := r.Body
	i, err := a.Service.Fleet.Adopt(ctx, actorOf(ctx), fleet.Adopted{
		Name:      b.Name,
		Address:   b.Address,
		Port:      given(b.Port),
		LoginUser: b.LoginUser,
		HostKeys:  b.HostKeys,
		Learnt:    given(b.Learnt),
		Labels:    given(b.Labels),
		Via:       given(b.Via),
		Logins:    given(b.Logins),
	})
	return contract.AdoptInstance201JSONResponse(instanceOf(i)), err
}

func (a *api) ReleaseInstance(
	ctx context.Context, r contract.ReleaseInstanceRequestObject,
) (contract.ReleaseInstanceResponseObject, error) {
	return contract.ReleaseInstance204Response{}, a.Service.Fleet.Release(
		ctx, actorOf(ctx), r.Instance, given(r.Params.Reason),
	)
}

func (a *api) AddSteward(
	ctx context.Context, r contract.AddStewardRequestObject,
) (contract.AddStewardResponseObject, error) {
	account := ""
	if r.Body != nil {
		account = given(r.Body.Account)
	}
	g, err := a.Service.Access.AddSteward(ctx, actorOf(ctx), r.Instance, account)
	return contract.AddSteward201JSONResponse(grantOf(g)), err
}

func (a *api) GetSteward(
	ctx context.Context, r contract.GetStewardRequestObject,
) (contract.GetStewardResponseObject, error) {
	s, err := a.Service.Access.StewardOf(ctx, r.Instance)
	return contract.GetSteward200JSONResponse(stewardOf(s)), err
}

func stewardOf(s access.Steward) contract.Steward {
	return contract.Steward{
		Key: s.Key.Name, Login: s.Login, OwnAccount: s.Own, Changes: append([]string{}, s.Changes...),
	}
}

func loginReachOf(l access.LoginReach) contract.LoginReach {
	return contract.LoginReach{
		Login:      l.OSUser + "@" + l.Instance,
		OsUser:     l.OSUser,
		Instance:   l.Instance,
		Region:     l.Region,
		Reach:      contract.ReachState(l.Standing.State),
		Holders:    l.Holders,
		InPlace:    l.InPlace,
		Missing:    l.Missing,
		Ungranted:  l.Ungranted,
		Strangers:  l.Standing.Strangers,
		OtherWays:  &l.Beyond.OtherWays,
		Unread:     &l.Beyond.Unread,
		Steward:    l.Steward,
		OwnAccount: &l.Standing.Own,
		SweptAt:    l.SweptAt,
		SweepError: optional(l.SweepError),
		Why:        l.Why,
		Next:       optional(l.Next),
		Worry:      optional(l.Worry),
	}
}

func loginOf(l access.Login) contract.Login {
	return contract.Login{
		Reach:  loginReachOf(l.LoginReach),
		Server: loginServerOf(l.Server),
		Also:   l.Also(),
		Ways: new(each(l.Ways, func(w seen.Way) contract.Way {
			return contract.Way{
				Kind: contract.WayKind(w.Kind), Name: optional(w.Name), About: w.Text, Accepted: optional(w.Accepted),
			}
		})),
		Openers:    each(l.Openers, openingOf),
		Strangers:  each(l.Strangers, strangerOf),
		Connection: connectionOf(l.Of, l.OSUser),
		FoundAt:    l.FoundAt,
		SweptBy:    optional(l.SweptBy), Label: optional(l.Label),
		Folders: each(l.Folders, func(f record.Folder) contract.Folder {
			return contract.Folder{Path: f.Path, Mode: fmt.Sprintf("%04o", f.Mode)}
		}),
		Files: each(
			l.Files,
			func(v record.FileVersion) contract.FileVersion { return versionOf(access.Version{FileVersion: v}) },
		),
	}
}

func (a *api) AcceptWay(
	ctx context.Context, r contract.AcceptWayRequestObject,
) (contract.AcceptWayResponseObject, error) {
	done, err := a.Service.Access.AcceptWay(ctx, actorOf(ctx), access.WayWanted{
		Way: r.Body.Way, Logins: r.Body.Logins, Reason: given(r.Body.Reason), Withdraw: given(r.Body.Withdraw),
	})
	return contract.AcceptWay200JSONResponse{
		Way: r.Body.Way, Logins: append([]string{}, done.Logins...), Changed: done.Changed,
	}, err
}

func (a *api) GetInstanceAccess(
	ctx context.Context, r contract.GetInstanceAccessRequestObject,
) (contract.GetInstanceAccessResponseObject, error) {
	in, err := a.Service.Access.InstanceAccess(ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	c := in.Beyond()
	var steward *contract.Steward
	if in.Steward != nil {
		steward = new(stewardOf(*in.Steward))
	}
	return contract.GetInstanceAccess200JSONResponse{
		Steward: steward,
		Beyond: &contract.Beyond{
			Missing: c.Missing, Ungranted: c.Ungranted, Strangers: c.Strangers, OtherWays: c.OtherWays, Unread: c.Unread,
		},
		Instance:    in.Instance,
		Logins:      each(in.Logins, loginOf),
		LoginsTotal: in.Total,
		Machine:     machineOf(in.Machine),
		Whole:       in.Whole(),
	}, nil
}

func machineOf(m *record.MachineReading) contract.MachineReading {
	if m == nil {
		return contract.MachineReading{Unread: []contract.UnreadAccount{}, Gone: []string{}}
	}
	return contract.MachineReading{
		ReadAt:   &m.ReadAt,
		ReadBy:   optional(m.Method),
		Rights:   optional(contract.MachineReadingRights(m.Machine.Rights)),
		Accounts: m.Machine.Accounts,
		NoWay:    m.Machine.NoWay,
		Unread: each(m.Machine.Unread, func(u seen.UnreadAccount) contract.UnreadAccount {
			return contract.UnreadAccount{User: u.User, Why: u.Why}
		}),
		UnreadTotal: m.Machine.UnreadCount(),
		Gone:        full(m.Machine.Gone),
		Remedy:      optional(m.Machine.Remedy),
	}
}

func (a *api) AddLogin(ctx context.Context, r contract.AddLoginRequestObject) (contract.AddLoginResponseObject, error) {
	l, err := a.Service.Access.AddLogin(ctx, actorOf(ctx), r.Body.Login)
	if err != nil {
		return nil, err
	}
	return contract.AddLogin201JSONResponse(loginOf(l)), nil
}

func (a *api) ForgetLogin(
	ctx context.Context, r contract.ForgetLoginRequestObject,
) (contract.ForgetLoginResponseObject, error) {
	return contract.ForgetLogin204Response{}, a.Service.Access.ForgetLogin(ctx, actorOf(ctx), r.Login)
}

func strangerOf(g record.Stranger) contract.Stranger {
	k := keypair.Public{Algorithm: g.Algorithm, Blob: g.Blob, Comment: g.Comment}
	return contract.Stranger{
		Algorithm:   g.Algorithm,
		Sha256:      keypair.FormatSHA256(g.SHA256),
		Comment:     g.Comment,
		Line:        k.Line(),
		Limits:      optional(g.Limits),
		FirstSeenAt: g.FirstSeenAt, SeenAt: g.SeenAt,
	}
}

func versionOf(v access.Version) contract.FileVersion {
	out := contract.FileVersion{
		Id:      v.ID,
		Path:    v.Path,
		There:   v.There,
		Content: strings.ToValidUTF8(string(v.Content), "\ufffd"),
		Bytes:   v.Bytes,
		Exposed: each(v.Exposed, exposedOf),
		Mode:    fmt.Sprintf("%04o", v.Mode),
		Method:  v.Method,
		SeenAt:  v.SeenAt, SeenUntil: v.SeenUntil, Came: v.Came, Went: v.Went,
	}
	if out.Came == nil {
		out.Came = []string{}
	}
	if out.Went == nil {
		out.Went = []string{}
	}
	return out
}

func exposedOf(x authorizedkeys.Exposed) contract.Exposed {
	return contract.Exposed{Line: x.Line, Lines: x.Lines, Sha256: x.SHA256, Public: optional(x.Public)}
}

func sweepOf(w reading.SweepState) contract.Sweep {
	out := contract.Sweep{
		Id:          w.ID,
		RequestedBy: w.RequestedBy,
		CreatedAt:   w.CreatedAt,
		EndedAt:     w.EndedAt,
		Waiting:     w.Counts[seen.Waiting],
		AsBefore:    w.Counts[seen.AsBefore],
		Changed:     w.Counts[seen.Changed],
		Failed:      w.Counts[seen.Failed],
	}
	out.Total = out.Waiting + out.AsBefore + out.Changed + out.Failed
	return out
}

// endByOf is by what a grant that has an end ends.
func endByOf(until *time.Time, by grants.EndBy) *contract.EndBy {
	if until == nil {
		return nil
	}
	return new(contract.EndBy(by))
}

func grantOf(g access.Granted) contract.Grant {
	out := contract.Grant{
		Key:        g.Key.Name,
		Login:      g.Name,
		Line:       g.Line,
		Connection: connectionOf(g.Instance, g.Login.OSUser),
		Until:      g.Until,
		EndBy:      endByOf(g.Until, g.EndBy),
		Limits:     g.Limits,
	}
	if g.Run != nil {
		out.Run = new(runOf(*g.Run))
	}
	return out
}
