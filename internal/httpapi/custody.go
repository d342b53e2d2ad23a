package httpapi

import (
	"context"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/safekeeping"
	"plumlatch/internal/subscribers"
)

func (a *api) ReleasePrivateKey(
	ctx context.Context, r contract.ReleasePrivateKeyRequestObject,
) (contract.ReleasePrivateKeyResponseObject, error) {
	w := keys.Release{Key: r.Key, Reason: given(r.Params.Reason)}
	if r.Body != nil {
		w.Recipient = given(r.Body.Recipient)
	}
	private, err := a.Service.Keys.PrivateKey(ctx, actorOf(ctx), w)
	return contract.ReleasePrivateKey200TextResponse(private), err
}

func (a *api) ForgetKey(
	ctx context.Context, r contract.ForgetKeyRequestObject,
) (contract.ForgetKeyResponseObject, error) {
	k, err := a.Service.Keys.ForgetKey(ctx, actorOf(ctx), r.Key)
	return contract.ForgetKey200JSONResponse(keyOf(k)), err
}

func (a *api) HandOverKey(
	ctx context.Context, r contract.HandOverKeyRequestObject,
) (contract.HandOverKeyResponseObject, error) {
	k, waits, err := a.Service.Keys.HandOver(ctx, actorOf(ctx), r.Key, r.Body.To, given(r.Body.Reason))
	out := contract.HandOverKey200JSONResponse{Key: keyOf(k)}
	if waits != nil {
		out.WaitsFor = &waits.ToName
	}
	return out, err
}

func (a *api) CallOffHandOver(
	ctx context.Context, r contract.CallOffHandOverRequestObject,
) (contract.CallOffHandOverResponseObject, error) {
	return contract.CallOffHandOver204Response{}, a.Service.Keys.CallOffHandOver(ctx, actorOf(ctx), r.Key)
}

func (a *api) ListHandOvers(
	ctx context.Context, _ contract.ListHandOversRequestObject,
) (contract.ListHandOversResponseObject, error) {
	all, err := a.Service.Keys.Handovers(ctx)
	return contract.ListHandOvers200JSONResponse(each(all, func(h record.Handover) contract.WaitingHandOver {
		return contract.WaitingHandOver{
			Key:     h.KeyName,
			From:    optional(h.FromName),
			To:      h.ToName,
			AskedBy: h.AskedBy,
			AskedAt: h.AskedAt,
			Reason:  optional(h.Reason),
		}
	})), err
}

func consentOf(actor people.Actor) func(record.Consent) contract.Consent {
	return func(c record.Consent) contract.Consent {
		return contract.Consent{
			Id:        c.ID,
			Key:       c.KeyName,
			AskedBy:   c.AskedBy,
			Reason:    c.Reason,
			AskedAt:   c.AskedAt,
			ExpiresAt: c.ExpiresAt,
			State:     contract.ConsentState(c.State),
			DecidedBy: optional(c.DecidedBy), DecidedAt: c.DecidedAt, Note: optional(c.Note), Own: c.AskedBy == actor.Name,
		}
	}
}

func (a *api) ListConsents(
	ctx context.Context, _ contract.ListConsentsRequestObject,
) (contract.ListConsentsResponseObject, error) {
	all, err := a.Service.Keys.Consents(ctx)
	return contract.ListConsents200JSONResponse(each(all, consentOf(actorOf(ctx)))), err
}

func (a *api) AskConsent(
	ctx context.Context, r contract.AskConsentRequestObject,
) (contract.AskConsentResponseObject, error) {
	c, err := a.Service.Keys.AskConsent(ctx, actorOf(ctx), r.Body.Key, r.Body.Reason)
	return contract.AskConsent201JSONResponse(consentOf(actorOf(ctx))(c)), err
}

func (a *api) DecideConsent(
	ctx context.Context, r contract.DecideConsentRequestObject,
) (contract.DecideConsentResponseObject, error) {
	c, err := a.Service.Keys.DecideConsent(ctx, actorOf(ctx), r.Consent, r.Body.Grant, given(r.Body.Note))
	return contract.DecideConsent200JSONResponse(consentOf(actorOf(ctx))(c)), err
}

func (a *api) ListConsentLabels(
	ctx context.Context, _ contract.ListConsentLabelsRequestObject,
) (contract.ListConsentLabelsResponseObject, error) {
	all, err := a.Service.Keys.ConsentLabels(ctx)
	return contract.ListConsentLabels200JSONResponse(each(all, func(l record.ConsentLabel) contract.ConsentLabel {
		return contract.ConsentLabel{Name: l.Name, Value: l.Value, AddedBy: l.AddedBy, AddedAt: l.AddedAt}
	})), err
}

