package httpapi

import (
	"context"
	"time"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reentry"
	"plumlatch/internal/service/route"
)

// The calls about restores.

// all is a list that is never null.
func all(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func (a *api) ListRoutes(
	ctx context.Context, r contract.ListRoutesRequestObject,
) (contract.ListRoutesResponseObject, error) {
	q := r.Params
	if given(q.Rehearse) && !actorOf(ctx).Role.May(people.Operator) { // it logs in, and asks the guest
		return nil, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "role-too-low",
			Detail: "to rehearse the ways back needs the role operator",
			Remedy: "See them without: plumlatch restore routes " + r.Login,
		}
	}
	found, err := a.Service.Reentry.Routes(ctx, reentry.RoutesWanted{
		Login: r.Login, Rehearse: given(q.Rehearse), Lost: given(q.Lost),
		Limits: restore.Limits{
			MaxDowntime: time.Duration(given(q.MaxDowntime)) * time.Second,
			KeepAddress: given(q.KeepAddress),
			NoStop:      given(q.NoStop),
		},
	})
	if err != nil {
		return nil, err
	}
	return contract.ListRoutes200JSONResponse{
		Login:     found.Name,
		Instance:  found.Instance.Name,
		State:     contract.InstanceState(found.Instance.State),
		Reach:     contract.ReachState(found.State),
		Labels:    found.Labels,
		StopCosts: all(fleet.StopCosts(found.Instance)), Worry: found.Worry, Routes: each(found.Options, optionOf),
		Lost: each(found.Lost, func(k record.ReachKey) contract.UnusableKey {
			return contract.UnusableKey{Name: k.Name, Sha256: keypair.FormatSHA256(k.SHA256), Holder: k.HolderName}
		}),
		Rehearsed: each(found.Rehearsed, func(h reentry.Rehearsal) contract.Rehearsal {
			return contract.Rehearsal{Route: contract.RestoreRoute(h.Route), What: h.What, Works: h.Works, Detail: h.Detail}
		}),
	}, nil
}

func optionOf(o restore.Option) contract.RouteOption {
	return contract.RouteOption{
		Route: contract.RestoreRoute(
			o.Route,
		), Title: o.Title, Summary: o.Summary, Possible: o.Possible(), WithinLimits: o.Within(),
		Missing: each(o.Missing, func(m restore.Missing) contract.MissingForRoute {
			return contract.MissingForRoute{What: m.What, Remedy: optional(m.Remedy)}
		}),
		Outside: all(
			o.Outside,
		), Why: o.Why,
		Stops:           o.Stops,
		DowntimeSeconds: float32(o.Downtime.Seconds()),
		ExpectedSeconds: float32(o.Expected.Seconds()),
		Measured:        o.Measured,
		Changes: all(
			o.Changes,
		), Loses: all(o.Loses),
		Stays:       all(o.Stays),
		Agree:       all(o.Agree),
		Undo:        o.Undo,
		NewIdentity: o.NewIdentity,
		NewAddress:  o.NewAddress,
		Opens: each(o.Opens, func(e restore.Exposure) contract.RouteExposure {
			return contract.RouteExposure{What: e.What, Seconds: int(e.For.Seconds())}
		}),
	}
}

func (a *api) StartRestore(
	ctx context.Context, r contract.StartRestoreRequestObject,
) (contract.StartRestoreResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	b := r.Body
	w := reentry.RestoreWanted{
		Login:   b.Login,
		Route:   restore.Route(b.Route),
		Key:     b.Key,
		Make:    given(b.Make),
		Confirm: given(b.Confirm),
		Reason:  given(b.Reason),
		Limits: restore.Limits{
			MaxDowntime: time.Duration(given(b.MaxDowntime)) * time.Second,
			KeepAddress: given(b.KeepAddress),
			NoStop:      given(b.NoStop),
		},
		NewInstance: route.NewInstance{StopFirst: given(b.StopFirst), Ports: given(b.Ports), NewName: given(b.NewName)},
	}
	if b.Lost != nil {
		w.Lost = all(*b.Lost)
	}
	begun, err := a.Service.Reentry.StartRestore(ctx, actorOf(ctx), once, w)
	return contract.StartRestore202JSONResponse(restoreOf(begun)), err
}

