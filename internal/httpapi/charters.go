package httpapi

import (
	"context"
	"encoding/hex"
	"time"

	declared "plumlatch/internal/core/charter"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/charter"
)

func (a *api) ListCharters(
	ctx context.Context, _ contract.ListChartersRequestObject,
) (contract.ListChartersResponseObject, error) {
	list, err := a.Service.Charters.Charters(ctx)
	return contract.ListCharters200JSONResponse(each(list, charterOf)), err
}

func charterOf(c record.Charter) contract.Charter {
	return contract.Charter{
		Name: c.Name, Note: c.Note, Version: c.Version, CreatedAt: c.CreatedAt, CreatedBy: c.CreatedBy, Grants: c.Grants,
		ComparedAt: c.ComparedAt, Differs: c.Differs, Problem: optional(c.Problem),
	}
}

func charterFilesFrom(list []contract.CharterFile) []declared.File {
	return each(list, func(f contract.CharterFile) declared.File {
		return declared.File{Path: f.Path, Content: []byte(f.Content)}
	})
}

func charterFilesOf(list []record.CharterFile) []contract.CharterFile {
	return each(list, func(f record.CharterFile) contract.CharterFile {
		return contract.CharterFile{Path: f.Path, Content: f.Content}
	})
}

func (a *api) CompareCharter(
	ctx context.Context, r contract.CompareCharterRequestObject,
) (contract.CompareCharterResponseObject, error) {
	c, err := a.Service.Charters.Compare(
		ctx, charter.Wanted{Files: charterFilesFrom(r.Body.Files), Strict: given(r.Body.Strict)},
	)
	return contract.CompareCharter200JSONResponse(comparisonOf(c)), err
}

func (a *api) CompareCharterNow(
	ctx context.Context, r contract.CompareCharterNowRequestObject,
) (contract.CompareCharterNowResponseObject, error) {
	c, err := a.Service.Charters.CompareNow(ctx, r.Charter)
	return contract.CompareCharterNow200JSONResponse(comparisonOf(c)), err
}

func comparisonOf(c charter.Compared) contract.CharterComparison {
	return contract.CharterComparison{
		Id: c.ID, Charter: c.Charter.Name, Digest: hex.EncodeToString(c.Digest), Changes: each(c.Changes, charterChangeOf),
		Notes: each(c.Notes, func(n declared.Note) contract.CharterFlaw {
			return contract.CharterFlaw{Code: n.Code, What: n.What, Remedy: optional(n.Remedy), At: charterPlaceOf(n.At)}
		}),
		Flaws: each(c.Flaws, func(f declared.Flaw) contract.CharterFlaw {
			return contract.CharterFlaw{Code: f.Code, What: f.What, Remedy: optional(f.Remedy), At: charterPlaceOf(f.Place)}
		}),
		Reach: each(c.Reach, func(r declared.Reached) contract.CharterReach {
			return contract.CharterReach{
				Login: r.Login, Before: contract.ReachState(r.Before), After: contract.ReachState(r.After),
				Refused: optional(r.Refused),
			}
		}),
		Refused: optional(c.Refused()),
	}
}

func charterPlaceOf(p declared.Place) *contract.CharterPlace {
	if p.File == "" {
		return nil
	}
	return &contract.CharterPlace{File: p.File, Line: p.Line, Column: p.Column}
}

func charterChangeOf(c declared.Change) contract.CharterChange {
	moment := func(at time.Time) *time.Time {
		if at.IsZero() {
			return nil
		}
		return &at
	}
	out := contract.CharterChange{
		Kind: contract.CharterChangeKind(c.Kind), Key: optional(c.Key), Login: optional(c.Login),
		Instance: optional(
			c.Instance,
		), Until: moment(c.Until), Was: moment(c.Was), Why: optional(c.Why), At: charterPlaceOf(c.At),
		Unable: optional(c.Unable), Limits: optional(c.Limits), Limited: optional(c.Limited),
	}
	if len(c.Keys) > 0 {
		out.Keys = &c.Keys
	}
	return out
}

func (a *api) WriteCharter(
	ctx context.Context, r contract.WriteCharterRequestObject,
) (contract.WriteCharterResponseObject, error) {
	name, text, err := labelFrom(r.Params.Label)
	if err != nil {
		return nil, err
	}
	out, err := a.Service.Charters.Write(ctx, r.Params.Name, name, text, !given(r.Params.NoKeys))
	return contract.WriteCharter200JSONResponse{Text: out}, err
}

func (a *api) GetCharter(
	ctx context.Context, r contract.GetCharterRequestObject,
) (contract.GetCharterResponseObject, error) {
	c, now, all, err := a.Service.Charters.Charter(ctx, r.Charter)
	return contract.GetCharter200JSONResponse{
		Charter: charterOf(c), Files: charterFilesOf(now.Files), Versions: each(all, charterVersionOf),
	}, err
}

