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
	"plumlatch/internal/receivers"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/secrets"
	"plumlatch/internal/store"
)

const (
	deliverDuty  = "deliver"
	deliverEvery = 2 * time.Second
	deliverPart  = 500 // entries looked at, and deliveries made, in one turn
	sendAtOnce   = 8
)

// Receiver is a receiver and how it does.
type Receiver struct {
	record.Receiver
	Secret string // only of a webhook that was just made
}

// AddReceiver has events sent to an address from now on. The secret of a webhook is
// returned once, and kept in the safe.
func (s *Service) AddReceiver(
	ctx context.Context, actor people.Actor, once journal.IdempotencyKey, name, address string,
	kinds []receivers.Kind,
) (Receiver, error) {
	if err := problem.CheckName("name", name); err != nil {
		return Receiver{}, err
	}
	at, err := receivers.ReadAddress(address)
	if err != nil {
		return Receiver{}, &problem.Problem{Kind: problem.Invalid, Code: "bad-address", Field: "address", Detail: err.Error()}
	}
	if len(kinds) == 0 {
		kinds = receivers.Kinds[:len(receivers.Kinds)-1] // all but that of all
	}
	for _, k := range kinds {
		if !slices.Contains(receivers.Kinds, k) {
			return Receiver{}, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-kind",
				Field:  "kinds",
				Detail: fmt.Sprintf("%q is no kind of event", k),
				Remedy: "The kinds are " + kindWords(receivers.Kinds),
			}
		}
	}
	out := Receiver{
		Receiver: record.Receiver{
			ID:        store.NewID(),
			Name:      name,
			Address:   address,
			Kinds:     kinds,
			CreatedBy: actor.Name,
			CreatedAt: s.now().Truncate(time.Microsecond),
		},
	}
	var sealed record.Secret
	if at.Webhook() {
		if s.Safe == nil {
			return Receiver{}, &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "no-safe",
				Detail: "the safe is switched off, so the secret that signs cannot be kept",
				Remedy: "Start the service with -safe-key-file FILE, or use syslog",
			}
		}
		out.Secret = secrets.New()
		if sealed, err = s.safes.Seal(ctx, s.store, []byte(out.Secret), receiverRecord(out.ID)); err != nil {
			return Receiver{}, err
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
				Detail: "this request made the receiver before, and its secret was shown then",
				Remedy: "End that receiver and make another (plumlatch receiver list)",
			}
		}
		if out.LastSeq, err = tx.LastEntry(ctx); err != nil {
			return err
		}
		if err := tx.AddReceiver(ctx, out.Receiver, sealed); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "receiver.add", "receiver", name, "",
			"%s has events (%s) sent to the receiver %s.", actor.Name, kindWords(kinds), name,
		))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return Receiver{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "name-taken",
			Field:  "name",
			Detail: "there is a receiver named " + name,
			Remedy: "Choose another name",
		}
	}
	return out, err
}

func receiverRecord(id uuid.UUID) string { return "receiver " + id.String() }

// Receivers returns all receivers, by name.
func (s *Service) Receivers(ctx context.Context) ([]record.Receiver, error) {
	return s.store.Receivers(ctx)
}

func (s *Service) receiverNamed(ctx context.Context, name string) (record.Receiver, error) {
	r, err := s.store.ReceiverNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		err = &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-receiver",
			Where:  []string{name},
			Detail: fmt.Sprintf("there is no receiver named %q", name),
			Remedy: "See them: plumlatch receiver list",
		}
	}
	return r, err
}

// DeleteReceiver ends a receiver, with what was still to be sent to it.
func (s *Service) DeleteReceiver(ctx context.Context, actor people.Actor, name string) error {
	r, err := s.receiverNamed(ctx, name)
	if err != nil {
		return err
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.DeleteReceiver(ctx, r.ID); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), "receiver.delete", "receiver", name, "", "%s ended the receiver %s.", actor.Name, name),
		)
	})
}

// PauseReceiver has nothing sent to a receiver for a while, or goes on. What happens
// meanwhile is kept for it.
func (s *Service) PauseReceiver(ctx context.Context, actor people.Actor, name string, pause bool) error {
	r, err := s.receiverNamed(ctx, name)
	if err != nil || r.Paused == pause {
		return err
	}
	action, words := "receiver.resume", "%s goes on sending to the receiver %s."
	if pause {
		action, words = "receiver.pause", "%s pauses the receiver %s."
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.PauseReceiver(ctx, r.ID, pause); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), action, "receiver", name, "", words, actor.Name, name))
	})
}

// TestReceiver sends one event at once and returns why it could not be delivered, "" if it was.
func (s *Service) TestReceiver(ctx context.Context, name string) (string, error) {
	r, err := s.receiverNamed(ctx, name)
	if err != nil {
		return "", err
	}
	e := receivers.Event{
		ID:       store.NewID().String(),
		Type:     "plumlatch.test",
		Source:   eventSource,
		Subject:  r.Name,
		At:       s.now(),
		Sentence: "This is a test of the receiver " + r.Name + ".",
		Data:     map[string]any{"sentence": "This is a test of the receiver " + r.Name + "."},
	}
	if err := s.send(ctx, r, e); err != nil {
		return err.Error(), nil
	}
	return "", nil
}

// DeadDeliveries returns what could not be delivered to a receiver, newest first.
func (s *Service) DeadDeliveries(ctx context.Context, name string) ([]record.Delivery, error) {
	r, err := s.receiverNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.store.DeadDeliveries(ctx, r.ID)
}