func (a *api) SetConsentLabel(
	ctx context.Context, r contract.SetConsentLabelRequestObject,
) (contract.SetConsentLabelResponseObject, error) {
	return contract.SetConsentLabel204Response{}, a.Service.Keys.SetConsentLabel(
		ctx, actorOf(ctx), r.Body.Name, r.Body.Value, r.Body.Asks,
	)
}

func safeOf(s safekeeping.SafeState) contract.Safe {
	out := contract.Safe{On: s.On, Mark: optional(s.Mark), SafeKeys: s.SafeKeys, PrivateKeys: int(s.PrivateKeys)}
	if len(s.Unreadable) > 0 {
		out.Unreadable = &s.Unreadable
	}
	return out
}

func (a *api) GetSafe(ctx context.Context, _ contract.GetSafeRequestObject) (contract.GetSafeResponseObject, error) {
	s, err := a.Service.Safes.SafeState(ctx)
	return contract.GetSafe200JSONResponse(safeOf(s)), err
}

func (a *api) NewSafeKey(
	ctx context.Context, r contract.NewSafeKeyRequestObject,
) (contract.NewSafeKeyResponseObject, error) {
	s, err := a.Service.Safes.NewKey(ctx, actorOf(ctx).By(), given(r.Params.Reason))
	return contract.NewSafeKey200JSONResponse(safeOf(s)), err
}

func subscriberOf(r record.Subscriber) contract.Subscriber {
	return contract.Subscriber{
		Name:      r.Name,
		Address:   r.Address,
		Kinds:     each(r.Kinds, func(k subscribers.Kind) contract.SubscriberKind { return contract.SubscriberKind(k) }),
		Paused:    r.Paused,
		Waiting:   r.Waiting,
		Dead:      r.Dead,
		Delivered: r.Delivered,
		LastAt:    r.LastAt,
		LastError: optional(r.LastError),
		CreatedAt: r.CreatedAt,
		CreatedBy: r.CreatedBy,
	}
}

func (a *api) ListSubscribers(
	ctx context.Context, _ contract.ListSubscribersRequestObject,
) (contract.ListSubscribersResponseObject, error) {
	all, err := a.Service.Notify.Subscribers(ctx)
	return contract.ListSubscribers200JSONResponse(each(all, subscriberOf)), err
}

func (a *api) AddSubscriber(
	ctx context.Context, r contract.AddSubscriberRequestObject,
) (contract.AddSubscriberResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	made, err := a.Service.Notify.AddSubscriber(
		ctx,
		actorOf(ctx),
		once,
		r.Body.Name,
		r.Body.Address,
		each(given(r.Body.Kinds), func(k contract.SubscriberKind) subscribers.Kind { return subscribers.Kind(k) }),
	)
	out := subscriberOf(made.Subscriber)
	out.Secret = optional(made.Secret)
	return contract.AddSubscriber201JSONResponse(out), err
}

func (a *api) DeleteSubscriber(
	ctx context.Context, r contract.DeleteSubscriberRequestObject,
) (contract.DeleteSubscriberResponseObject, error) {
	return contract.DeleteSubscriber204Response{}, a.Service.Notify.DeleteSubscriber(ctx, actorOf(ctx), r.Subscriber)
}

func (a *api) ChangeSubscriber(
	ctx context.Context, r contract.ChangeSubscriberRequestObject,
) (contract.ChangeSubscriberResponseObject, error) {
	return contract.ChangeSubscriber204Response{}, a.Service.Notify.PauseSubscriber(
		ctx, actorOf(ctx), r.Subscriber, r.Body.Paused,
	)
}

func (a *api) TestSubscriber(
	ctx context.Context, r contract.TestSubscriberRequestObject,
) (contract.TestSubscriberResponseObject, error) {
	why, err := a.Service.Notify.TestSubscriber(ctx, r.Subscriber)
	return contract.TestSubscriber200JSONResponse{Delivered: why == "", Error: optional(why)}, err
}

func (a *api) ListDead(ctx context.Context, r contract.ListDeadRequestObject) (contract.ListDeadResponseObject, error) {
	all, err := a.Service.Notify.DeadDeliveries(ctx, r.Subscriber)
	return contract.ListDead200JSONResponse(each(all, func(d record.Delivery) contract.Delivery {
		return contract.Delivery{
			Seq:      int(d.Seq),
			Kind:     d.Kind,
			Attempts: d.Attempts,
			Error:    d.Error,
			Sentence: d.Sentence,
			EndedAt:  given(d.EndedAt),
		}
	})), err
}

func (a *api) SendAgain(
	ctx context.Context, r contract.SendAgainRequestObject,
) (contract.SendAgainResponseObject, error) {
	n, err := a.Service.Notify.SendAgain(ctx, actorOf(ctx), r.Subscriber)
	return contract.SendAgain200JSONResponse{Events: int(n)}, err
}
