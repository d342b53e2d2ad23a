package clouds

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

const (
	// askEvery is how often each cloud is asked whether it answers, and askWithin for how long it is waited for.
	askEvery  = time.Minute
	askWithin = 10 * time.Second
	// maxToken and maxCA are how long a token and certificate authorities may be, in bytes; mostClouds is how many
	// clouds there may be, and mostZones how many zones of one are kept.
	maxToken   = 4096
	maxCA      = 64 << 10
	mostClouds = 100
	mostZones  = 500
)

// Wanted says what cloud is wanted, or how one is changed: what is empty stays.
type Wanted struct {
	Name, Adapter, Token string
	// CA is the certificate authorities in PEM; for a change, nil leaves them as they are.
	CA     *string
	Reason string
}

// List returns the clouds, the one that the service is started with first.
func (s *Service) List(ctx context.Context) ([]record.Cloud, error) {
	list, err := s.store.Clouds(ctx)
	out := list[:0]
	for _, c := range list {
		if c.Given {
			if c.Adapter = s.o.Adapter; s.given == nil && c.Instances == 0 {
				continue // it was never there
			}
		}
		out = append(out, c)
	}
	return out, err
}

// Called returns what people call the first cloud; "" where there is none, or it has never answered.
func (s *Service) Called(ctx context.Context) (string, error) {
	all, err := s.List(ctx)
	if err != nil || len(all) == 0 {
		return "", err
	}
	if all[0].Said == nil && all[0].PausedAt == nil {
		if err := s.askOne(ctx, all[0]); err != nil {
			return "", err
		}
		if all[0], err = s.Cloud(ctx, all[0].Name); err != nil {
			return "", err
		}
	}
	if all[0].Said == nil {
		return "", nil
	}
	return all[0].Said.Name, nil
}

// Cloud returns the cloud of that name.
func (s *Service) Cloud(ctx context.Context, name string) (record.Cloud, error) {
	c, err := s.store.CloudNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return c, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-cloud",
			Field:  "cloud",
			Where:  []string{name},
			Detail: fmt.Sprintf("there is no cloud named %q", name),
			Remedy: "See what there is: plumlatch cloud list",
		}
	}
	if c.Given {
		c.Adapter = s.o.Adapter
	}
	return c, err
}

// For returns the cloud for something new: the one that is named, else the first one that has the zone, else the
// first.
func (s *Service) For(ctx context.Context, name, zone string) (record.Cloud, error) {
	if name != "" {
		return s.Cloud(ctx, name)
	}
	all, err := s.List(ctx)
	if err != nil {
		return record.Cloud{}, err
	}
	if len(all) == 0 {
		return record.Cloud{}, &problem.Problem{
			Kind: problem.Conflict, Code: "no-cloud", Detail: "there is no cloud",
			Remedy: "Add one: plumlatch cloud add NAME -adapter URL -adapter-token-file FILE",
		}
	}
	for _, c := range all {
		if zone == "" || c.Said == nil {
			continue
		}
		for _, z := range c.Said.Zones {
			if z.Name == zone {
				return c, nil
			}
		}
	}
	return all[0], nil
}

