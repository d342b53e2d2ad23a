package notify

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/secrets"
	"plumlatch/internal/store"
	"plumlatch/internal/subscribers"
)

const (
	deliverDuty  = "deliver"
	deliverEvery = 2 * time.Second
	deliverPart  = 500 // entries looked at, and deliveries made, in one turn
	sendAtOnce   = 8
)

// Subscriber is a subscriber and how it does.
type Subscriber struct {
	record.Subscriber
	Secret string // only of a webhook that was just made
}

// AddSubscriber has events sent to an address from now on. The secret of a webhook is
// returned once, and kept in the safe.
func (s *Service) AddSubscriber(
	ctx context.Context, actor people.Actor, once journal.IdempotencyKey, name, address string,
	kinds []subscribers.Kind,
) (Subscriber, error) {
	if err := problem.CheckName("name", name); err != nil {
		return Subscriber{}, err
	}
	at, err := subscribers.ReadAddress(address)
	if err != nil {
		return Subscriber{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-address",
			Field:  "address",
			Detail: err.Error(),
		}
	}
	if len(kinds) == 0 {
		kinds = subscribers.Kinds[:len(subscribers.Kinds)-1] // all but that of all
	}
	for _, k := range kinds {
		if !slices.Contains(subscribers.Kinds, k) {
			return Subscriber{}, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-kind",
				Field:  "kinds",
				Detail: fmt.Sprintf("%q is no kind of event", k),
				Remedy: "The kinds are " + strings.Join(kindWords(subscribers.Kinds), ", "),
			}
		}
	}
	out := Subscriber{
		Subscriber: record.Subscriber{
			ID:        store.NewID(),
			Name:      name,
			Address:   address,
			Kinds:     kinds,
			CreatedBy: actor.Name,
			CreatedAt: s.now().Truncate(time.Microsecond),
		},
	}
	var encrypted record.Secret
	if at.Webhook() {
		if s.Safe == nil {
			return Subscriber{}, &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "no-safe",
				Detail: "the safe is switched off, so the secret that signs cannot be kept",
				Remedy: "Start the service with -safe-key-file FILE, or use syslog",
			}
		}
		out.Secret = secrets.New()
		if encrypted, err = s.safes.Seal(ctx, s.store, []byte(out.Secret), subscriberRecord(out.ID)); err != nil {
			return Subscriber{}, err
		}
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, name)
		if err != nil {
			return err
		}
		if earlier != "" {
			return &problem.Problem{
				Kind:   problem.Gone,
				Code:   "secret-shown",
				Detail: "this request made the subscriber before, and its secret was shown then",
				Remedy: "End that subscriber and make another (plumlatch subscriber list)",
			}
		}
		if out.LastSeq, err = tx.LastEntry(ctx); err != nil {
			return err
		}
		if err := tx.AddSubscriber(ctx, out.Subscriber, encrypted); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "subscriber.add", "subscriber", name, "",
			journal.Facts{"kinds": kindWords(kinds)},
		))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return Subscriber{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "name-taken",
			Field:  "name",
			Detail: "there is a subscriber named " + name,
			Remedy: "Choose another name",
		}
	}
	return out, err
}

// subscriberRecord is what the secret of a subscriber is bound to: the words are in what is encrypted already.
func subscriberRecord(id uuid.UUID) string { return "receiver " + id.String() }

// Subscribers returns all subscribers, by name.
func (s *Service) Subscribers(ctx context.Context) ([]record.Subscriber, error) {
	return s.store.Subscribers(ctx)
}

func (s *Service) subscriberNamed(ctx context.Context, name string) (record.Subscriber, error) {
	r, err := s.store.SubscriberNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		err = &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-subscriber",
			Where:  []string{name},
			Detail: fmt.Sprintf("there is no subscriber named %q", name),
			Remedy: "See them: plumlatch subscriber list",
		}
	}
	return r, err
}

// DeleteSubscriber ends a subscriber, with what was still to be sent to it.
func (s *Service) DeleteSubscriber(ctx context.Context, actor people.Actor, name string) error {
	r, err := s.subscriberNamed(ctx, name)
	if err != nil {
		return err
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.DeleteSubscriber(ctx, r.ID); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), "subscriber.delete", "subscriber", name, "", nil),
		)
	})
}

