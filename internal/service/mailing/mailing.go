// Package mailing keeps where people get mail, and sends them what they have to do: once a day, and at once what keeps
// them out. There is nothing secret in a mail.
package mailing

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/core/digest"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/secrets"
	"plumlatch/internal/smtp"
	"plumlatch/internal/store"
)

const (
	every = 10 * time.Second
	// pause is how soon after a mail another is tried to the same person.
	pause = digest.Pause
	// atOnce is how many mails are sent at a time, and part how many people are looked at in one turn.
	atOnce = 4
	part   = 200
	// codeLasts is for how long an address can be confirmed, and askAgain how soon another code is sent.
	codeLasts = 24 * time.Hour
	askAgain  = time.Minute
)

// Sender sends a mail.
type Sender interface {
	Send(ctx context.Context, to, subject, body string) error
}

// Options says by which server mail is sent.
type Options struct {
	// Sender is nil where no mail is sent.
	Sender Sender
	// Console is this service's address as people see it, "" where it is not known.
	Console string
}

// Service is the use cases of mail.
type Service struct {
	Options
	store   *store.Store
	journal *journal.Service
	fresh   time.Duration
	log     *slog.Logger
	now     func() time.Time
}

// New returns the use cases of mail. fresh is for how long a proof counts.
func New(
	s *store.Store, j *journal.Service, log *slog.Logger, now func() time.Time, fresh time.Duration, o Options,
) *Service {
	return &Service{Options: o, store: s, journal: j, fresh: fresh, log: log, now: now}
}

// Duties are what is done from time to time.
func (s *Service) Duties() []runs.Duty {
	if s.Sender == nil {
		return nil
	}
	return []runs.Duty{{Name: "mail", Every: every, Do: s.send}}
}

// Address returns where the actor gets, or will get, mail; nil where there is none.
func (s *Service) Address(ctx context.Context, actor people.Actor) (*record.MailAddress, error) {
	a, err := s.store.MailAddressOf(ctx, actor.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return &a, err
}

// SetAddress has a code sent to the address, by which the actor confirms that it is theirs.
func (s *Service) SetAddress(ctx context.Context, actor people.Actor, address string) (*record.MailAddress, error) {
	if s.Sender == nil {
		return nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "no-mail",
			Detail: "this service sends no mail",
			Remedy: "Start it with -smtp HOST:PORT and -smtp-from ADDRESS",
		}
	}
	address, err := smtp.ReadAddress(address)
	if err != nil {
		return nil, &problem.Problem{Kind: problem.Invalid, Code: "bad-address", Field: "address", Detail: err.Error()}
	}
	before, err := s.Address(ctx, actor)
	if err != nil {
		return nil, err
	}
	now := s.now().Truncate(time.Microsecond)
	if before != nil && now.Sub(before.AskedAt) < askAgain {
		return nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "asked-just-now",
			Detail: "a code was sent less than a minute ago",
			Remedy: "Wait a minute and try again",
		}
	}
	if before != nil && before.ConfirmedAt != nil && before.Address == address {
		return before, nil
	}
	code := secrets.New()
	a := record.MailAddress{OperatorID: actor.ID, Address: address, AskedAt: now, CodeHash: secrets.Hash(code)}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.PutMailAddress(ctx, a); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), "mail.set", "person", actor.Name, "", nil))
	})
	if err != nil {
		return nil, err
	}
	subject, body := digest.Confirmation(actor.Name, code, s.Console)
	if err := s.Sender.Send(ctx, address, subject, body); err != nil {
		a.Problem = text.Line(err.Error(), text.MaxMessage)
		return &a, s.store.NoteMailSent(ctx, actor.ID, nil, a.Problem)
	}
	return &a, nil
}

// Confirm has the actor's address count.
func (s *Service) Confirm(ctx context.Context, actor people.Actor, code string) error {
	now := s.now()
	return s.store.InTx(ctx, func(tx *store.Store) error {
		done, err := tx.ConfirmMail(ctx, actor.ID, secrets.Hash(code), now.Add(-codeLasts), now)
		if err != nil {
			return err
		}
		if !done {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-code",
				Field:  "code",
				Detail: "this code is not that of your last mail, or it is over a day old",
				Remedy: "Ask for another: plumlatch mail set ADDRESS",
			}
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), "mail.confirm", "person", actor.Name, "", nil))
	})
}

// Forget ends the actor's mail.
func (s *Service) Forget(ctx context.Context, actor people.Actor) error {
	before, err := s.Address(ctx, actor)
	if err != nil || before == nil {
		return err
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.DeleteMail(ctx, actor.ID); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), "mail.forget", "person", actor.Name, "", nil))
	})
}

// send sends the mails that are due.
func (s *Service) send(ctx context.Context) error {
	now := s.now().Truncate(time.Microsecond)
	due, err := s.store.MailDue(ctx, now.Add(-pause), part)
	if err != nil || len(due) == 0 {
		return err
	}
	tasks, err := s.tasks(ctx, due, now)
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for _, a := range due {
		if !digest.Due(tasks[a.OperatorID], a.SentAt, now) {
			continue
		}
		group.Go(func() error { return s.sendTo(ctx, a, tasks[a.OperatorID], now) })
	}
	return group.Wait()
}

// sendTo sends one mail. It is noted as tried before, so that a process that dies, or another one, does not send
// it again.
func (s *Service) sendTo(ctx context.Context, a record.MailAddress, tasks []digest.Task, now time.Time) error {
	mine, err := s.store.NoteMail(ctx, a, now)
	if err != nil || !mine {
		return err
	}
	person := a.Title
	if person == "" {
		person = a.Name
	}
	subject, body := digest.Mail(person, tasks, s.Console)
	if err := s.Sender.Send(ctx, a.Address, subject, body); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		s.log.Warn("a mail could not be sent", "person", a.Name, "err", err)
		return s.store.NoteMailSent(ctx, a.OperatorID, nil, text.Line(err.Error(), text.MaxMessage))
	}
	return s.store.NoteMailSent(ctx, a.OperatorID, &now, "")
}

// tasks are what the people have to do.
func (s *Service) tasks(
	ctx context.Context, of []record.MailAddress, now time.Time,
) (map[uuid.UUID][]digest.Task, error) {
	ids := make([]uuid.UUID, len(of))
	for n, a := range of {
		ids[n] = a.OperatorID
	}
	all, err := s.store.TasksOf(ctx, ids, now.Add(-s.fresh))
	out := map[uuid.UUID][]digest.Task{}
	for _, t := range all {
		out[t.OperatorID] = append(out[t.OperatorID], digest.Task{Kind: digest.Kind(t.Kind), Key: t.Name, At: t.At})
	}
	return out, err
}