// Add keeps a cloud, once its adapter has answered.
func (s *Service) Add(ctx context.Context, actor people.Actor, w Wanted) (record.Cloud, error) {
	if err := problem.CheckName("name", w.Name); err != nil {
		return record.Cloud{}, err
	}
	if err := s.check(w); err != nil {
		return record.Cloud{}, err
	}
	if w.Token == "" {
		return record.Cloud{}, bad("token", "no token was given", "Say in which file it is: -adapter-token-file FILE")
	}
	if s.Safe == nil {
		return record.Cloud{}, problem.NoSafe()
	}
	list, err := s.store.Clouds(ctx)
	if err != nil {
		return record.Cloud{}, err
	}
	if len(list) >= mostClouds {
		return record.Cloud{}, bad("name", fmt.Sprintf("there are %d clouds; that is the limit", len(list)), "")
	}
	c := record.Cloud{
		ID: store.NewID(), Name: w.Name, Adapter: w.Adapter, ChangedAt: s.now(), AddedAt: s.now(), AddedBy: actor.Name,
	}
	if w.CA != nil {
		c.CA = *w.CA
	}
	if c.Adapter == s.o.Adapter && s.given != nil {
		return record.Cloud{}, sameAdapter(c.Adapter)
	}
	said, latency, err := s.tryOut(ctx, cloud.Adapter{URL: c.Adapter, Token: w.Token, CA: c.CA})
	if err != nil {
		return record.Cloud{}, err
	}
	c.Said, c.AskedAt, c.AnsweredAt, c.LatencyMs = said, &c.AddedAt, &c.AddedAt, latency
	token, err := s.safes.Seal(ctx, s.store, []byte(w.Token), tokenRecord(c.ID))
	if err != nil {
		return record.Cloud{}, err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddCloud(ctx, c, token); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "cloud.add", "cloud", c.Name, w.Reason, journal.Facts{"adapter": c.Adapter},
		))
	})
	if err != nil {
		return record.Cloud{}, taken(err, c)
	}
	return s.Cloud(ctx, c.Name)
}

// Change changes where the adapter of a cloud is and what it is spoken to with, once it has answered so.
func (s *Service) Change(ctx context.Context, actor people.Actor, name string, w Wanted) (record.Cloud, error) {
	if err := s.check(w); err != nil {
		return record.Cloud{}, err
	}
	c, err := s.Cloud(ctx, name)
	if err != nil {
		return record.Cloud{}, err
	}
	if c.Given {
		return record.Cloud{}, &problem.Problem{
			Kind: problem.Conflict, Code: "cloud-given", Where: []string{name},
			Detail: name + " is the cloud that the service is started with",
			Remedy: "Change -cloud and -cloud-token-file, and start the service again",
		}
	}
	if s.Safe == nil {
		return record.Cloud{}, problem.NoSafe()
	}
	to := cloud.Adapter{URL: c.Adapter, Token: w.Token, CA: c.CA}
	if w.Adapter != "" {
		to.URL = w.Adapter
	}
	if w.CA != nil {
		to.CA = *w.CA
	}
	if to.Token == "" {
		if to.URL != c.Adapter { // it would be sent to somewhere else
			return record.Cloud{}, bad(
				"token",
				"the token goes to another adapter only where it is given again",
				"Say in which file it is: -adapter-token-file FILE",
			)
		}
		old, err := s.Safe.Open(c.Encrypted, tokenRecord(c.ID))
		if err != nil {
			return record.Cloud{}, err
		}
		to.Token = string(old)
	}
	said, latency, err := s.tryOut(ctx, to)
	if err != nil {
		return record.Cloud{}, err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		change := record.CloudChange{Adapter: to.URL, CA: &to.CA, ChangedAt: new(s.now())}
		if err := tx.ChangeCloud(ctx, c.ID, change); err != nil {
			return err
		}
		if w.Token != "" {
			token, err := s.safes.Seal(ctx, tx, []byte(w.Token), tokenRecord(c.ID))
			if err != nil {
				return err
			}
			if err := tx.SealCloud(ctx, c.ID, token); err != nil {
				return err
			}
		}
		if err := tx.NoteAnswer(ctx, c.ID, record.CloudAnswer{At: s.now(), LatencyMs: latency, Said: said}); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "cloud.change", "cloud", c.Name, w.Reason,
			journal.Facts{"adapter": to.URL, "token": w.Token != ""},
		))
	})
	if err != nil {
		return record.Cloud{}, taken(err, record.Cloud{Name: name, Adapter: to.URL})
	}
	return s.Cloud(ctx, name)
}

