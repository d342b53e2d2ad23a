package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/weakness"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
)

// api answers the calls of the contract.
type api struct{ *server }

// cookieName has, over TLS, the prefix by which a browser takes the cookie from this host alone (RFC 6265bis).
func (s *server) cookieName() string {
	if s.Secure {
		return "__Host-" + cookieName
	}
	return cookieName
}

func (a *api) cookie(value string, lasts time.Duration) *string {
	c := http.Cookie{
		Name:     a.cookieName(),
		Value:    value,
		Path:     "/",
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		Secure:   a.Secure,
		MaxAge:   int(lasts.Seconds()),
	}
	if value == "" {
		c.MaxAge = -1
	}
	return new(c.String())
}

func (a *api) me(ctx context.Context, actor people.Actor) (contract.Me, error) {
	name, err := a.Service.Clouds.Called(ctx)
	if err != nil {
		return contract.Me{}, err
	}
	me := contract.Me{
		Name:    actor.Name,
		Role:    contract.Role(actor.Role),
		By:      contract.MeBySession,
		Service: "Plum Latch " + a.Version,
		Cloud:   name,
		Only:    optional(actor.Only),
		Limits:  actor.Limits,
	}
	if actor.ByToken {
		me.By = contract.MeByToken
	}
	if me.Limits == nil {
		me.Limits = map[string]string{}
	}
	me.Factor, err = a.Service.People.HasFactor(ctx, actor)
	return me, err
}

func (a *api) GetCatalogue(
	ctx context.Context, r contract.GetCatalogueRequestObject,
) (contract.GetCatalogueResponseObject, error) {
	c, err := a.Service.Fleet.Catalogue(ctx, given(r.Params.Cloud), given(r.Params.Zone))
	if err != nil {
		return nil, err
	}
	out := contract.GetCatalogue200JSONResponse{Cloud: c.Cloud.Name}
	for _, i := range c.Images {
		out.Images = append(out.Images, contract.Image{
			Name: i.Name, Title: i.Title, Family: string(i.Family), LoginUser: i.LoginUser, KeyTypes: i.KeyTypes,
			Zones: i.Zones,
		})
	}
	for _, z := range c.Sizes {
		out.Sizes = append(out.Sizes, contract.Size(z))
	}
	for _, z := range c.Zones {
		out.Zones = append(out.Zones, contract.Zone(z))
	}
	return out, nil
}

const (
	defaultLimit = 50
	maxLimit     = 500
)

func pageFrom(after *string, limit *int, total *bool) (record.Page, error) {
	n, err := limitFrom(limit, defaultLimit, maxLimit)
	return record.Page{After: given(after), Limit: n, Total: given(total)}, err
}

func limitFrom(limit *int, usual, most int) (int, error) {
	if limit == nil {
		return usual, nil
	}
	if *limit < 1 || *limit > most {
		return 0, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-limit",
			Field:  "limit",
			Detail: fmt.Sprintf("limit is %d; 1 to %d are allowed", *limit, most),
		}
	}
	return *limit, nil
}

func labelFrom(label *string) (name, value string, err error) {
	if label == nil || *label == "" {
		return "", "", nil
	}
	name, value, ok := strings.Cut(*label, "=")
	if !ok || name == "" {
		return "", "", &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-label",
			Field:  "label",
			Detail: "a label is written name=value",
		}
	}
	return name, value, nil
}

func (a *api) ListKeys(ctx context.Context, r contract.ListKeysRequestObject) (contract.ListKeysResponseObject, error) {
	q := r.Params
	p, err := pageFrom(q.After, q.Limit, q.Total)
	if err != nil {
		return nil, err
	}
	f := record.KeyFilter{Text: given(q.Q), Type: given(q.Type), Holder: given(q.Holder), Own: q.Own, Sort: given(q.Sort)}
	if f.LabelName, f.LabelText, err = labelFrom(q.Label); err != nil {
		return nil, err
	}
	l, err := a.Service.Keys.List(ctx, f, p)
	return contract.ListKeys200JSONResponse{Items: each(l.Items, keyOf), Next: optional(l.Next), Total: l.Total}, err
}

