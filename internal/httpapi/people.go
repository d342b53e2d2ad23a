package httpapi

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/leaving"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
)

// signInFrom is who signs in, from where.
func (q *request) signIn(name, password, code string) people.SignIn {
	if q.via == "api" {
		q.via = "console"
	}
	return people.SignIn{Name: name, Password: password, Code: code, Via: q.via, RequestID: q.id, Address: q.address}
}

func (a *api) SignIn(ctx context.Context, r contract.SignInRequestObject) (contract.SignInResponseObject, error) {
	actor, secret, err := a.Service.People.SignIn(
		ctx, requestOf(ctx).signIn(r.Body.Name, r.Body.Password, given(r.Body.Code)),
	)
	if err != nil {
		return nil, err
	}
	me, err := a.me(actor.Within(ctx), actor)
	return contract.SignIn200JSONResponse{
		Body:    me,
		Headers: contract.SignIn200ResponseHeaders{SetCookie: a.cookie(secret, a.Service.People.SessionLasts)},
	}, err
}

func (a *api) GetMe(ctx context.Context, _ contract.GetMeRequestObject) (contract.GetMeResponseObject, error) {
	me, err := a.me(ctx, actorOf(ctx))
	return contract.GetMe200JSONResponse(me), err
}

func (a *api) SignOut(ctx context.Context, _ contract.SignOutRequestObject) (contract.SignOutResponseObject, error) {
	err := a.Service.People.SignOut(ctx, requestOf(ctx).session)
	return contract.SignOut204Response{Headers: contract.SignOut204ResponseHeaders{SetCookie: a.cookie("", 0)}}, err
}

func (a *api) GetSetUp(ctx context.Context, _ contract.GetSetUpRequestObject) (contract.GetSetUpResponseObject, error) {
	needed, err := a.Service.People.ToBeSetUp(ctx)
	return contract.GetSetUp200JSONResponse{Needed: needed, Issuer: a.Service.People.Issuer != nil}, err
}

func (a *api) SetUp(ctx context.Context, r contract.SetUpRequestObject) (contract.SetUpResponseObject, error) {
	return contract.SetUp204Response{}, a.Service.People.SetUp(
		ctx, requestOf(ctx).signIn(r.Body.Name, r.Body.Password, ""), r.Body.Secret, given(r.Body.Title),
	)
}

const (
	issuerCookie = "plumlatch_issuer"
	issuerPath   = basePath + "/session/issuer"
	issuerAsks   = 10 * time.Minute
)

func (a *api) issuerCookie(value string, lasts time.Duration) *string {
	// Lax, since it has to come along when the issuer sends the browser back.
	c := http.Cookie{
		Name:     issuerCookie,
		Value:    value,
		Path:     issuerPath,
		HttpOnly: true,
		SameSite: http.SameSiteLaxMode,
		Secure:   a.Secure,
		MaxAge:   int(lasts.Seconds()),
	}
	if value == "" {
		c.MaxAge = -1
	}
	return new(c.String())
}

func (a *api) AskIssuer(context.Context, contract.AskIssuerRequestObject) (contract.AskIssuerResponseObject, error) {
	asked, to, err := a.Service.People.AskIssuer()
	if err != nil {
		return nil, err
	}
	data, err := json.Marshal(asked)
	return contract.AskIssuer302Response{
		Headers: contract.AskIssuer302ResponseHeaders{
			Location:  &to,
			SetCookie: a.issuerCookie(base64.RawURLEncoding.EncodeToString(data), issuerAsks),
		},
	}, err
}

func (a *api) AnswerIssuer(
	ctx context.Context, r contract.AnswerIssuerRequestObject,
) (contract.AnswerIssuerResponseObject, error) {
	var asked people.Asked
	if data, err := base64.RawURLEncoding.DecodeString(given(r.Params.PlumlatchIssuer)); err == nil {
		if json.Unmarshal(data, &asked) != nil {
			asked = people.Asked{} // is refused
		}
	}
	actor, secret, err := a.Service.People.SignInByIssuer(
		ctx, requestOf(ctx).signIn("", "", ""), asked, given(r.Params.State), given(r.Params.Code),
	)
	var p *problem.Problem
	if errors.As(err, &p) && p.Kind != problem.TooMany {
		return contract.AnswerIssuer302Response{
			Headers: contract.AnswerIssuer302ResponseHeaders{
				Location:  new("/sign-in?refused=" + p.Code),
				SetCookie: a.issuerCookie("", 0),
			},
		}, nil
	}
	if err != nil {
		return nil, err
	}
	to := "/"
	if actor.AwaitsCode {
		to = "/sign-in?code="
	}
	return signedIn{
		to:      to,
		cookies: []string{*a.cookie(secret, a.Service.People.SessionLasts), *a.issuerCookie("", 0)},
	}, nil
}