func charterVersionOf(v record.CharterVersion) contract.CharterVersion {
	return contract.CharterVersion{
		Number: v.Number, Digest: hex.EncodeToString(v.Digest), SettledAt: v.SettledAt, SettledBy: v.SettledBy,
		Reason: v.Reason, SignedBy: optional(v.SignedBy),
	}
}

func (a *api) GetCharterVersion(
	ctx context.Context, r contract.GetCharterVersionRequestObject,
) (contract.GetCharterVersionResponseObject, error) {
	v, err := a.Service.Charters.Version(ctx, r.Charter, r.Version)
	out := charterVersionOf(v)
	out.Files = new(charterFilesOf(v.Files))
	return contract.GetCharterVersion200JSONResponse(out), err
}

func (a *api) ReleaseCharter(
	ctx context.Context, r contract.ReleaseCharterRequestObject,
) (contract.ReleaseCharterResponseObject, error) {
	return contract.ReleaseCharter204Response{}, a.Service.Charters.Release(
		ctx, actorOf(ctx), r.Charter, given(r.Params.Reason),
	)
}

func (a *api) SettleCharter(
	ctx context.Context, r contract.SettleCharterRequestObject,
) (contract.SettleCharterResponseObject, error) {
	b := r.Body
	t, err := a.Service.Charters.Settle(ctx, actorOf(ctx), charter.Settling{
		Wanted: charter.Wanted{Files: charterFilesFrom(b.Files), Strict: given(b.Strict)}, As: b.As, Partly: given(b.Partly),
		Reason: given(b.Reason), Signature: given(b.Signature),
	})
	return contract.SettleCharter202JSONResponse(settlementOf(t)), err
}

func settlementOf(t record.Settlement) contract.CharterSettlement {
	return contract.CharterSettlement{
		Id: t.ID, Charter: t.Charter, Version: t.Version, Undoes: t.Undoes, State: contract.CharterSettlementState(t.State),
		RequestedBy: t.RequestedBy, Reason: t.Reason, CreatedAt: t.CreatedAt, EndedAt: t.EndedAt,
		Waiting: t.Counts[record.ItemWaiting], AtWork: t.Counts[record.ItemAtWork], Done: t.Counts[record.ItemDone],
		Failed: t.Counts[record.ItemFailed], LeftOut: t.Counts[record.ItemLeft],
	}
}

func (a *api) UndoCharter(
	ctx context.Context, r contract.UndoCharterRequestObject,
) (contract.UndoCharterResponseObject, error) {
	t, err := a.Service.Charters.Undo(ctx, actorOf(ctx), r.Charter, given(r.Body.Reason))
	return contract.UndoCharter202JSONResponse(settlementOf(t)), err
}

func (a *api) ListCharterSettlements(
	ctx context.Context, r contract.ListCharterSettlementsRequestObject,
) (contract.ListCharterSettlementsResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, r.Params.Total)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Charters.Settlements(ctx, given(r.Params.Charter), p)
	return contract.ListCharterSettlements200JSONResponse{
		Items: each(l.Items, settlementOf), Next: optional(l.Next), Total: l.Total,
	}, err
}

func (a *api) GetCharterSettlement(
	ctx context.Context, r contract.GetCharterSettlementRequestObject,
) (contract.GetCharterSettlementResponseObject, error) {
	t, err := a.Service.Charters.Settlement(ctx, r.Settlement)
	return contract.GetCharterSettlement200JSONResponse(settlementOf(t)), err
}

func (a *api) ListCharterSettlementChanges(
	ctx context.Context, r contract.ListCharterSettlementChangesRequestObject,
) (contract.ListCharterSettlementChangesResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, r.Params.Total)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Charters.Items(ctx, r.Settlement, record.ItemState(given(r.Params.State)), p)
	return contract.ListCharterSettlementChanges200JSONResponse{
		Next: optional(
			l.Next,
		), Total: l.Total, Items: each(l.Items, func(i record.SettlementItem) contract.CharterSettlementChange {
			return contract.CharterSettlementChange{
				Change: charterChangeOf(
					i.Change,
				), State: contract.CharterSettlementChangeState(i.State), Detail: optional(i.Detail), Run: i.RunID,
				EndedAt: i.EndedAt,
			}
		}),
	}, err
}

func (a *api) PauseCharterSettlement(
	ctx context.Context, r contract.PauseCharterSettlementRequestObject,
) (contract.PauseCharterSettlementResponseObject, error) {
	err := a.Service.Charters.Pause(ctx, actorOf(ctx), r.Settlement, given(r.Body.Resume), given(r.Body.Reason))
	if err != nil {
		return nil, err
	}
	t, err := a.Service.Charters.Settlement(ctx, r.Settlement)
	return contract.PauseCharterSettlement200JSONResponse(settlementOf(t)), err
}
