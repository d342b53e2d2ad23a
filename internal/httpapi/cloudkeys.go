package httpapi

import (
	"context"
	"strings"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/cloudkeys"
	"plumlatch/internal/service/inventory"
)

func (a *api) ListCloudKeys(
	ctx context.Context, r contract.ListCloudKeysRequestObject,
) (contract.ListCloudKeysResponseObject, error) {
	c, err := a.Service.CloudKeys.Catalogue(ctx, r.Cloud)
	return contract.ListCloudKeys200JSONResponse{
		Quota: optional(c.Quota),
		Keys: each(c.Keys, func(k cloudkeys.Named) contract.CloudKey {
			return contract.CloudKey{
				Name: k.Name, Region: k.Region, Fingerprint: k.Fingerprint, Notation: optional(k.Notation),
				PublicKey: optional(k.PublicKey), RecordedAs: append([]string{}, k.Recorded...), Launched: k.Launched,
				Opens: k.Opens, Untrue: k.Untrue,
			}
		}),
	}, err
}

func (a *api) PublishKey(
	ctx context.Context, r contract.PublishKeyRequestObject,
) (contract.PublishKeyResponseObject, error) {
	done, err := a.Service.CloudKeys.Publish(ctx, actorOf(ctx), r.Cloud, cloudkeys.PublishWanted{
		Key: r.Body.Key, As: given(r.Body.As), Regions: given(r.Body.Regions), Reason: given(r.Body.Reason),
	})
	return contract.PublishKey200JSONResponse(each(done, func(p cloudkeys.Published) contract.PublishedKey {
		one := contract.PublishedKey{Region: p.Region, Was: p.Was}
		if p.Problem != nil {
			one.Problem = new(contractProblem(p.Problem))
		}
		return one
	})), err
}

func (a *api) UnpublishKey(
	ctx context.Context, r contract.UnpublishKeyRequestObject,
) (contract.UnpublishKeyResponseObject, error) {
	return contract.UnpublishKey204Response{}, a.Service.CloudKeys.Unpublish(
		ctx, actorOf(ctx), r.Cloud, r.Key, given(r.Params.Region), given(r.Params.Reason),
	)
}

func (a *api) ListKeyGroups(
	ctx context.Context, r contract.ListKeyGroupsRequestObject,
) (contract.ListKeyGroupsResponseObject, error) {
	groups, err := a.Service.CloudKeys.Groups(ctx, r.Cloud)
	return contract.ListKeyGroups200JSONResponse(each(groups, func(g record.KeyGroup) contract.KeyGroup {
		return contract.KeyGroup{
			Id: g.GroupID, Name: g.Name, Kind: contract.KeyGroupKind(g.Kind), Taking: g.Taking, Refusing: g.Refusing,
			Keys: each(g.Keys, func(k record.GroupKey) contract.KeyOfGroup {
				return contract.KeyOfGroup{
					User: k.OSUser, Sha256: keypair.FormatSHA256(k.SHA256), Comment: k.Comment, Key: optional(k.KeyName),
				}
			}),
		}
	})), err
}

func (a *api) ChangeKeyGroup(
	ctx context.Context, r contract.ChangeKeyGroupRequestObject,
) (contract.ChangeKeyGroupResponseObject, error) {
	b := r.Body
	e, err := a.Service.CloudKeys.ChangeGroup(ctx, actorOf(ctx), r.Cloud, cloudkeys.GroupChange{
		Group: b.Group, User: b.User, Key: b.Key, Remove: given(b.Remove), Preview: given(b.Preview), Anyway: given(b.Anyway),
		Reason: given(b.Reason),
	})
	return contract.ChangeKeyGroup200JSONResponse(effectOf(e)), err
}

func (a *api) TakeGroupKeys(
	ctx context.Context, r contract.TakeGroupKeysRequestObject,
) (contract.TakeGroupKeysResponseObject, error) {
	b := r.Body
	e, err := a.Service.CloudKeys.Take(
		ctx, actorOf(ctx), r.Instance, b.Taken, given(b.Anyway), given(b.Preview), given(b.Reason),
	)
	return contract.TakeGroupKeys200JSONResponse(effectOf(e)), err
}

func effectOf(e cloudkeys.Effect) contract.KeyGroupEffect {
	return contract.KeyGroupEffect{
		Group: e.Group, Changed: e.Changed, Logins: append([]string{}, e.Logins...),
		Worse: each(e.Worse, func(c access.LossChange) contract.LossChange {
			return contract.LossChange{
				Login: c.Login, Instance: c.Instance, Before: contract.ReachState(c.Before), After: contract.ReachState(c.After),
			}
		}),
	}
}

func (a *api) ListRecordRules(
	ctx context.Context, _ contract.ListRecordRulesRequestObject,
) (contract.ListRecordRulesResponseObject, error) {
	rules, err := a.Service.Inventory.Rules(ctx)
	return contract.ListRecordRules200JSONResponse(each(rules, recordRuleOf)), err
}

func recordRuleOf(r record.RecordRule) contract.RecordRule {
	return contract.RecordRule{
		Id: r.ID, Cloud: optional(r.CloudName), Label: r.LabelName + "=" + r.LabelText, LeaveAlone: r.LeaveAlone,
		AddedAt: r.AddedAt, AddedBy: r.AddedBy,
	}
}

func (a *api) PutRecordRule(
	ctx context.Context, r contract.PutRecordRuleRequestObject,
) (contract.PutRecordRuleResponseObject, error) {
	w := inventory.RuleWanted{
		Cloud: given(r.Body.Cloud), LeaveAlone: given(r.Body.LeaveAlone), Reason: given(r.Body.Reason),
	}
	w.LabelName, w.LabelText, _ = strings.Cut(r.Body.Label, "=")
	rule, err := a.Service.Inventory.PutRule(ctx, actorOf(ctx), w)
	return contract.PutRecordRule200JSONResponse(recordRuleOf(rule)), err
}

func (a *api) RemoveRecordRule(
	ctx context.Context, r contract.RemoveRecordRuleRequestObject,
) (contract.RemoveRecordRuleResponseObject, error) {
	return contract.RemoveRecordRule204Response{}, a.Service.Inventory.RemoveRule(
		ctx, actorOf(ctx), r.Rule, given(r.Params.Reason),
	)
}
