package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/coder/websocket"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/visit"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/problem"
	visits "plumlatch/internal/service/visit"
)

func visitOf(v record.VisitRecord) contract.Visit {
	out := contract.Visit{
		Id:       v.ID,
		Login:    fleet.LoginName(v.OSUser, v.InstanceName),
		Person:   v.Person,
		Way:      contract.VisitWay(v.Way),
		Key:      v.KeyName,
		Reason:   optional(v.Reason),
		Address:  v.Address,
		State:    contract.VisitState(v.State),
		AskedAt:  v.CreatedAt,
		OpenedAt: v.OpenedAt,
		EndedAt:  v.EndedAt,
		EndedBy:  optional(v.EndedBy),
		Problem:  optional(v.Problem),
		Recorded: v.Recorded,
		Placed:   optional(v.Placed),
	}
	if len(v.KeySHA256) > 0 {
		out.KeySha256 = new(keypair.FormatSHA256(v.KeySHA256))
	}
	if v.EndedHow != "" {
		out.EndedHow = new(contract.VisitEnd(v.EndedHow))
	}
	return out
}

func (a *api) ListVisits(
	ctx context.Context, r contract.ListVisitsRequestObject,
) (contract.ListVisitsResponseObject, error) {
	page, err := pageFrom(r.Params.After, r.Params.Limit, r.Params.Total)
	if err != nil {
		return nil, err
	}
	user, instance := fleet.CutLogin(given(r.Params.Login))
	l, err := a.Service.Visits.List(ctx, actorOf(ctx), record.VisitFilter{
		Instance: instance, OSUser: user, Person: given(r.Params.Person), Live: given(r.Params.Live),
	}, page)
	return contract.ListVisits200JSONResponse{
		Items: each(l.Items, visitOf), Next: optional(l.Next), Total: l.Total,
	}, err
}

func (a *api) BeginVisit(
	ctx context.Context, r contract.BeginVisitRequestObject,
) (contract.BeginVisitResponseObject, error) {
	v, err := a.Service.Visits.Begin(ctx, actorOf(ctx), visits.Wanted{
		Login:     r.Body.Login,
		Way:       visit.Way(r.Body.Way),
		Key:       given(r.Body.Key),
		PublicKey: given(r.Body.PublicKey),
		Reason:    given(r.Body.Reason),
		Address:   requestOf(ctx).address,
	})
	return contract.BeginVisit201JSONResponse(visitOf(v)), err
}

func (a *api) GetVisit(
	ctx context.Context, r contract.GetVisitRequestObject,
) (contract.GetVisitResponseObject, error) {
	v, err := a.Service.Visits.Visit(ctx, actorOf(ctx), r.Visit)
	return contract.GetVisit200JSONResponse(visitOf(v)), err
}

func (a *api) EndVisit(
	ctx context.Context, r contract.EndVisitRequestObject,
) (contract.EndVisitResponseObject, error) {
	v, err := a.Service.Visits.End(ctx, actorOf(ctx), r.Visit)
	return contract.EndVisit200JSONResponse(visitOf(v)), err
}

func (a *api) GetRecording(
	ctx context.Context, r contract.GetRecordingRequestObject,
) (contract.GetRecordingResponseObject, error) {
	text, err := a.Service.Visits.Recording(ctx, actorOf(ctx), r.Visit, given(r.Params.Reason))
	return contract.GetRecording200TextResponse(text), err
}

func (a *api) ListRecordedLabels(
	ctx context.Context, _ contract.ListRecordedLabelsRequestObject,
) (contract.ListRecordedLabelsResponseObject, error) {
	all, err := a.Service.Visits.Labels(ctx)
	return contract.ListRecordedLabels200JSONResponse(each(all, func(l record.RecordedLabel) contract.RecordedLabel {
		return contract.RecordedLabel{Name: l.Name, Value: l.Value, AddedBy: l.AddedBy, AddedAt: l.AddedAt}
	})), err
}

func (a *api) SetRecordedLabel(
	ctx context.Context, r contract.SetRecordedLabelRequestObject,
) (contract.SetRecordedLabelResponseObject, error) {
	err := a.Service.Visits.SetLabel(ctx, actorOf(ctx), r.Body.Name, r.Body.Value, r.Body.Records)
	return contract.SetRecordedLabel204Response{}, err
}

