package keys

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// useConsent makes use of a consent where one is needed, and says whose it was.
func (s *Service) useConsent(
	ctx context.Context, tx *store.Store, actor people.Actor, k record.Key,
) (words string, err error) {
	c, err := s.consentOf(ctx, tx, actor, k)
	if err != nil || c == nil {
		return "", err
	}
	return c.DecidedBy, tx.UseConsent(ctx, c.ID)
}

// consentOf returns the consent that the actor has to make use of a kept private key; nil where none is needed.
func (s *Service) consentOf(
	ctx context.Context, tx *store.Store, actor people.Actor, k record.Key,
) (*record.Consent, error) {
	label, err := tx.AsksConsent(ctx, k.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	c, err := tx.ConsentFor(ctx, k.ID, actor.Name, s.now())
	needed := &problem.Problem{
		Kind:  problem.Forbidden,
		Code:  "consent-needed",
		Where: []string{k.Name},
		Detail: fmt.Sprintf(
			"the label %s=%s asks for a second person's consent before the private key of %s is handed over or used",
			label.Name, label.Value, k.Name,
		),
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		needed.Remedy = "Ask for it: plumlatch consent ask " + k.Name + " -reason TEXT"
		return nil, needed
	case err != nil:
		return nil, err
	case c.State == custody.ConsentAsked:
		needed.Code, needed.Detail = "consent-awaited", needed.Detail+"; you have asked, and nobody has decided yet"
		needed.Remedy = "Another admin or holder decides: plumlatch consent grant " + k.Name
		return nil, needed
	case c.State == custody.ConsentRefused:
		return nil, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "consent-refused",
			Where:  []string{k.Name},
			Detail: fmt.Sprintf("%s refused it%s", c.DecidedBy, becauseOf(c.Note)),
			Remedy: "Ask them, or ask again with another reason: plumlatch consent ask " + k.Name,
		}
	}
	return &c, nil
}

func becauseOf(note string) string {
	if note == "" {
		return ""
	}
	return ": " + note
}

// AskConsent asks that a kept private key may be handed over to the actor.
func (s *Service) AskConsent(ctx context.Context, actor people.Actor, key, reason string) (record.Consent, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return record.Consent{}, err
	}
	if reason == "" {
		return record.Consent{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-reason",
			Field:  "reason",
			Detail: "no reason was given",
			Remedy: "Say the reason, for the person who decides: -reason TEXT",
		}
	}
	k, err := s.Key(ctx, key)
	if err != nil {
		return record.Consent{}, err
	}
	if _, err := s.store.AsksConsent(ctx, k.ID); errors.Is(err, store.ErrNotFound) {
		return record.Consent{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "no-consent-needed",
			Where:  []string{key},
			Detail: "no label asks for consent before the private key of " + key + " is handed over",
			Remedy: "Take it: plumlatch key private " + key,
		}
	} else if err != nil {
		return record.Consent{}, err
	}
	if _, err := s.store.KeptKey(ctx, k.ID); errors.Is(err, store.ErrNotFound) {
		return record.Consent{}, handedOver(k)
	} else if err != nil {
		return record.Consent{}, err
	}
	own, err := s.Holds(ctx, s.store, actor, k)
	if err != nil {
		return record.Consent{}, err
	}
	if !own && actor.Role != people.Admin {
		return record.Consent{}, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "not-the-holder",
			Where:  []string{key},
			Detail: fmt.Sprintf("only the holder of %s or an admin gets its private key", key),
			Remedy: "Ask them",
		}
	}
	c := record.Consent{
		ID:        store.NewID(),
		KeyID:     k.ID,
		KeyName:   k.Name,
		AskedBy:   actor.Name,
		Reason:    reason,
		AskedAt:   s.now().Truncate(time.Microsecond),
		ExpiresAt: s.now().Add(consentHolds).Truncate(time.Microsecond),
		State:     custody.ConsentAsked,
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := tx.ConsentFor(ctx, k.ID, actor.Name, s.now())
		if err == nil && earlier.State.Open() {
			earlier.KeyName = k.Name
			c = earlier
			return nil
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := tx.AddConsent(ctx, c); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "consent.ask", "key", k.Name, reason, nil,
		))
	})
	return c, err
}

