package httpapi

import (
	"context"
	"time"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/service/rules"
)

// The calls about rotation rules, about new public keys that are asked for, and
// about rotations that are worked on from somebody's machine.

func wantedOf(w rotate.RotationWanted) contract.RotationWanted {
	out := contract.RotationWanted{
		Holder: optional(
			w.Holder,
		), Type: optional(w.Type),
		OlderDays:  optional(int(w.Older / (24 * time.Hour))),
		WeakerThan: optional(w.Weaker),
		Lost:       optional(w.Lost),
		Shared:     optional(w.Shared),
		Region: optional(
			w.Region,
		), Each: optional(contract.RotationWantedEach(w.Each)),
		To:       optional(w.To),
		Names:    optional(w.Names),
		FromHere: optional(w.FromHere),
		Urgent:   optional(w.Urgent),
	}
	if len(w.Keys) > 0 {
		out.Keys = &w.Keys
	}
	if len(w.Instances) > 0 {
		out.Instances = &w.Instances
	}
	if w.LabelName != "" {
		out.Label = new(w.LabelName + "=" + w.LabelText)
	}
	if w.Wait {
		out.Overlap = new(contract.RotationWantedOverlapWait)
	}
	return out
}

func settingsFrom(t contract.RotationSettings) rotation.Settings {
	return rotation.Settings{
		First:        given(t.First),
		ThenGo:       given(t.ThenGo),
		AtOnce:       given(t.AtOnce),
		StopAfter:    given(t.StopAfter),
		Between:      given(t.Between),
		Zone:         given(t.Zone),
		GraceSeconds: given(t.GraceSeconds),
	}
}

func settingsOf(t rotation.Settings) contract.RotationSettings {
	return contract.RotationSettings{
		First:        optional(t.First),
		ThenGo:       optional(t.ThenGo),
		AtOnce:       optional(t.AtOnce),
		StopAfter:    optional(t.StopAfter),
		Between:      optional(t.Between),
		Zone:         optional(t.Zone),
		GraceSeconds: optional(t.GraceSeconds),
	}
}

func ruleOf(r rules.Rule) contract.RotationRule {
	out := contract.RotationRule{
		Name:         r.Name,
		Wanted:       wantedOf(r.Wanted),
		Make:         contract.RotationRuleMake(r.Make),
		Settings:     settingsOf(r.Settings),
		State:        contract.RotationRuleStateActive,
		CreatedBy:    r.CreatedBy,
		CreatedAt:    r.CreatedAt,
		LookedAt:     r.LookedAt,
		LastRotation: r.LastRotation,
		NextAt:       r.NextAt,
		Note:         optional(r.Note),
	}
	if r.Paused {
		out.State = contract.RotationRuleStatePaused
	}
	return out
}

func (a *api) ListRotationRules(
	ctx context.Context, _ contract.ListRotationRulesRequestObject,
) (contract.ListRotationRulesResponseObject, error) {
	rules, err := a.Service.Rules.RotationRules(ctx)
	return contract.ListRotationRules200JSONResponse(each(rules, ruleOf)), err
}

func (a *api) AddRotationRule(
	ctx context.Context, r contract.AddRotationRuleRequestObject,
) (contract.AddRotationRuleResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	w, err := wantedFrom(r.Body.Wanted)
	if err != nil {
		return nil, err
	}
	rule, err := a.Service.Rules.AddRotationRule(ctx, actorOf(ctx), once, rules.RuleWanted{
		Name:     r.Body.Name,
		Wanted:   w,
		Make:     string(r.Body.Make),
		Settings: settingsFrom(given(r.Body.Settings)),
		Reason:   given(r.Body.Reason),
	})
	return contract.AddRotationRule201JSONResponse(ruleOf(rule)), err
}

func (a *api) ChangeRotationRule(
	ctx context.Context, r contract.ChangeRotationRuleRequestObject,
) (contract.ChangeRotationRuleResponseObject, error) {
	rule, err := a.Service.Rules.ChangeRotationRule(ctx, actorOf(ctx), r.Rule, string(r.Body.Change), given(r.Body.Reason))
	return contract.ChangeRotationRule200JSONResponse(ruleOf(rule)), err
}

func (a *api) DeleteRotationRule(
	ctx context.Context, r contract.DeleteRotationRuleRequestObject,
) (contract.DeleteRotationRuleResponseObject, error) {
	return contract.DeleteRotationRule204Response{}, a.Service.Rules.DeleteRotationRule(ctx, actorOf(ctx), r.Rule)
}

// dueDays is how far ahead it is told what is due unless asked otherwise.
const dueDays = 30

func (a *api) ListDueRotations(
	ctx context.Context, r contract.ListDueRotationsRequestObject,
) (contract.ListDueRotationsResponseObject, error) {
	days := dueDays
	if r.Params.Days != nil {
		days = *r.Params.Days
	}
	due, err := a.Service.Rules.DueRotations(ctx, days)
	return contract.ListDueRotations200JSONResponse(each(due, func(d rules.DueRotation) contract.DueRotation {
		return contract.DueRotation{
			At:       d.At,
			Rule:     d.Rule,
			Login:    d.Login,
			Instance: d.Instance,
			Old:      d.Old,
			Holder:   optional(d.Holder),
			New:      optional(d.New),
			Cannot:   optional(d.LeftOut),
			Remedy:   optional(d.Remedy),
		}
	})), err
}