func restoreOf(r reentry.Restore) contract.Restore {
	return contract.Restore{
		Run: runOf(
			r.Run,
		), Waits: waitsOf(r.Run),
		Route:    contract.RestoreRoute(r.Route),
		Login:    r.Login,
		Key:      r.Key,
		Lost:     all(r.Lost),
		Removes:  all(r.Removes),
		Target:   r.Target,
		Closings: each(r.Closings, closingOf),
		Left:     all(r.Left), Differs: optional(r.Differs), ProvedAt: r.ProvedAt, Undoable: r.Undoable, Kept: r.Kept,
	}
}

func closingOf(c record.Closing) contract.Closing {
	return contract.Closing{
		Instance: c.InstanceName,
		Restore:  c.RunID,
		What:     c.What,
		OpenedAt: c.OpenedAt,
		Deadline: c.Deadline,
		ClosedAt: c.ClosedAt,
		Note:     optional(c.Note),
	}
}

func (a *api) GetRestore(
	ctx context.Context, r contract.GetRestoreRequestObject,
) (contract.GetRestoreResponseObject, error) {
	found, err := a.Service.Reentry.Restore(ctx, r.Run)
	return contract.GetRestore200JSONResponse(restoreOf(found)), err
}

func (a *api) ListRestores(
	ctx context.Context, r contract.ListRestoresRequestObject,
) (contract.ListRestoresResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, r.Params.Total)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Reentry.Restores(ctx, record.RunFilter{
		Instance: given(r.Params.Instance), Meant: given(r.Params.Meant),
	}, p)
	return contract.ListRestores200JSONResponse{
		Items: each(l.Items, restoreOf),
		Next:  optional(l.Next),
		Total: l.Total,
	}, err
}

func (a *api) UndoRestore(
	ctx context.Context, r contract.UndoRestoreRequestObject,
) (contract.UndoRestoreResponseObject, error) {
	undone, err := a.Service.Reentry.UndoRestore(ctx, actorOf(ctx), r.Run, given(r.Params.Reason))
	return contract.UndoRestore202JSONResponse(restoreOf(undone)), err
}

func (a *api) ReportRestore(
	ctx context.Context, r contract.ReportRestoreRequestObject,
) (contract.ReportRestoreResponseObject, error) {
	p, err := a.Service.Reentry.ReportRestore(ctx, r.Run)
	return contract.ReportRestore200JSONResponse{
		Restore: restoreOf(
			p.Restore,
		), MadeAt: p.MadeAt, AddressBefore: optional(p.AddressBefore), AddressAfter: optional(p.AddressAfter),
		Elsewhere: each(p.Elsewhere, func(l reentry.LostElsewhere) contract.LostElsewhere {
			return contract.LostElsewhere{Key: l.Key, Login: l.Login, Reach: contract.ReachState(l.State)}
		}),
		Copies: each(p.Copies, placeOf), Passwords: each(p.Passwords, readingOf),
	}, err
}

func readingOf(r record.PasswordReading) contract.PasswordReading {
	return contract.PasswordReading{Person: r.Person, What: contract.PasswordReadingWhat(r.What), At: r.At}
}

func (a *api) ListClosings(
	ctx context.Context, _ contract.ListClosingsRequestObject,
) (contract.ListClosingsResponseObject, error) {
	open, err := a.Service.Closings.OpenNow(ctx)
	return contract.ListClosings200JSONResponse(each(open, closingOf)), err
}

func (a *api) GetEncryptedPassword(
	ctx context.Context, r contract.GetEncryptedPasswordRequestObject,
) (contract.GetEncryptedPasswordResponseObject, error) {
	p, readings, err := a.Service.Reentry.EncryptedPassword(ctx, actorOf(ctx), r.Instance)
	return contract.GetEncryptedPassword200JSONResponse{
		Encrypted: p.Encrypted,
		PublicKey: p.PublicKey,
		MadeAt:    p.MadeAt,
		Readings:  each(readings, readingOf),
	}, err
}

func (a *api) ReportPasswordOpened(
	ctx context.Context, r contract.ReportPasswordOpenedRequestObject,
) (contract.ReportPasswordOpenedResponseObject, error) {
	return contract.ReportPasswordOpened204Response{}, a.Service.Reentry.OpenedPassword(ctx, actorOf(ctx), r.Instance)
}
