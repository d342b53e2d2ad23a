package httpapi

import (
	"cmp"
	"context"
	"math"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/service/rotate"
)

// The calls about rotations.

func wantedFrom(w contract.RotationWanted) (rotate.RotationWanted, error) {
	name, text, err := labelFrom(w.Label)
	return rotate.RotationWanted{
		Selection: rotation.Selection{
			Keys: given(
				w.Keys,
			), Holder: given(w.Holder), Type: given(w.Type), Older: time.Duration(given(w.OlderDays)) * 24 * time.Hour,
			Weaker: given(w.WeakerThan), Lost: given(w.Lost), Shared: given(w.Shared),
		},
		Instances: given(
			w.Instances,
		), LabelName: name, LabelText: text, Region: given(w.Region), Each: rotation.Each(given(w.Each)), To: given(w.To),
		Names:    given(w.Names),
		FromHere: given(w.FromHere), Urgent: given(w.Urgent), Wait: given(w.Overlap) == contract.RotationWantedOverlapWait,
	}, err
}

func (a *api) ListRotationGoals(
	ctx context.Context, r contract.ListRotationGoalsRequestObject,
) (contract.ListRotationGoalsResponseObject, error) {
	days := 180
	if r.Params.OlderDays != nil {
		days = *r.Params.OlderDays
	}
	goals, err := a.Service.Rotate.Goals(ctx, days, cmp.Or(given(r.Params.WeakerThan), "rsa3072"))
	return contract.ListRotationGoals200JSONResponse(each(goals, func(g rotate.Reached) contract.RotationGoal {
		return contract.RotationGoal{Goal: contract.RotationGoalName(g.Goal), Keys: g.Keys, Lines: g.Lines}
	})), err
}

func (a *api) PlanRotation(
	ctx context.Context, r contract.PlanRotationRequestObject,
) (contract.PlanRotationResponseObject, error) {
	w, err := wantedFrom(r.Body.Wanted)
	if err != nil {
		return nil, err
	}
	p, err := a.Service.Rotate.PlanStart(ctx, actorOf(ctx), rotate.RotationStart{
		RotationWanted: w, Settings: settingsFrom(given(r.Body.Settings)), Make: string(given(r.Body.Make)),
		Mine: given(r.Body.Holder) == contract.NewHolderMine,
	})
	logins, instances, leftOut := p.Counts()
	return contract.PlanRotation200JSONResponse{
		Items: each(p.Items, func(i rotate.PlannedItem) contract.PlannedItem {
			out := contract.PlannedItem{
				Login:     i.Login,
				Instance:  i.Instance,
				Old:       i.Old,
				OldSha256: keypair.FormatSHA256(i.OldSHA256),
				Holder:    optional(i.Holder),
				New:       optional(i.New),
				Means:     optional(i.Means),
				ReachBefore: contract.ReachState(
					i.Before,
				), ReachAfter: optional(contract.ReachState(i.After)), LeftOut: optional(i.LeftOut), Remedy: optional(i.Remedy),
				WaitsFor: i.WaitsFor,
			}
			if i.Seconds > 0 {
				out.ExpectedSeconds = new(float32(i.Seconds))
			}
			return out
		}),
		NewKeys: each(p.New, func(k rotate.PlannedKey) contract.PlannedKey {
			return contract.PlannedKey{
				Name:    k.Name,
				Follows: k.Follows,
				Holder:  optional(k.Holder),
				Type:    k.Type,
				Bits:    k.Bits,
				Maker:   optional(k.Maker),
			}
		}),
		Make: contract.RotationPlanMake(p.Make),
		Pending: each(p.Pending, func(h rotate.PendingHolder) contract.PendingHolder {
			return contract.PendingHolder{
				Holder: h.Holder, Does: contract.PendingHolderDoes(h.Does), Keys: h.Keys, Logins: h.Logins,
			}
		}),
		Logins: logins, Instances: instances, LeftOut: leftOut, ExpectedSeconds: optional(int(math.Ceil(p.Seconds))),
	}, err
}