func (a *api) ListAskedKeys(
	ctx context.Context, r contract.ListAskedKeysRequestObject,
) (contract.ListAskedKeysResponseObject, error) {
	asked, err := a.Service.Rotate.AskedKeys(ctx, actorOf(ctx), given(r.Params.Holder))
	return contract.ListAskedKeys200JSONResponse(each(asked, func(k rotate.AskedKey) contract.AskedKey {
		return contract.AskedKey{
			Id:          k.ID,
			Name:        k.Name,
			Follows:     k.Follows,
			Holder:      k.HolderName,
			Type:        k.Type,
			Bits:        k.Bits,
			Rotation:    k.RotationID,
			RequestedBy: k.RequestedBy,
			Reason:      optional(k.Reason),
			AskedAt:     k.CreatedAt,
			Logins:      k.Logins,
			Yours:       k.Yours,
		}
	})), err
}

func (a *api) BringAskedKey(
	ctx context.Context, r contract.BringAskedKeyRequestObject,
) (contract.BringAskedKeyResponseObject, error) {
	k, err := a.Service.Rotate.BringKey(ctx, actorOf(ctx), r.Asked, r.Body.PublicKey)
	return contract.BringAskedKey200JSONResponse(keyOf(k)), err
}

func (a *api) TakeRotationItems(
	ctx context.Context, r contract.TakeRotationItemsRequestObject,
) (contract.TakeRotationItemsResponseObject, error) {
	taken, err := a.Service.Rotate.TakeRotationItems(ctx, actorOf(ctx), r.Rotation, r.Body.Keys, given(r.Body.Limit))
	return contract.TakeRotationItems200JSONResponse(each(taken, func(i rotate.TakenItem) contract.TakenItem {
		return contract.TakenItem{
			Run:          i.Run,
			Login:        i.Login,
			Phase:        contract.TakenItemPhase(i.Phase),
			Old:          i.Old.Name,
			OldPublicKey: i.OldLine,
			New:          i.New.Name,
			NewPublicKey: i.NewLine,
		}
	})), err
}

func (a *api) ReportStep(
	ctx context.Context, r contract.ReportStepRequestObject,
) (contract.ReportStepResponseObject, error) {
	run, err := a.Service.Runs.ReportStep(
		ctx, actorOf(ctx), r.Run, r.Body.Step, given(r.Body.Outcome), given(r.Body.Error),
	)
	return contract.ReportStep200JSONResponse(runOf(run)), err
}

func reportedItem(i record.ReportedItem) contract.ReportedItem {
	proof := func(at *time.Time, person string) *contract.ReportedProof {
		if at == nil {
			return nil
		}
		return &contract.ReportedProof{At: *at, Person: person}
	}
	digest := func(sum []byte) *string {
		if sum == nil {
			return nil
		}
		return new(keypair.FormatSHA256(sum))
	}
	out := contract.ReportedItem{
		Login:       i.OSUser + "@" + i.InstanceName,
		Instance:    i.InstanceName,
		Old:         i.OldName,
		OldSha256:   digest(i.OldSHA256),
		New:         i.NewName,
		NewSha256:   digest(i.NewSHA256),
		State:       contract.RotationItemState(i.State),
		Means:       i.Means,
		Detail:      optional(i.Detail),
		PlacedAt:    i.PlacedAt,
		ProvedAt:    i.ProvedAt,
		EndedAt:     i.EndedAt,
		ProofBefore: proof(i.BeforeAt, i.BeforePerson),
		ProofAfter:  proof(i.AfterAt, i.AfterPerson),
		OldRefused:  optional(i.OldRefused),
	}
	if i.OverrideBy != "" {
		out.Override = new(i.OverrideBy + ": " + i.OverrideWhy)
	}
	return out
}

func (a *api) ReportRotation(
	ctx context.Context, r contract.ReportRotationRequestObject,
) (contract.ReportRotationResponseObject, error) {
	p, err := a.Service.Rotate.ReportRotation(ctx, r.Rotation)
	return contract.ReportRotation200JSONResponse{
		Rotation: rotationOf(
			p.RotationState,
		), MadeAt: p.MadeAt, Replaced: each(p.Replaced, reportedItem), NotDone: each(p.NotDone, reportedItem),
		LeftOut: each(p.LeftOut, func(l record.LeftOut) contract.LeftOutItem {
			return contract.LeftOutItem{Login: l.Login, Old: l.Old, Why: l.Why, Remedy: optional(l.Remedy)}
		}),
		Elsewhere: each(p.Elsewhere, placeOf),
	}, err
}

func placeOf(o fleet.OldKeyPlace) contract.OldKeyPlace {
	return contract.OldKeyPlace{Old: o.Old, Kind: contract.OldKeyPlaceKind(o.Kind), Place: o.Place, At: o.At, Note: o.Note}
}
