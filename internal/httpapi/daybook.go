package httpapi

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"plumlatch/internal/core/daybook"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
)

func entryOf(e record.Entry) contract.Entry {
	return contract.Entry{
		Seq:         int(e.Seq),
		At:          e.At.UTC(),
		Person:      e.Person,
		Via:         e.Via,
		Action:      e.Action,
		SubjectKind: e.SubjectKind,
		Subject:     e.Subject,
		Why:         optional(e.Why),
		Outcome:     e.Outcome,
		Told:        optional(e.Told),
		Sentence:    e.Text(),
		About:       list(e.About),
		Details:     &e.Details,
		RequestId:   optional(e.RequestID),
		PrevHash:    new(hex.EncodeToString(e.PrevHash)),
		Hash:        new(hex.EncodeToString(e.Hash)),
	}
}

// entryFilter is what narrows the daybook; the three calls have the same parameters.
func entryFilter(p contract.ExportDaybookParams) record.EntryFilter {
	f := record.EntryFilter{
		Person:  given(p.Person),
		Subject: given(p.Subject),
		Action:  given(p.Action),
		From:    given(p.From),
		Until:   given(p.Until),
	}
	if key := given(p.Key); key != "" {
		f.About = append(f.About, "key:"+key)
	}
	if instance := given(p.Instance); instance != "" {
		f.About = append(f.About, "instance:"+instance)
	}
	if run := given(p.Run); run != "" {
		f.About = append(f.About, "run:"+run)
	}
	return f
}

func (a *api) ListDaybook(
	ctx context.Context, r contract.ListDaybookRequestObject,
) (contract.ListDaybookResponseObject, error) {
	q := r.Params
	p, err := pageFrom(q.After, q.Limit, q.Total)
	if err != nil {
		return nil, err
	}
	f := entryFilter(contract.ExportDaybookParams{
		Person:   q.Person,
		Subject:  q.Subject,
		Action:   q.Action,
		Key:      q.Key,
		Instance: q.Instance,
		Run:      q.Run,
		From:     q.From,
		Until:    q.Until,
	})
	l, err := a.Service.Journal.List(ctx, f, p)
	return contract.ListDaybook200JSONResponse{Items: each(l.Items, entryOf), Next: optional(l.Next), Total: l.Total}, err
}

func (a *api) ExportDaybook(
	ctx context.Context, r contract.ExportDaybookRequestObject,
) (contract.ExportDaybookResponseObject, error) {
	return exported{ctx, a, entryFilter(r.Params)}, nil
}

// exported writes the entries as JSON Lines.
type exported struct {
	ctx    context.Context
	api    *api
	filter record.EntryFilter
}

func (e exported) VisitExportDaybookResponse(w http.ResponseWriter) error {
	if err := http.NewResponseController(w).SetWriteDeadline(time.Time{}); err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	lines := json.NewEncoder(w)
	lines.SetEscapeHTML(false)
	err := e.api.Service.Journal.Export(e.ctx, e.filter, func(n record.Entry) error { return lines.Encode(entryOf(n)) })
	if err != nil { // the head is sent, so the connection is cut for the reader to see that it is not all
		e.api.Log.Warn("an export of the daybook ended early", "err", err)
		panic(http.ErrAbortHandler)
	}
	return nil
}

func (a *api) WatchDaybook(
	ctx context.Context, r contract.WatchDaybookRequestObject,
) (contract.WatchDaybookResponseObject, error) {
	q := r.Params
	after, err := strconv.ParseInt(given(q.LastEventID), 10, 64)
	if err != nil {
		after = -1
	}
	f := entryFilter(contract.ExportDaybookParams{
		Person:   q.Person,
		Subject:  q.Subject,
		Action:   q.Action,
		Key:      q.Key,
		Instance: q.Instance,
		Run:      q.Run,
		From:     q.From,
		Until:    q.Until,
	})
	return entryEvents{exported{ctx, a, f}, after}, nil
}

// entryEvents is the daybook as it grows, as server-sent events.
type entryEvents struct {
	exported
	after int64
}

func (e entryEvents) VisitWatchDaybookResponse(w http.ResponseWriter) error {
	control, err := eventStream(w)
	if err != nil {
		return err
	}
	err = e.api.Service.Journal.Watch(e.ctx, e.filter, e.after, func(n record.Entry) error {
		return sendEvent(w, control, n.Seq, "entry", entryOf(n))
	})
	if err != nil {
		e.api.Log.Info("a stream of the daybook ended early", "err", err)
	}
	return nil
}

func (a *api) CheckDaybook(
	ctx context.Context, r contract.CheckDaybookRequestObject,
) (contract.CheckDaybookResponseObject, error) {
	var kept *daybook.Head
	if r.Body != nil {
		hash, err := daybook.ReadHash(r.Body.Hash)
		if err != nil || r.Body.Seq < 0 {
			return nil, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-hash",
				Field:  "hash",
				Detail: "the head's hash is not 64 hexadecimal digits",
				Remedy: "Give the head as plumlatch daybook head exported it",
			}
		}
		kept = &daybook.Head{Seq: int64(r.Body.Seq), Hash: hash}
	}
	c, err := a.Service.Journal.Check(ctx, kept)
	out := contract.CheckDaybook200JSONResponse{
		Entries:   int(c.Entries),
		Head:      c.Head.String(),
		Intact:    c.Fault == nil,
		CanChange: c.Open,
		Redacted:  each(c.Redacted, func(n int64) int { return int(n) }),
	}
	if c.Fault != nil {
		out.Fault = &contract.DaybookFault{Seq: int(c.Fault.Seq), What: c.Fault.What}
	}
	return out, err
}

func (a *api) GetDaybookHead(
	ctx context.Context, _ contract.GetDaybookHeadRequestObject,
) (contract.GetDaybookHeadResponseObject, error) {
	h, err := a.Service.Journal.Head(ctx)
	return contract.GetDaybookHead200JSONResponse{
		Service:   h.Service,
		Seq:       int(h.Seq),
		Hash:      h.Hash.String(),
		At:        h.At,
		PublicKey: h.PublicKey,
		Signature: h.Signature,
	}, err
}

// eventStream begins a stream of server-sent events.
func eventStream(w http.ResponseWriter) (*http.ResponseController, error) {
	control := http.NewResponseController(w)
	if err := control.SetWriteDeadline(time.Time{}); err != nil {
		return nil, err
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.WriteHeader(http.StatusOK)
	return control, control.Flush()
}

func sendEvent(w http.ResponseWriter, control *http.ResponseController, id int64, event string, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", id, event, data); err != nil {
		return err
	}
	return control.Flush()
}
