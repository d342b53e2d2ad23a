package httpapi

import (
	"context"
	"time"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/service/history"
	"plumlatch/internal/service/problem"
)

func (a *api) GetPast(ctx context.Context, r contract.GetPastRequestObject) (contract.GetPastResponseObject, error) {
	q := r.Params
	w := history.Wanted{Login: given(q.Login), Key: given(q.Key), Holder: given(q.Holder)}
	var err error
	if w.LabelName, w.LabelText, err = labelFrom(q.Label); err != nil {
		return nil, err
	}
	switch {
	case (q.At == nil) == (q.From == nil):
		return nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-time",
			Field:  "at",
			Detail: "give at, or from with until",
			Remedy: "Give one of them",
		}
	case q.At != nil:
		w.From, w.Until = *q.At, *q.At
	default:
		if w.From, w.Until = *q.From, time.Now(); q.Until != nil {
			w.Until = *q.Until
		}
	}
	page, err := a.Service.History.Past(ctx, w, given(q.After))
	if err != nil {
		return nil, err
	}
	var ways *[]contract.PastWay
	if w.Key == "" && w.Holder == "" {
		ways = new(each(page.Ways, pastWayOf))
	}
	return contract.GetPast200JSONResponse{
		Ways:  ways,
		From:  w.From,
		Until: w.Until,
		Keys:  each(page.Keys, pastKeyOf),
		Unknown: each(page.Unknown, func(u history.Unknown) contract.PastUnknown {
			return contract.PastUnknown{Login: u.Login, FirstRead: u.FirstRead}
		}),
		Next: optional(page.Next),
	}, nil
}

func pastKeyOf(k history.Key) contract.PastKey {
	out := contract.PastKey{
		Login: k.Login, Instance: k.Instance, Key: optional(k.Key), Sha256: k.SHA256, Comment: k.Comment,
		Holder: optional(k.Holder), Limits: optional(k.Limits), Opens: k.Opens, Known: contract.PastKeyKnown(k.Known),
		Grants: each(k.Grants, func(g history.Grant) contract.PastGrant {
			return contract.PastGrant{
				GrantedAt: g.At, GrantedBy: g.By, Reason: optional(g.Reason), Until: g.Until, WithdrawnAt: g.WithdrawnAt,
				WithdrawnBy: optional(g.WithdrawnBy),
			}
		}),
	}
	if i := k.Interval; i != nil {
		out.SeenFrom, out.SeenTo, out.SeenBy = &i.From, &i.To, optional(i.Method)
		if !i.NotBefore.IsZero() {
			out.NotBefore = &i.NotBefore
		}
		if !i.GoneBy.IsZero() {
			out.GoneBy = &i.GoneBy
		}
	}
	return out
}

func pastWayOf(w history.Way) contract.PastWay {
	out := contract.PastWay{
		Login: w.Login, Instance: w.Instance, Kind: contract.PastWayKind(w.Kind), Name: optional(w.Name), Text: w.Text,
		Known: contract.PastWayKnown(w.Known),
	}
	if i := w.Interval; i != nil {
		out.SeenFrom, out.SeenTo = &i.From, &i.To
		if !i.NotBefore.IsZero() {
			out.NotBefore = &i.NotBefore
		}
		if !i.GoneBy.IsZero() {
			out.GoneBy = &i.GoneBy
		}
	}
	return out
}