func (a *api) ReadKey(ctx context.Context, r contract.ReadKeyRequestObject) (contract.ReadKeyResponseObject, error) {
	file, known, err := a.Service.Keys.ReadKey(ctx, r.Body.PublicKey)
	if err != nil {
		return nil, err
	}
	p := file.Public
	return contract.ReadKey200JSONResponse{
		Type:         p.Type,
		Algorithm:    p.Algorithm,
		Bits:         p.Bits,
		Fingerprints: fingerprintsOf(p),
		Comment:      p.Comment,
		KnownAs:      optional(known),
		Format: string(
			file.Format,
		), Notes: each(file.Notes, func(n keypair.Note) string { return n.Text }),
		Findings: each(weakness.Judge(p), findingOf),
	}, nil
}

// onceFrom ties an Idempotency-Key to what was asked under it.
func onceFrom(key *string, body any) (journal.IdempotencyKey, error) {
	if key == nil {
		return journal.IdempotencyKey{}, nil
	}
	data, err := json.Marshal(body)
	if len(*key) > 128 || *key == "" {
		err = &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-idempotency-key",
			Field:  "Idempotency-Key",
			Detail: "an Idempotency-Key has 1 to 128 characters",
		}
	}
	return journal.IdempotencyKey{Key: *key, Request: data}, err
}

func (a *api) ImportKey(
	ctx context.Context, r contract.ImportKeyRequestObject,
) (contract.ImportKeyResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	b := r.Body
	k, err := a.Service.Keys.ImportKey(ctx, actorOf(ctx), once, keys.ImportedKey{
		NewKey: keys.NewKey{
			Name:    b.Name,
			Holder:  given(b.Holder),
			Purpose: given(b.Purpose),
			Labels:  given(b.Labels),
		},
		PublicKey:    b.PublicKey,
		Comment:      b.Comment,
		MadeByClient: given(b.Origin) == contract.OriginClient,
		PKCS8SHA1:    given(b.Pkcs8Sha1),
		NoHolder:     given(b.NoHolder),
	})
	return contract.ImportKey201JSONResponse(keyOf(k)), err
}

func (a *api) ImportKeys(
	ctx context.Context, r contract.ImportKeysRequestObject,
) (contract.ImportKeysResponseObject, error) {
	b := r.Body
	list := each(b.Keys, func(k contract.ListedKey) keys.ListedKey {
		return keys.ListedKey{Name: k.Name, PublicKey: k.PublicKey}
	})
	results, err := a.Service.Keys.ImportKeys(
		ctx, actorOf(ctx), keys.NewKey{Holder: given(b.Holder), Purpose: given(b.Purpose), Labels: given(b.Labels)},
		list,
	)
	return contract.ImportKeys200JSONResponse(each(results, func(l keys.ListResult) contract.ListResult {
		return contract.ListResult{
			Name:    l.Name,
			State:   contract.ListResultState(l.State),
			KnownAs: optional(l.KnownAs),
			Detail:  optional(l.Detail),
		}
	})), err
}

func (a *api) ReadKeyList(
	ctx context.Context, r contract.ReadKeyListRequestObject,
) (contract.ReadKeyListResponseObject, error) {
	lines, notes, err := a.Service.Keys.ReadKeyList(ctx, r.Body.Text, r.Body.Prefix)
	return contract.ReadKeyList200JSONResponse{
		Lines: each(lines, listLineOf),
		Notes: each(notes, func(n keypair.Note) string { return n.Text }),
	}, err
}

func (a *api) MakeKey(ctx context.Context, r contract.MakeKeyRequestObject) (contract.MakeKeyResponseObject, error) {
	b := *r.Body
	passphrase := given(b.Passphrase)
	b.Passphrase = nil // a hash of the request is kept, and must not serve to guess it
	recipient := given(b.Recipient)
	b.Recipient = nil // it is another one each time
	once, err := onceFrom(r.Params.IdempotencyKey, b)
	if err != nil {
		return nil, err
	}
	format := keypair.Format(given(b.Format))
	k, private, err := a.Service.Keys.MakeKey(ctx, actorOf(ctx), once, keys.MadeHere{
		NewKey: keys.NewKey{Name: b.Name, Holder: given(b.Holder), Purpose: given(b.Purpose), Labels: given(b.Labels)},
		Spec: keypair.Spec{
			Type: given(b.Type),
			Bits: given(b.Bits),
		}, Comment: given(b.Comment), Format: format, Passphrase: passphrase, Recipient: recipient,
	})
	return contract.MakeKey201JSONResponse{
		Key:        keyOf(k),
		PrivateKey: string(private),
		FileName:   format.FileName(k.Name),
	}, err
}