// Consents returns the requests of the last 90 days, newest first.
func (s *Service) Consents(ctx context.Context) ([]record.Consent, error) {
	out, err := s.store.Consents(ctx, s.now().Add(-consentsShown))
	for i := range out {
		if out[i].ExpiresAt.Before(s.now()) && out[i].State.Open() {
			out[i].State = custody.ConsentOver
		}
	}
	return out, err
}

// DecideConsent grants or refuses a request. Nobody decides their own; an admin, or
// another holder of the key, decides.
func (s *Service) DecideConsent(
	ctx context.Context, actor people.Actor, id uuid.UUID, grant bool, note string,
) (record.Consent, error) {
	if err := problem.CheckText("note", note); err != nil {
		return record.Consent{}, err
	}
	if actor.Machine {
		return record.Consent{}, &problem.Problem{
			Kind: problem.Forbidden, Code: "machine", Detail: "a machine consents to nothing", Remedy: "Ask a person",
		}
	}
	var c record.Consent
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		var err error
		c, err = tx.LockConsent(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			return &problem.Problem{
				Kind:   problem.NotFound,
				Code:   "no-such-consent",
				Detail: "there is no such request",
				Remedy: "See them: plumlatch consent list",
			}
		}
		if err != nil {
			return err
		}
		if c.AskedBy == actor.Name {
			return &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "own-request",
				Where:  []string{c.KeyName},
				Detail: "nobody consents to their own request",
				Remedy: "Ask another admin, or somebody of the key's team",
			}
		}
		if c.State != custody.ConsentAsked || c.ExpiresAt.Before(s.now()) {
			state := string(c.State)
			if c.State == custody.ConsentAsked {
				state = "expired"
			}
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "consent-decided",
				Where:  []string{c.KeyName},
				Detail: "this request is " + state,
				Remedy: "See them: plumlatch consent list",
			}
		}
		k, err := tx.KeyByID(ctx, c.KeyID)
		if err != nil {
			return err
		}
		own, err := s.Holds(ctx, tx, actor, k)
		if err != nil {
			return err
		}
		if actor.Role != people.Admin && !own {
			return &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "not-the-holder",
				Where:  []string{c.KeyName},
				Detail: "an admin decides, or another holder of " + c.KeyName,
			}
		}
		told := "consent.grant"
		c.State = custody.ConsentGranted
		if !grant {
			c.State, told = custody.ConsentRefused, "consent.refuse"
		}
		now := s.now().Truncate(time.Microsecond)
		c.DecidedBy, c.DecidedAt, c.Note = actor.Name, &now, note
		if err := tx.DecideConsent(ctx, id, c.State, actor.Name, note, now); err != nil {
			return err
		}
		return tx.Note(
			ctx, s.journal.Entry(actor.By(), told, "key", c.KeyName, note, journal.Facts{"asked_by": c.AskedBy}),
		)
	})
	return c, err
}

// ConsentLabels returns the labels for which a second person has to consent.
func (s *Service) ConsentLabels(ctx context.Context) ([]record.ConsentLabel, error) {
	return s.store.ConsentLabels(ctx)
}

// SetConsentLabel has a label ask for a second person's consent, or not now.
func (s *Service) SetConsentLabel(ctx context.Context, actor people.Actor, name, value string, asks bool) error {
	if err := problem.CheckLabels(map[string]string{name: value}); err != nil {
		return err
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		change, told := tx.DeleteConsentLabel, "consent.label-end"
		if asks {
			change = func(ctx context.Context, name, value string) (bool, error) {
				return tx.AddConsentLabel(ctx, record.ConsentLabel{Name: name, Value: value, AddedBy: actor.Name, AddedAt: s.now()})
			}
			told = "consent.label"
		}
		did, err := change(ctx, name, value)
		if err != nil || !did {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), told, "label", name+"="+value, "", nil))
	})
}
