package httpapi

import (
	"context"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
)

func (a *api) mailOf(m *record.MailAddress) contract.Mail {
	out := contract.Mail{Enabled: a.Service.Mailing.Sender != nil}
	if m != nil {
		out.Address, out.AskedAt, out.ConfirmedAt, out.SentAt = &m.Address, &m.AskedAt, m.ConfirmedAt, m.SentAt
		out.Problem = optional(m.Problem)
	}
	return out
}

func (a *api) GetMail(ctx context.Context, _ contract.GetMailRequestObject) (contract.GetMailResponseObject, error) {
	m, err := a.Service.Mailing.Address(ctx, actorOf(ctx))
	return contract.GetMail200JSONResponse(a.mailOf(m)), err
}

func (a *api) SetMail(ctx context.Context, r contract.SetMailRequestObject) (contract.SetMailResponseObject, error) {
	m, err := a.Service.Mailing.SetAddress(ctx, actorOf(ctx), r.Body.Address)
	return contract.SetMail200JSONResponse(a.mailOf(m)), err
}

func (a *api) ForgetMail(
	ctx context.Context, _ contract.ForgetMailRequestObject,
) (contract.ForgetMailResponseObject, error) {
	return contract.ForgetMail204Response{}, a.Service.Mailing.Forget(ctx, actorOf(ctx))
}

func (a *api) ConfirmMail(
	ctx context.Context, r contract.ConfirmMailRequestObject,
) (contract.ConfirmMailResponseObject, error) {
	return contract.ConfirmMail204Response{}, a.Service.Mailing.Confirm(ctx, actorOf(ctx), r.Body.Code)
}