func (a *api) GetKey(ctx context.Context, r contract.GetKeyRequestObject) (contract.GetKeyResponseObject, error) {
	k, err := a.Service.Keys.Key(ctx, r.Key)
	return contract.GetKey200JSONResponse(keyOf(k)), err
}

func (a *api) ChangeKey(
	ctx context.Context, r contract.ChangeKeyRequestObject,
) (contract.ChangeKeyResponseObject, error) {
	k, err := a.Service.Keys.ChangeKey(ctx, actorOf(ctx), r.Key, keys.Change{
		Name: given(r.Body.Name), Purpose: r.Body.Purpose, SetLabels: given(r.Body.SetLabels),
		RemoveLabels: given(r.Body.RemoveLabels), Reason: given(r.Body.Reason),
	})
	return contract.ChangeKey200JSONResponse(keyOf(k)), err
}

func (a *api) DeleteKey(
	ctx context.Context, r contract.DeleteKeyRequestObject,
) (contract.DeleteKeyResponseObject, error) {
	return contract.DeleteKey204Response{}, a.Service.Keys.DeleteKey(ctx, actorOf(ctx), r.Key)
}

func (a *api) GetPublicKey(
	ctx context.Context, r contract.GetPublicKeyRequestObject,
) (contract.GetPublicKeyResponseObject, error) {
	text, err := a.Service.Keys.PublicKey(ctx, r.Key, keypair.Format(given(r.Params.Format)))
	return contract.GetPublicKey200TextResponse(text), err
}

func (a *api) ListOpens(
	ctx context.Context, r contract.ListOpensRequestObject,
) (contract.ListOpensResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, r.Params.Total)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Keys.Opens(ctx, r.Key, p)
	return contract.ListOpens200JSONResponse{Items: each(l.Items, openingOf), Next: optional(l.Next), Total: l.Total}, err
}

func (a *api) Trace(ctx context.Context, r contract.TraceRequestObject) (contract.TraceResponseObject, error) {
	t, err := a.Service.Keys.Trace(ctx, r.Body.Text)
	return contract.Trace200JSONResponse{ReadAs: t.ReadAs, Compared: t.Compared, Matches: each(t.Matches, tracedOf)}, err
}

func (a *api) ListNames(
	ctx context.Context, r contract.ListNamesRequestObject,
) (contract.ListNamesResponseObject, error) {
	limit, err := limitFrom(r.Params.Limit, 12, 50)
	if err != nil {
		return nil, err
	}
	found, err := a.Service.Access.Names(ctx, r.Params.Q, limit)
	return contract.ListNames200JSONResponse(each(found, namedOf)), err
}

func (a *api) ListInstances(
	ctx context.Context, r contract.ListInstancesRequestObject,
) (contract.ListInstancesResponseObject, error) {
	q := r.Params
	p, err := pageFrom(q.After, q.Limit, q.Total)
	if err != nil {
		return nil, err
	}
	f := record.InstanceFilter{
		Text:   given(q.Q),
		Region: given(q.Region),
		State:  given(q.State),
		Image:  given(q.Image),
		Cloud:  given(q.Cloud),
		Via:    given(q.Via),
		Sort:   given(q.Sort),
	}
	if f.LabelName, f.LabelText, err = labelFrom(q.Label); err != nil {
		return nil, err
	}
	l, err := a.Service.Fleet.List(ctx, f, p)
	return contract.ListInstances200JSONResponse{
		Items: each(l.Items, instanceOf),
		Next:  optional(l.Next),
		Total: l.Total,
	}, err
}

func (a *api) LaunchInstance(
	ctx context.Context, r contract.LaunchInstanceRequestObject,
) (contract.LaunchInstanceResponseObject, error) {
	once, err := onceFrom(r.Params.IdempotencyKey, r.Body)
	if err != nil {
		return nil, err
	}
	b := r.Body
	i, run, err := a.Service.Fleet.Launch(ctx, actorOf(ctx), once, fleet.Launch{
		Name:          b.Name,
		Image:         b.Image,
		Size:          b.Size,
		Cloud:         given(b.Cloud),
		Zone:          given(b.Zone),
		Keys:          given(b.Keys),
		NoKey:         given(b.NoKey),
		Steward:       given(b.Steward),
		StaticAddress: given(b.StaticAddress), Labels: given(b.Labels), Reason: given(b.Reason),
	})
	return contract.LaunchInstance202JSONResponse{Instance: instanceOf(i), Run: runOf(run)}, err
}