// SendAgain tries what could not be delivered to a receiver again, and returns how many
// those are.
func (s *Service) SendAgain(ctx context.Context, actor people.Actor, name string) (int64, error) {
	r, err := s.receiverNamed(ctx, name)
	if err != nil {
		return 0, err
	}
	n, err := s.store.ReviveDeliveries(ctx, r.ID, s.now())
	if err != nil || n == 0 {
		return n, err
	}
	s.engine.Nudge(ctx, deliverDuty)
	return n, s.store.Note(ctx, s.journal.Entry(
		actor.By(), "receiver.again", "receiver", name, "",
		"%s has %s sent to the receiver %s again.", actor.Name, text.Counted(int(n), "event"), name,
	))
}

const eventSource = "/plumlatch"

// send delivers one event to a receiver.
func (s *Service) send(ctx context.Context, r record.Receiver, e receivers.Event) error {
	at, err := receivers.ReadAddress(r.Address)
	if err != nil {
		return err
	}
	var secret []byte
	if at.Webhook() {
		if s.Safe == nil {
			return errors.New("the safe is switched off, so it cannot be signed")
		}
		text, err := s.Safe.Open(r.Sealed, receiverRecord(r.ID))
		if err != nil {
			return err
		}
		if secret, err = base64.RawURLEncoding.DecodeString(string(text)); err != nil {
			return err
		}
	}
	return receivers.Send(ctx, at, r.Name, secret, e, s.now())
}

// Deliver looks for what receivers are to be told of, and sends what is due.
func (s *Service) deliver(ctx context.Context) error {
	list, err := s.store.ActiveReceivers(ctx)
	if err != nil || len(list) == 0 {
		return err
	}
	byID := map[uuid.UUID]record.Receiver{}
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
		r, there := byID[d.ReceiverID]
		e, written := entries[d.Seq]
		if there && written {
			sending.Go(func() error {
				return problem.Guard(s.log, "sending to "+r.Name, func() error { return s.deliverOne(ctx, r, d, e) })
			})
		}
	}
	return sending.Wait()
}

// queueFor writes down what a receiver is to be told of.
func (s *Service) queueFor(ctx context.Context, r record.Receiver) error {
	entries, err := s.store.EntriesAfter(ctx, record.EntryFilter{}, r.LastSeq, deliverPart)
	if err != nil || len(entries) == 0 {
		return err
	}
	var wanted []record.Delivery
	for _, e := range entries {
		kind := receivers.KindOf(e.Action, e.Outcome)
		if slices.Contains(r.Kinds, receivers.All) || kind != "" && slices.Contains(r.Kinds, kind) {
			wanted = append(wanted, record.Delivery{
				ID:         store.NewID(),
				ReceiverID: r.ID,
				Seq:        e.Seq,
				Kind:       string(kind),
				State:      record.DeliveryWaiting,
				DueAt:      s.now(),
			})
		}
	}
	return s.store.Queue(ctx, r.ID, wanted, entries[len(entries)-1].Seq)
}

func (s *Service) deliverOne(ctx context.Context, r record.Receiver, d record.Delivery, e record.Entry) error {
	kind := d.Kind
	if kind == "" {
		kind = "entry"
	}
	event := receivers.Event{
		ID: strconv.FormatInt(
			e.Seq, 10,
		), Type: "plumlatch." + kind,
		Source:   eventSource,
		Subject:  e.Subject,
		At:       e.At,
		Sentence: e.Sentence,
		Bad:      d.Kind != "",
		Data: map[string]any{
			"seq":      e.Seq,
			"person":   e.Person,
			"action":   e.Action,
			"outcome":  e.Outcome,
			"about":    e.About,
			"why":      e.Why,
			"sentence": e.Sentence,
		},
	}
	sent := s.send(ctx, r, event)
	if ctx.Err() != nil {
		return nil // it is sent again; the id tells that it is the same
	}
	d.Attempts++
	after, dead := receivers.NextTry(d.Attempts)
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
// which strangers' keys have appeared.
func (s *Service) watchReach(ctx context.Context) error {
	w, err := s.access.World(ctx, record.ReachFilter{})
	if err != nil {
		return err
	}
	shut := map[uuid.UUID]string{}
	for n, st := range reach.Standings(w.Input) {
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
				e := s.journal.Entry(
					journal.ByService, "login.shut", "login", name, "",
					"%s has become shut: nobody is known to hold a key that opens it.", name,
				)
				e.Outcome = "shut"
				entries = append(entries, e)
			}
		}
		for id := range before {
			if _, still := shut[id]; !still {
				went = append(went, id)
				if name := names[id]; name != "" { // else its instance is gone
					entries = append(
						entries,
						s.journal.Entry(journal.ByService, "login.open-again", "login", name, "", "%s is not shut any more.", name),
					)
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
				"A stranger's key has appeared in %s: %s%s.", name, x.Fingerprint(), commentWords(x.Comment),
			)
			e.Outcome = "found"
			entries = append(entries, e)
		}
		if err := tx.SetShut(ctx, came, went, s.now()); err != nil {
			return err
		}
		return tx.Note(ctx, entries...)
	})
}

func commentWords(comment string) string {
	if comment == "" {
		return ""
	}
	return ", with the comment " + strconv.Quote(comment)
}

func kindWords(kinds []receivers.Kind) string {
	words := make([]string, len(kinds))
	for n, k := range kinds {
		words[n] = string(k)
	}
	return strings.Join(words, ", ")
}