// PauseSubscriber has nothing sent to a subscriber for a while, or continues. What happens
// meanwhile is kept for it.
func (s *Service) PauseSubscriber(ctx context.Context, actor people.Actor, name string, pause bool) error {
	r, err := s.subscriberNamed(ctx, name)
	if err != nil || r.Paused == pause {
		return err
	}
	told := "subscriber.resume"
	if pause {
		told = "subscriber.pause"
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.PauseSubscriber(ctx, r.ID, pause); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), told, "subscriber", name, "", nil))
	})
}

// TestSubscriber sends one event at once and returns why it could not be delivered, "" if it was.
func (s *Service) TestSubscriber(ctx context.Context, name string) (string, error) {
	r, err := s.subscriberNamed(ctx, name)
	if err != nil {
		return "", err
	}
	e := subscribers.Event{
		ID:       store.NewID().String(),
		Type:     "plumlatch.test",
		Source:   eventSource,
		Subject:  r.Name,
		At:       s.now(),
		Sentence: "This is a test of the subscriber " + r.Name + ".",
		Data:     map[string]any{"sentence": "This is a test of the subscriber " + r.Name + "."},
	}
	if err := s.send(ctx, r, e); err != nil {
		return err.Error(), nil
	}
	return "", nil
}

// DeadDeliveries returns what could not be delivered to a subscriber, newest first.
func (s *Service) DeadDeliveries(ctx context.Context, name string) ([]record.Delivery, error) {
	r, err := s.subscriberNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	dead, err := s.store.DeadDeliveries(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	seqs := make([]int64, len(dead))
	for n, d := range dead {
		seqs[n] = d.Seq
	}
	entries, err := s.store.EntriesNumbered(ctx, seqs)
	for n, d := range dead {
		dead[n].Sentence = entries[d.Seq].Text()
	}
	return dead, err
}

// SendAgain tries what could not be delivered to a subscriber again, and returns how many
// those are.
func (s *Service) SendAgain(ctx context.Context, actor people.Actor, name string) (int64, error) {
	r, err := s.subscriberNamed(ctx, name)
	if err != nil {
		return 0, err
	}
	n, err := s.store.ReviveDeliveries(ctx, r.ID, s.now())
	if err != nil || n == 0 {
		return n, err
	}
	s.engine.Nudge(ctx, deliverDuty)
	return n, s.store.Note(ctx, s.journal.Entry(
		actor.By(), "subscriber.again", "subscriber", name, "",
		journal.Facts{"events": n},
	))
}

const eventSource = "/plumlatch"

// send delivers one event to a subscriber.
func (s *Service) send(ctx context.Context, r record.Subscriber, e subscribers.Event) error {
	at, err := subscribers.ReadAddress(r.Address)
	if err != nil {
		return err
	}
	var secret []byte
	if at.Webhook() {
		if s.Safe == nil {
			return errors.New("the safe is switched off, so it cannot be signed")
		}
		text, err := s.Safe.Open(r.Encrypted, subscriberRecord(r.ID))
		if err != nil {
			return err
		}
		if secret, err = base64.RawURLEncoding.DecodeString(string(text)); err != nil {
			return err
		}
	}
	return subscribers.Send(ctx, at, r.Name, secret, e, s.now())
}

// Deliver looks for what subscribers will be told of, and sends what is due.
func (s *Service) deliver(ctx context.Context) error {
	list, err := s.store.ActiveSubscribers(ctx)
	if err != nil || len(list) == 0 {
		return err
	}
	byID := map[uuid.UUID]record.Subscriber{}
	for _, r := range list {
		byID[r.ID] = r
		if err := s.queueFor(ctx, r); err != nil {
			return err
		}
	}
	due, err := s.store.DueDeliveries(ctx, s.now(), deliverPart)
	if err != nil {
		return err
	}
	seqs := make([]int64, len(due))
	for n, d := range due {
		seqs[n] = d.Seq
	}
	entries, err := s.store.EntriesNumbered(ctx, seqs)
	if err != nil {
		return err
	}
	sending, ctx := errgroup.WithContext(ctx)
	sending.SetLimit(sendAtOnce)
	for _, d := range due {
		r, there := byID[d.SubscriberID]
		e, written := entries[d.Seq]
		if there && written {
			sending.Go(func() error {
				return problem.Guard(s.log, "sending to "+r.Name, func() error { return s.deliverOne(ctx, r, d, e) })
			})
		}
	}
	return sending.Wait()
}

// queueFor writes down what a subscriber will be told of.
func (s *Service) queueFor(ctx context.Context, r record.Subscriber) error {
	entries, err := s.store.EntriesAfter(ctx, record.EntryFilter{}, r.LastSeq, deliverPart)
	if err != nil || len(entries) == 0 {
		return err
	}
	var wanted []record.Delivery
	for _, e := range entries {
		kind := subscribers.KindOf(e.Action, e.Outcome)
		if slices.Contains(r.Kinds, subscribers.All) || kind != "" && slices.Contains(r.Kinds, kind) {
			wanted = append(wanted, record.Delivery{
				ID:           store.NewID(),
				SubscriberID: r.ID,
				Seq:          e.Seq,
				Kind:         string(kind),
				State:        record.DeliveryWaiting,
				DueAt:        s.now(),
			})
		}
	}
	return s.store.Queue(ctx, r.ID, wanted, entries[len(entries)-1].Seq)
}

func (s *Service) deliverOne(ctx context.Context, r record.Subscriber, d record.Delivery, e record.Entry) error {
	kind := d.Kind
	if kind == "" {
		kind = "entry"
	}
	event := subscribers.Event{
		ID: strconv.FormatInt(
			e.Seq, 10,
		), Type: "plumlatch." + kind,
		Source:   eventSource,
		Subject:  e.Subject,
		At:       e.At,
		Sentence: e.Text(),
		Bad:      d.Kind != "",
		Data: map[string]any{
			"seq":      e.Seq,
			"person":   e.Person,
			"action":   e.Action,
			"outcome":  e.Outcome,
			"about":    e.About,
			"why":      e.Why,
			"sentence": e.Text(),
		},
	}
	sent := s.send(ctx, r, event)
	if ctx.Err() != nil {
		return nil // it is sent again; the id tells that it is the same
	}
	d.Attempts++
	after, dead := subscribers.NextTry(d.Attempts)
	switch {
	case sent == nil:
		d.State, d.Error, d.EndedAt = record.DeliveryDone, "", new(s.now())
	case dead:
		d.State, d.Error, d.EndedAt = record.DeliveryDead, text.Line(sent.Error(), text.MaxLine), new(s.now())
	default:
		d.Error = text.Line(sent.Error(), text.MaxLine)
		d.DueAt = s.now().Add(after)
	}
	return s.store.ChangeDelivery(ctx, d)
}

const watchReachEvery = 30 * time.Second

// watchReach writes into the daybook which logins have become shut, or are open again, and
// which strangers' keys have appeared. It keeps the reach of each login, for its history.
func (s *Service) watchReach(ctx context.Context) error {
	w, err := s.access.World(ctx, record.ReachFilter{})
	if err != nil {
		return err
	}
	standings := reach.Standings(w.Input)
	shut := map[uuid.UUID]string{}
	for n, st := range standings {
		if st.State == reach.Shut {
			shut[w.Logins[n].ID] = fleet.LoginName(w.Logins[n].OSUser, w.Logins[n].Instance)
		}
	}
	before, err := s.store.ShutLogins(ctx)
	if err != nil {
		return err
	}
	names := map[uuid.UUID]string{}
	for _, l := range w.Logins {
		names[l.ID] = fleet.LoginName(l.OSUser, l.Instance)
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		var entries []record.Entry
		var came, went []uuid.UUID
		for id, name := range shut {
			if !before[id] {
				came = append(came, id)
				e := s.journal.Entry(journal.ByService, "login.shut", "login", name, "", nil)
				e.Outcome = "shut"
				entries = append(entries, e)
			}
		}
		for id := range before {
			if _, still := shut[id]; !still {
				went = append(went, id)
				if name := names[id]; name != "" { // else its instance is gone
					entries = append(entries, s.journal.Entry(journal.ByService, "login.open-again", "login", name, "", nil))
				}
			}
		}
		strangers, err := tx.TakeStrangers(ctx)
		if err != nil {
			return err
		}
		for _, x := range strangers {
			name := fleet.LoginName(x.OSUser, x.InstanceName)
			e := s.journal.Entry(
				journal.ByService, "login.stranger", "login", name, "",
				journal.Facts{"fingerprint": x.Fingerprint(), "comment": x.Comment},
			)
			e.Outcome = "found"
			entries = append(entries, e)
		}
		if err := tx.SetShut(ctx, came, went, s.now()); err != nil {
			return err
		}
		if err := access.KeepReach(ctx, tx, w.Logins, standings, s.now()); err != nil {
			return err
		}
		return tx.Note(ctx, entries...)
	})
}

func kindWords(kinds []subscribers.Kind) []string {
	words := make([]string, len(kinds))
	for n, k := range kinds {
		words[n] = string(k)
	}
	return words
}