func (a *api) GetInstance(
	ctx context.Context, r contract.GetInstanceRequestObject,
) (contract.GetInstanceResponseObject, error) {
	i, err := a.Service.Fleet.Instance(ctx, r.Instance)
	return contract.GetInstance200JSONResponse(instanceOf(i)), err
}

func (a *api) StartInstance(
	ctx context.Context, r contract.StartInstanceRequestObject,
) (contract.StartInstanceResponseObject, error) {
	run, err := a.Service.Fleet.Change(ctx, actorOf(ctx), fleet.RunStart, r.Instance, given(r.Params.Reason))
	return contract.StartInstance202JSONResponse(runOf(run)), err
}

func (a *api) StopInstance(
	ctx context.Context, r contract.StopInstanceRequestObject,
) (contract.StopInstanceResponseObject, error) {
	run, err := a.Service.Fleet.Change(ctx, actorOf(ctx), fleet.RunStop, r.Instance, given(r.Params.Reason))
	return contract.StopInstance202JSONResponse(runOf(run)), err
}

func (a *api) DeleteInstance(
	ctx context.Context, r contract.DeleteInstanceRequestObject,
) (contract.DeleteInstanceResponseObject, error) {
	run, err := a.Service.Fleet.Change(ctx, actorOf(ctx), fleet.RunDelete, r.Instance, given(r.Params.Reason))
	return contract.DeleteInstance202JSONResponse(runOf(run)), err
}

func (a *api) ListOpeners(
	ctx context.Context, r contract.ListOpenersRequestObject,
) (contract.ListOpenersResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, r.Params.Total)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Fleet.Openers(ctx, r.Instance, p)
	return contract.ListOpeners200JSONResponse{
		Items: each(l.Items, openingOf),
		Next:  optional(l.Next),
		Total: l.Total,
	}, err
}

func (a *api) ListRuns(ctx context.Context, r contract.ListRunsRequestObject) (contract.ListRunsResponseObject, error) {
	p, err := pageFrom(r.Params.After, r.Params.Limit, r.Params.Total)
	if err != nil {
		return nil, err
	}
	l, err := a.Service.Runs.List(ctx, record.RunFilter{
		State: given(r.Params.State), Instance: given(r.Params.Instance), Meant: given(r.Params.Meant),
	}, p)
	return contract.ListRuns200JSONResponse{Items: each(l.Items, runOf), Next: optional(l.Next), Total: l.Total}, err
}

func (a *api) GetRun(ctx context.Context, r contract.GetRunRequestObject) (contract.GetRunResponseObject, error) {
	run, err := a.Service.Runs.Run(ctx, r.Run)
	return contract.GetRun200JSONResponse(runOf(run)), err
}

func (a *api) WatchRun(ctx context.Context, r contract.WatchRunRequestObject) (contract.WatchRunResponseObject, error) {
	if _, err := a.Service.Runs.Run(ctx, r.Run); err != nil {
		return nil, err
	}
	last, err := strconv.ParseInt(given(r.Params.LastEventID), 10, 64)
	if err != nil {
		last = 0 // from the beginning
	}
	return runEvents{ctx: ctx, api: a, request: r, last: last}, nil
}

// runEvents is the stream of a run's changes as server-sent events.
type runEvents struct {
	ctx     context.Context
	api     *api
	request contract.WatchRunRequestObject
	last    int64
}

// VisitWatchRunResponse writes the stream until the run has ended.
func (e runEvents) VisitWatchRunResponse(w http.ResponseWriter) error {
	control, err := eventStream(w)
	if err != nil {
		return err
	}
	err = e.api.Service.Runs.Watch(e.ctx, e.request.Run, e.last, func(run record.Run) error {
		return sendEvent(w, control, run.Version, "run", runOf(run))
	})
	if err != nil {
		e.api.Log.Info("a stream ended early", "run", e.request.Run, "err", err)
	}
	return nil // the head is sent, so there is no other way to tell
}