// signedIn is a page that leads on to the console. A redirect would not do: the session's
// cookie does not go with one that begins at another site.
type signedIn struct {
	to      string // of the console
	cookies []string
}

func (s signedIn) VisitAnswerIssuerResponse(w http.ResponseWriter) error {
	for _, c := range s.cookies {
		w.Header().Add("Set-Cookie", c)
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(http.StatusOK)
	_, err := io.WriteString(
		w,
		`<!doctype html><html lang="en"><title>Signed in</title>`+
			`<meta http-equiv="refresh" content="0;url=`+s.to+`"><p><a href="`+s.to+`">On to Plum Latch</a></p></html>`,
	)
	return err
}

func (a *api) GiveCode(ctx context.Context, r contract.GiveCodeRequestObject) (contract.GiveCodeResponseObject, error) {
	secret := ""
	if c, err := http.ParseCookie(requestOf(ctx).cookies); err == nil {
		for _, one := range c {
			if one.Name == a.cookieName() {
				secret = one.Value
			}
		}
	}
	actor, err := a.Service.People.GiveCode(ctx, requestOf(ctx).signIn("", "", r.Body.Code), secret)
	if err != nil {
		return nil, err
	}
	me, err := a.me(actor.Within(ctx), actor)
	return contract.GiveCode200JSONResponse(me), err
}

func (a *api) ConfirmSession(
	ctx context.Context, r contract.ConfirmSessionRequestObject,
) (contract.ConfirmSessionResponseObject, error) {
	if r.Body.Passkey != nil {
		answer, err := passkeyAnswer(r.Body.Passkey.Challenge, r.Body.Passkey.Credential)
		if err != nil {
			return nil, err
		}
		return contract.ConfirmSession204Response{}, a.Service.People.ConfirmByPasskey(
			ctx, actorOf(ctx), requestOf(ctx).origin(), answer,
		)
	}
	return contract.ConfirmSession204Response{}, a.Service.People.Confirm(
		ctx, actorOf(ctx), given(r.Body.Password), given(r.Body.Code),
	)
}

func (a *api) ChangePassword(
	ctx context.Context, r contract.ChangePasswordRequestObject,
) (contract.ChangePasswordResponseObject, error) {
	return contract.ChangePassword204Response{}, a.Service.People.ChangePassword(
		ctx, actorOf(ctx), requestOf(ctx).session, r.Body.Password, r.Body.NewPassword,
	)
}

func (a *api) ListSessions(
	ctx context.Context, r contract.ListSessionsRequestObject,
) (contract.ListSessionsResponseObject, error) {
	actor := actorOf(ctx)
	sessions, err := a.Service.People.Sessions(ctx, actor, given(r.Params.All))
	return contract.ListSessions200JSONResponse(each(sessions, func(n record.Session) contract.Session {
		return contract.Session{
			Id:        n.ID,
			Person:    n.Person,
			CreatedAt: n.CreatedAt,
			SeenAt:    n.SeenAt,
			ExpiresAt: n.ExpiresAt,
			Via:       n.Via,
			Address:   n.Address,
			Own:       n.ID == actor.Session,
		}
	})), err
}

func (a *api) EndSession(
	ctx context.Context, r contract.EndSessionRequestObject,
) (contract.EndSessionResponseObject, error) {
	return contract.EndSession204Response{}, a.Service.People.EndSession(ctx, actorOf(ctx), r.Session)
}

func (a *api) BeginFactor(
	ctx context.Context, _ contract.BeginFactorRequestObject,
) (contract.BeginFactorResponseObject, error) {
	f, err := a.Service.People.BeginFactor(ctx, actorOf(ctx))
	return contract.BeginFactor201JSONResponse{Secret: f.Secret, Url: f.URL}, err
}

func (a *api) ConfirmFactor(
	ctx context.Context, r contract.ConfirmFactorRequestObject,
) (contract.ConfirmFactorResponseObject, error) {
	codes, err := a.Service.People.ConfirmFactor(ctx, actorOf(ctx), r.Body.Code)
	return contract.ConfirmFactor200JSONResponse{Codes: codes}, err
}

func (a *api) RemoveFactor(
	ctx context.Context, r contract.RemoveFactorRequestObject,
) (contract.RemoveFactorResponseObject, error) {
	return contract.RemoveFactor204Response{}, a.Service.People.RemoveFactor(ctx, actorOf(ctx), r.Body.Code)
}

func (a *api) ListTokens(
	ctx context.Context, r contract.ListTokensRequestObject,
) (contract.ListTokensResponseObject, error) {
	tokens, err := a.Service.People.Tokens(ctx, actorOf(ctx), given(r.Params.All))
	return contract.ListTokens200JSONResponse(each(tokens, tokenOf)), err
}

func (a *api) AddToken(ctx context.Context, r contract.AddTokenRequestObject) (contract.AddTokenResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	t, secret, err := a.Service.People.AddToken(ctx, actorOf(ctx), once, people.NewToken{
		Name:   r.Body.Name,
		Role:   people.Role(given(r.Body.Role)),
		Days:   given(r.Body.Days),
		Only:   string(given(r.Body.Only)),
		Limits: given(r.Body.Limits), Charter: given(r.Body.Charter), Unsigned: given(r.Body.Unsigned),
		For: given(r.Body.For),
	})
	return contract.AddToken201JSONResponse{Token: tokenOf(t), Secret: secret}, err
}

func (a *api) RevokeToken(
	ctx context.Context, r contract.RevokeTokenRequestObject,
) (contract.RevokeTokenResponseObject, error) {
	return contract.RevokeToken204Response{}, a.Service.People.RevokeToken(ctx, actorOf(ctx), r.Token)
}

func (a *api) ListHolders(
	ctx context.Context, _ contract.ListHoldersRequestObject,
) (contract.ListHoldersResponseObject, error) {
	holders, err := a.Service.People.Holders(ctx)
	return contract.ListHolders200JSONResponse(each(holders, holderOf)), err
}

func split(names string) []string {
	if names == "" {
		return []string{}
	}
	return strings.Split(names, ", ")
}

func operatorOf(o record.Operator) contract.Operator {
	return contract.Operator{
		Name:     o.Name,
		Title:    o.Title,
		Role:     contract.Role(o.Role),
		Limits:   o.Limits,
		Teams:    split(o.Teams),
		Factor:   o.FactorAt != nil,
		Password: o.PasswordHash != "",
		Machine:  optional(o.Machine),
		IssuerName: optional(
			o.IssuerName,
		), Sessions: o.Sessions,
		Tokens:     o.Tokens,
		LastSeenAt: o.LastSeenAt,
		Closed:     o.ClosedAt != nil,
		Leaving:    o.Going(),
		CreatedAt:  o.CreatedAt,
		Etag:       people.OperatorTag(o),
	}
}

func (a *api) ListOperators(
	ctx context.Context, _ contract.ListOperatorsRequestObject,
) (contract.ListOperatorsResponseObject, error) {
	all, err := a.Service.People.Operators(ctx)
	return contract.ListOperators200JSONResponse(each(all, operatorOf)), err
}

func (a *api) operator(ctx context.Context, name string) (contract.Operator, error) {
	all, err := a.Service.People.Operators(ctx)
	if err != nil {
		return contract.Operator{}, err
	}
	return operatorOf(all[slices.IndexFunc(all, func(o record.Operator) bool { return o.Name == name })]), nil
}

func (a *api) AddOperator(
	ctx context.Context, r contract.AddOperatorRequestObject,
) (contract.AddOperatorResponseObject, error) {
	b := r.Body
	once, err := onceFrom(r.Params.IdempotencyKey, b)
	if err != nil {
		return nil, err
	}
	if err := a.Service.People.AddOperator(ctx, actorOf(ctx), once, people.NewOperator{
		Machine:    given(r.Body.Machine),
		Name:       b.Name,
		Title:      given(b.Title),
		Role:       people.Role(b.Role),
		Password:   given(b.Password),
		Limits:     given(b.Limits),
		IssuerName: given(b.IssuerName),
	}); err != nil {
		return nil, err
	}
	o, err := a.operator(ctx, b.Name)
	return contract.AddOperator201JSONResponse(o), err
}

func (a *api) ChangeOperator(
	ctx context.Context, r contract.ChangeOperatorRequestObject,
) (contract.ChangeOperatorResponseObject, error) {
	b := r.Body
	c := people.OperatorChange{
		Limits:       b.Limits,
		Password:     b.Password,
		IssuerName:   b.IssuerName,
		Closed:       b.Closed,
		ForgetFactor: given(b.ForgetFactor),
		Reason:       given(b.Reason),
		Match:        given(r.Params.IfMatch),
	}
	if b.Role != nil {
		c.Role = new(people.Role(*b.Role))
	}
	if err := a.Service.People.ChangeOperator(ctx, actorOf(ctx), r.Operator, c); err != nil {
		return nil, err
	}
	o, err := a.operator(ctx, r.Operator)
	return contract.ChangeOperator200JSONResponse{
		Body:    o,
		Headers: contract.ChangeOperator200ResponseHeaders{ETag: &o.Etag},
	}, err
}

func (a *api) AddTeam(ctx context.Context, r contract.AddTeamRequestObject) (contract.AddTeamResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	return contract.AddTeam204Response{}, a.Service.People.AddTeam(
		ctx, actorOf(ctx), once, r.Body.Name, given(r.Body.Title),
	)
}

func (a *api) DeleteTeam(
	ctx context.Context, r contract.DeleteTeamRequestObject,
) (contract.DeleteTeamResponseObject, error) {
	return contract.DeleteTeam204Response{}, a.Service.People.DeleteTeam(ctx, actorOf(ctx), r.Team)
}

func (a *api) JoinTeam(ctx context.Context, r contract.JoinTeamRequestObject) (contract.JoinTeamResponseObject, error) {
	return contract.JoinTeam204Response{}, a.Service.People.SetTeamMember(ctx, actorOf(ctx), r.Team, r.Operator, true)
}

func (a *api) PartTeam(ctx context.Context, r contract.PartTeamRequestObject) (contract.PartTeamResponseObject, error) {
	return contract.PartTeam204Response{}, a.Service.People.SetTeamMember(ctx, actorOf(ctx), r.Team, r.Operator, false)
}

func leavingOf(l leaving.Leaving) contract.Leaving {
	out := contract.Leaving{
		Person:   l.Person,
		Shut:     full(l.Shut),
		Thin:     full(l.Thin),
		TeamKeys: full(l.TeamKeys),
		Closed:   l.Closed, AccountClosed: l.AccountClosed,
		Items: each(l.Items, func(i leaving.LeavingItem) contract.LeavingItem {
			item := contract.LeavingItem{Key: i.Key, Login: optional(i.Login), What: contract.LeavingItemWhat(i.What)}
			if i.Login != "" {
				item.Before, item.After = new(contract.ReachState(i.Before)), new(contract.ReachState(i.After))
			}
			return item
		}),
	}
	if b := l.Begun; b != nil {
		out.BegunAt, out.BegunBy, out.To, out.Reason, out.Rotation, out.Note = &b.BegunAt, &b.By, &b.To, optional(
			b.Reason,
		), b.Rotation, optional(
			b.Note,
		)
	}
	return out
}

// full is the list, empty where there is none.
func full(l []string) []string {
	if l == nil {
		return []string{}
	}
	return l
}

func (a *api) GetLeaving(
	ctx context.Context, r contract.GetLeavingRequestObject,
) (contract.GetLeavingResponseObject, error) {
	l, err := a.Service.Leaving.Leaving(ctx, r.Operator)
	return contract.GetLeaving200JSONResponse(leavingOf(l)), err
}

func (a *api) BeginLeaving(
	ctx context.Context, r contract.BeginLeavingRequestObject,
) (contract.BeginLeavingResponseObject, error) {
	if given(r.Body.Again) {
		l, err := a.Service.Leaving.LeaveAgain(ctx, actorOf(ctx), r.Operator, given(r.Body.Reason))
		return contract.BeginLeaving202JSONResponse(leavingOf(l)), err
	}
	l, err := a.Service.Leaving.BeginLeaving(ctx, actorOf(ctx), r.Operator, given(r.Body.To), given(r.Body.Reason))
	return contract.BeginLeaving202JSONResponse(leavingOf(l)), err
}

func (a *api) CallOffLeaving(
	ctx context.Context, r contract.CallOffLeavingRequestObject,
) (contract.CallOffLeavingResponseObject, error) {
	l, err := a.Service.Leaving.CallOffLeaving(ctx, actorOf(ctx), r.Operator)
	return contract.CallOffLeaving200JSONResponse(leavingOf(l)), err
}
