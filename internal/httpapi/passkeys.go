package httpapi

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/people"
)

// origin is where the page is from that sends a request, as its browser says; "" for what is no page.
func (q *request) origin() string { return q.raw.Header.Get("Origin") }

func passkeyAnswer(challenge uuid.UUID, credential map[string]any) (people.PasskeyAnswer, error) {
	text, err := json.Marshal(credential)
	return people.PasskeyAnswer{Challenge: challenge, Credential: text}, err
}

func challengeOf(c people.PasskeyChallenge) (out contract.PasskeyChallenge, err error) {
	text, err := json.Marshal(c.Options)
	if err != nil {
		return out, err
	}
	out.Challenge = c.ID
	return out, json.Unmarshal(text, &out.Options)
}

func passkeyOf(p record.Passkey) contract.Passkey {
	return contract.Passkey{Name: p.Name, Host: p.Host, CreatedAt: p.CreatedAt, UsedAt: p.UsedAt}
}

func (a *api) AskPasskey(
	ctx context.Context, _ contract.AskPasskeyRequestObject,
) (contract.AskPasskeyResponseObject, error) {
	c, err := a.Service.People.AskPasskey(ctx, requestOf(ctx).origin())
	if err != nil {
		return nil, err
	}
	out, err := challengeOf(c)
	return contract.AskPasskey201JSONResponse(out), err
}

func (a *api) SignInByPasskey(
	ctx context.Context, r contract.SignInByPasskeyRequestObject,
) (contract.SignInByPasskeyResponseObject, error) {
	answer, err := passkeyAnswer(r.Body.Challenge, r.Body.Credential)
	if err != nil {
		return nil, err
	}
	q := requestOf(ctx)
	actor, secret, err := a.Service.People.SignInByPasskey(ctx, q.signIn("", "", ""), q.origin(), answer)
	if err != nil {
		return nil, err
	}
	me, err := a.me(actor.Within(ctx), actor)
	return contract.SignInByPasskey200JSONResponse{
		Body:    me,
		Headers: contract.SignInByPasskey200ResponseHeaders{SetCookie: a.cookie(secret, a.Service.People.SessionLasts)},
	}, err
}

func (a *api) ListPasskeys(
	ctx context.Context, _ contract.ListPasskeysRequestObject,
) (contract.ListPasskeysResponseObject, error) {
	all, err := a.Service.People.Passkeys(ctx, actorOf(ctx))
	return contract.ListPasskeys200JSONResponse(each(all, passkeyOf)), err
}

func (a *api) BeginPasskey(
	ctx context.Context, _ contract.BeginPasskeyRequestObject,
) (contract.BeginPasskeyResponseObject, error) {
	c, err := a.Service.People.BeginPasskey(ctx, actorOf(ctx), requestOf(ctx).origin())
	if err != nil {
		return nil, err
	}
	out, err := challengeOf(c)
	return contract.BeginPasskey201JSONResponse(out), err
}

func (a *api) AddPasskey(
	ctx context.Context, r contract.AddPasskeyRequestObject,
) (contract.AddPasskeyResponseObject, error) {
	answer, err := passkeyAnswer(r.Body.Challenge, r.Body.Credential)
	if err != nil {
		return nil, err
	}
	p, err := a.Service.People.AddPasskey(ctx, actorOf(ctx), requestOf(ctx).origin(), r.Body.Name, answer)
	return contract.AddPasskey201JSONResponse(passkeyOf(p)), err
}

func (a *api) RemovePasskey(
	ctx context.Context, r contract.RemovePasskeyRequestObject,
) (contract.RemovePasskeyResponseObject, error) {
	return contract.RemovePasskey204Response{}, a.Service.People.RemovePasskey(ctx, actorOf(ctx), r.Passkey)
}