// check refuses what no cloud can have.
func (s *Service) check(w Wanted) error {
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return err
	}
	if len(w.Token) > maxToken || strings.ContainsFunc(w.Token, func(r rune) bool { return r <= ' ' || r > '~' }) {
		return bad("token", fmt.Sprintf("a token has 1 to %d printable characters and no space", maxToken), "")
	}
	if w.CA != nil && len(*w.CA) > maxCA {
		return bad("ca", fmt.Sprintf("the certificate authorities have over %d bytes", maxCA), "")
	}
	if w.Adapter == "" {
		return nil
	}
	u, err := url.Parse(w.Adapter)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil || u.RawQuery != "" ||
		u.Fragment != "" || len(w.Adapter) > text.MaxLine {
		return bad(
			"adapter", fmt.Sprintf("%q is no URL of an adapter", text.Line(w.Adapter, text.MaxLine)),
			"Give one such as https://adapter.example",
		)
	}
	if u.Scheme == "http" && !s.o.Plain && !loopback(u.Hostname()) {
		return bad(
			"adapter", "by http the token could be read on the way to another machine",
			"Give an https URL, and with -ca FILE the certificate authority of the adapter where it has one of its own",
		)
	}
	return nil
}

func loopback(host string) bool {
	ip, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && ip.IsLoopback()
}

func bad(field, detail, remedy string) error {
	return &problem.Problem{
		Kind: problem.Invalid, Code: "bad-" + field, Field: field, Detail: detail, Remedy: remedy,
	}
}

func sameAdapter(adapter string) error {
	return &problem.Problem{
		Kind: problem.Conflict, Code: "adapter-taken", Field: "adapter",
		Detail: "the adapter at " + adapter + " is that of another cloud already, so that each instance would be there twice",
		Remedy: "See what there is: plumlatch cloud list",
	}
}

func taken(err error, c record.Cloud) error {
	var t *store.TakenError
	switch {
	case !errors.As(err, &t):
		return err
	case t.Constraint == "clouds_adapter":
		return sameAdapter(c.Adapter)
	}
	return &problem.Problem{
		Kind: problem.Conflict, Code: "name-taken", Field: "name", Where: []string{c.Name},
		Detail: "there is a cloud named " + c.Name + " already",
		Remedy: "Choose another name, or change that one: plumlatch cloud change " + c.Name,
	}
}

// tryOut asks an adapter what its cloud can do.
func (s *Service) tryOut(ctx context.Context, at cloud.Adapter) (*record.CloudSaid, int, error) {
	over, err := at.Way(askWithin)
	if errors.Is(err, cloud.ErrCA) {
		return nil, 0, bad("ca", err.Error(), "Give a file with one or more certificates in PEM")
	}
	if err != nil {
		return nil, 0, bad("adapter", err.Error(), "")
	}
	said, latency, err := s.ask(
		ctx, cloud.Over(func(context.Context) (http.RoundTripper, error) { return over, nil }, askWithin),
	)
	var refused *cloud.RefusedError
	switch {
	case errors.As(err, &refused):
		return nil, 0, &problem.Problem{
			Kind: problem.Forbidden, Code: "cloud-refused", Field: "token", Detail: refused.Error(),
			Remedy: "See that the token is the adapter's",
		}
	case err != nil:
		return nil, 0, &problem.Problem{
			Kind: problem.Unavailable, Code: "cloud-unreachable", Field: "adapter",
			Detail: "there is no adapter that answers at " + at.URL + ": " + text.Line(why(err), text.MaxLine),
			Remedy: "See that the address is right, that it runs, and that the service may reach it",
		}
	}
	return said, latency, nil
}

// why is what went wrong at the bottom, without what this program put around it.
func why(err error) string {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Error()
	}
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err.Error()
	}
	return err.Error()
}

// ask asks a cloud what it can do and which zones it has, and measures how long the first answer took.
func (s *Service) ask(ctx context.Context, c *cloud.Cloud) (*record.CloudSaid, int, error) {
	ctx, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	began := time.Now()
	can, err := c.Capabilities(ctx)
	if err != nil {
		return nil, 0, err
	}
	latency := time.Since(began)
	zones, err := c.Zones(ctx)
	if err != nil {
		return nil, 0, err
	}
	said := &record.CloudSaid{
		Name:         text.Line(can.Name, text.MaxLine),
		Capabilities: []string{},
		Zones:        []record.CloudZone{},
	}
	for _, c := range can.Capabilities[:min(len(can.Capabilities), mostZones)] {
		said.Capabilities = append(said.Capabilities, text.Line(string(c), text.MaxLine))
	}
	for _, z := range zones[:min(len(zones), mostZones)] {
		said.Zones = append(said.Zones, record.CloudZone{
			Name: text.Line(z.Name, text.MaxLine), Region: text.Line(z.Region, text.MaxLine),
		})
	}
	return said, max(1, int(latency.Milliseconds())), nil
}