// OpenVisit takes a WebSocket from a page of the console's own origin, which has to say where it is from: a browser
// sends the session's cookie with those of other sites as well.
func (a *api) OpenVisit(
	ctx context.Context, r contract.OpenVisitRequestObject,
) (contract.OpenVisitResponseObject, error) {
	if requestOf(ctx).raw.Header.Get("Origin") == "" {
		return nil, errForeignOrigin
	}
	return visitStream{ctx, a, r}, nil
}

// visitStream is a visit over a WebSocket.
type visitStream struct {
	ctx     context.Context
	api     *api
	request contract.OpenVisitRequestObject
}

const (
	// mostMessage is the size of a message from a page, in bytes: a paste comes in pieces.
	mostMessage = 1 << 20
	// pingEvery is how often it is looked whether the page is still there, and pingWithin how soon it has to answer.
	pingEvery, pingWithin = 20 * time.Second, 15 * time.Second
)

// VisitOpenVisitResponse serves the page until it goes, or the visit is over.
func (s visitStream) VisitOpenVisitResponse(w http.ResponseWriter) error {
	conn, err := websocket.Accept(w, requestOf(s.ctx).raw, nil) // refuses other origins than the host's own
	if err != nil {
		s.api.Log.Info("a page was refused a visit", "id", requestOf(s.ctx).id, "err", err)
		return nil // it was answered
	}
	defer conn.CloseNow()
	conn.SetReadLimit(mostMessage)
	ctx, cancel := context.WithCancel(s.ctx)
	defer cancel()
	go func() {
		for tick := time.NewTicker(pingEvery); ; {
			select {
			case <-ctx.Done():
				tick.Stop()
				return
			case <-tick.C:
			}
			within, done := context.WithTimeout(ctx, pingWithin)
			err := conn.Ping(within)
			done()
			if err != nil {
				cancel()
				return
			}
		}
	}()
	page := socketPage{conn}
	err = s.api.Service.Visits.Attach(ctx, actorOf(s.ctx), s.request.Visit, given(s.request.Params.From), page)
	var p *problem.Problem
	switch {
	case err == nil:
		_ = conn.Close(websocket.StatusNormalClosure, "")
	case errors.As(err, &p) && p.Kind == problem.Unavailable:
		_ = conn.Close(websocket.StatusTryAgainLater, p.Code)
	case errors.As(err, &p):
		_ = page.Tell(ctx, visits.Message{Kind: visits.EndKind, How: visit.Failed, Why: p.Detail})
		_ = conn.Close(websocket.StatusNormalClosure, p.Code)
	default:
		s.api.Log.Error("a visit failed", "id", requestOf(s.ctx).id, "err", err)
		_ = conn.Close(websocket.StatusInternalError, "failed")
	}
	return nil
}

// socketPage is a page at the other end of a WebSocket.
type socketPage struct{ conn *websocket.Conn }

func (p socketPage) Tell(ctx context.Context, m visits.Message) error {
	out := contract.VisitMessage{
		Kind: contract.VisitMessageKind(m.Kind), Why: optional(m.Why), Recorded: optional(m.Recorded), At: optional(m.At),
	}
	if m.Data != nil {
		out.Data = &m.Data
	}
	if m.How != "" {
		out.How = new(contract.VisitEnd(m.How))
	}
	data, err := json.Marshal(out)
	if err != nil {
		return err
	}
	return p.conn.Write(ctx, websocket.MessageText, data)
}

func (p socketPage) Show(ctx context.Context, output []byte) error {
	return p.conn.Write(ctx, websocket.MessageBinary, output)
}

func (p socketPage) Read(ctx context.Context) (*visits.Message, []byte, error) {
	kind, data, err := p.conn.Read(ctx)
	if err != nil || kind == websocket.MessageBinary {
		return nil, data, err
	}
	var m contract.VisitMessage
	if err := json.Unmarshal(data, &m); err != nil {
		return nil, nil, fmt.Errorf("a message of the page: %w", err)
	}
	return &visits.Message{
		Kind: string(m.Kind),
		Why:  given(m.Why),
		Data: given(m.Data),
		Cols: given(m.Cols),
		Rows: given(m.Rows),
		Seen: given(m.Seen),
	}, nil, nil
}