func (a *api) StartRotation(
	ctx context.Context, r contract.StartRotationRequestObject,
) (contract.StartRotationResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	b := r.Body
	w, err := wantedFrom(b.Wanted)
	if err != nil {
		return nil, err
	}
	start := rotate.RotationStart{
		RotationWanted: w, Make: string(b.Make), Reason: given(b.Reason), NewKeys: map[string]string{},
		Mine: given(b.Holder) == contract.NewHolderMine,
		Shown: each(b.Shown, func(i contract.ShownItem) rotate.ShownItem {
			return rotate.ShownItem{Login: i.Login, Old: i.Old, New: i.New}
		}),
	}
	for _, k := range given(b.NewKeys) {
		start.NewKeys[k.Name] = k.PublicKey
	}
	start.Settings = settingsFrom(given(b.Settings))
	state, err := a.Service.Rotate.StartRotation(ctx, actorOf(ctx), once, start)
	return contract.StartRotation202JSONResponse(rotationOf(state)), err
}

func (a *api) ListRotations(
	ctx context.Context, r contract.ListRotationsRequestObject,
) (contract.ListRotationsResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, r.Params.Total)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Rotate.Rotations(ctx, given(r.Params.Meant), p)
	return contract.ListRotations200JSONResponse{
		Items: each(l.Items, rotationOf),
		Next:  optional(l.Next),
		Total: l.Total,
	}, err
}

func (a *api) GetRotation(
	ctx context.Context, r contract.GetRotationRequestObject,
) (contract.GetRotationResponseObject, error) {
	state, err := a.Service.Rotate.Rotation(ctx, r.Rotation)
	return contract.GetRotation200JSONResponse(rotationOf(state)), err
}

func (a *api) ListRotationItems(
	ctx context.Context, r contract.ListRotationItemsRequestObject,
) (contract.ListRotationItemsResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, nil)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Rotate.RotationItems(ctx, r.Rotation, rotation.ItemState(given(r.Params.State)), p)
	return contract.ListRotationItems200JSONResponse{
		Items: each(l.Items, func(i rotate.RotationItem) contract.RotationItem {
			out := contract.RotationItem{
				Login:    i.OSUser + "@" + i.InstanceName,
				Instance: i.InstanceName,
				Old:      i.OldName,
				New:      i.NewName,
				State:    contract.RotationItemState(i.State),
				Means:    optional(i.Means),
				Detail:   optional(i.Detail), Next: optional(i.Next), DueAt: i.DueAt, EndedAt: i.EndedAt,
			}
			if i.RunID != nil {
				out.Run = new(uuid.UUID(*i.RunID))
			}
			return out
		}),
		Next: optional(l.Next),
	}, err
}

func (a *api) ChangeRotation(
	ctx context.Context, r contract.ChangeRotationRequestObject,
) (contract.ChangeRotationResponseObject, error) {
	if r.Body.Change == contract.ChangeRotationChangeOverride {
		if err := a.Service.People.Sure(actorOf(ctx)); err != nil {
			return nil, err
		}
	}
	state, err := a.Service.Rotate.ChangeRotation(
		ctx, actorOf(ctx), r.Rotation, string(r.Body.Change), given(r.Body.Login), given(r.Body.Reason),
	)
	return contract.ChangeRotation200JSONResponse(rotationOf(state)), err
}

func rotationOf(r rotate.RotationState) contract.Rotation {
	out := contract.Rotation{
		Id:          r.ID,
		Keys:        append([]string{}, r.Old.Names...),
		KeysTotal:   r.Old.Total,
		State:       contract.RotationState(r.State),
		RequestedBy: r.RequestedBy,
		Reason:      optional(r.Reason),
		CreatedAt:   r.CreatedAt,
		EndedAt:     r.EndedAt,
		PausedWhy:   optional(r.PausedWhy),
		Settings:    settingsOf(r.Settings), Urgent: optional(r.Urgent), Rule: optional(r.Rule), Counts: map[string]int{},
	}
	for state, n := range r.Counts {
		out.Counts[string(state)] = n
		out.Total += n
	}
	return out
}