// Check asks a cloud now what it can do, also one that is paused, and keeps what it answered.
func (s *Service) Check(ctx context.Context, name string) (record.Cloud, error) {
	c, err := s.Cloud(ctx, name)
	if err != nil {
		return c, err
	}
	if err := s.askOne(ctx, c); err != nil {
		return c, err
	}
	return s.Cloud(ctx, name)
}

// askOne asks a cloud whether it answers, and keeps that.
func (s *Service) askOne(ctx context.Context, c record.Cloud) error {
	answer := record.CloudAnswer{At: s.now()}
	over, err := s.wayTo(c)
	if err == nil {
		find := func(context.Context) (http.RoundTripper, error) { return over, nil }
		answer.Said, answer.LatencyMs, err = s.ask(ctx, cloud.Over(find, askWithin))
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		answer.Failure = text.Line(why(err), text.MaxLine)
	}
	return s.store.NoteAnswer(ctx, c.ID, answer)
}

// askAll asks all clouds that are not paused whether they answer.
func (s *Service) askAll(ctx context.Context) error {
	list, err := s.List(ctx)
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(8)
	for _, c := range list {
		if c.PausedAt == nil {
			group.Go(func() error { return s.askOne(ctx, c) })
		}
	}
	return group.Wait()
}

// Pause has a cloud not asked until Resume.
func (s *Service) Pause(ctx context.Context, actor people.Actor, name, reason string) (record.Cloud, error) {
	return s.setPaused(ctx, actor, name, reason, true)
}

// Resume has a cloud asked again.
func (s *Service) Resume(ctx context.Context, actor people.Actor, name, reason string) (record.Cloud, error) {
	return s.setPaused(ctx, actor, name, reason, false)
}

func (s *Service) setPaused(
	ctx context.Context, actor people.Actor, name, reason string, paused bool,
) (record.Cloud, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return record.Cloud{}, err
	}
	c, err := s.Cloud(ctx, name)
	if err != nil || (c.PausedAt != nil) == paused {
		return c, err
	}
	var at *time.Time
	by, why, event := "", "", "cloud.resume"
	if paused {
		at, by, why, event = new(s.now()), actor.Name, reason, "cloud.pause"
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.PauseCloud(ctx, c.ID, at, by, why); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), event, "cloud", c.Name, reason, nil))
	})
	if err != nil {
		return c, err
	}
	return s.Cloud(ctx, name)
}

// Forget ends the record of a cloud. Its instances stay as machines of no cloud. It is refused while runs are at
// work in them, or something is open.
func (s *Service) Forget(ctx context.Context, actor people.Actor, name, reason string) (left int, err error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return 0, err
	}
	c, err := s.Cloud(ctx, name)
	if err != nil {
		return 0, err
	}
	if c.Given {
		return 0, &problem.Problem{
			Kind: problem.Conflict, Code: "cloud-given", Where: []string{name},
			Detail: name + " is the cloud that the service is started with",
			Remedy: "Pause it: plumlatch cloud pause " + name,
		}
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.ChangeCloud(ctx, c.ID, record.CloudChange{ForgottenAt: new(s.now())}); err != nil {
			return err
		}
		atWork, open, err := tx.CloudInUse(ctx, c.ID)
		if err != nil {
			return err
		}
		if atWork+open > 0 {
			return &problem.Problem{
				Kind: problem.Conflict, Code: "cloud-in-use", Where: []string{name},
				Detail: fmt.Sprintf(
					"%s at work on its instances, and %s open in it", text.Counted(int(atWork), "run"),
					text.Counted(int(open), "thing"),
				),
				Remedy: "Wait for them to end: plumlatch run list",
			}
		}
		if err := tx.LeaveCloud(ctx, c.ID); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "cloud.forget", "cloud", c.Name, reason, journal.Facts{"instances": c.Instances},
		))
	})
	return c.Instances, err
}
