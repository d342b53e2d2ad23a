package keys

import (
	"context"
	"crypto/hpke"
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

const (
	// consentHolds is for how long a request waits for consent, and what is granted for a use.
	consentHolds = 4 * time.Hour
	// consentsShown is how far back requests are listed.
	consentsShown = 90 * 24 * time.Hour
	// proofForForgetting is how recent the keeper's proof has to be before the kept copy goes.
	proofForForgetting = 15 * time.Minute
	// releaseInfo binds what is sealed for somebody to its purpose (HPKE's info).
	releaseInfo = "plum latch private half "
)

// Release says what is wanted of a kept private half.
type Release struct {
	Key, Reason string
	// Recipient is the asker's public key for HPKE (RFC 9180: DHKEM(X25519, HKDF-SHA256),
	// HKDF-SHA256, AES-256-GCM) in base64; "" for a private half in plain text.
	Recipient string
}

// PrivateHalf hands a private half that the safe keeps over to the key's keeper or an
// admin, once. Of any other key it says why there is none, and notes that it was
// asked for. With a recipient the answer is sealed to that, in base64.
func (s *Service) PrivateHalf(ctx context.Context, actor people.Actor, w Release) ([]byte, error) {
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return nil, err
	}
	recipient, err := recipientOf(w.Recipient)
	if err != nil {
		return nil, err
	}
	name := w.Key
	k, err := s.Key(ctx, name)
	if err != nil {
		return nil, err
	}
	refuse := func(p error) ([]byte, error) {
		refused := s.journal.Entry(
			actor.By(),
			"key.private-half",
			"key",
			name,
			w.Reason,
			"%s asked for the private half of %s, and did not get it.",
			actor.Name,
			name,
		)
		refused.Outcome = "refused"
		if err := s.store.Note(ctx, refused); err != nil {
			return nil, err
		}
		return nil, p
	}
	half, err := s.store.KeptHalf(ctx, k.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return refuse(handedOver(k))
	case err != nil:
		return nil, err
	case k.StewardOf != nil:
		return refuse(
			&problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "steward-key",
				Where:  []string{name},
				Detail: name + " is a steward key, whose private half leaves the safe for nobody",
				Remedy: "Grant a key of your own: plumlatch grant add",
			},
		)
	case s.Safe == nil:
		return nil, problem.NoSafe()
	case half.ReleasedAt != nil:
		return refuse(
			&problem.Problem{
				Kind:  problem.Gone,
				Code:  "private-half-released",
				Where: []string{name},
				Detail: fmt.Sprintf(
					"the private half of %s was handed over once, to %s on %s",
					name,
					half.ReleasedTo,
					half.ReleasedAt.UTC().Format("2 Jan 2006 at 15:04 UTC"),
				),
				Remedy: "If nobody has it any more, rotate the key: plumlatch rotate plan -key " + name,
			},
		)
	case w.Reason == "":
		return nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-reason",
			Field:  "reason",
			Detail: "no reason was given",
			Remedy: "Say why, for the daybook: -reason TEXT",
		}
	}
	if err := s.Beyond(ctx, s.store, k); err != nil {
		return refuse(err)
	}
	own, err := s.Holds(ctx, s.store, actor, k)
	if err != nil {
		return nil, err
	}
	if !own && actor.Role != people.Admin {
		return refuse(
			&problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "not-the-keeper",
				Where:  []string{name},
				Detail: fmt.Sprintf("only the keeper of %s or an admin gets its private half", name),
				Remedy: "Ask them",
			},
		)
	}
	private, err := s.Safe.Open(half.Sealed, k.ID.String())
	if err != nil {
		return nil, fmt.Errorf("open the private half of %s: %w", name, err)
	}
	how := ""
	if recipient != nil {
		plain := private
		sealed, err := hpke.Seal(recipient, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(releaseInfo+name), plain)
		clear(plain)
		if err != nil {
			return nil, err
		}
		private, how = []byte(base64.StdEncoding.EncodeToString(sealed)), ", sealed for their client"
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		consented, err := s.useConsent(ctx, tx, actor, k)
		if err != nil {
			return err
		}
		first, err := tx.ReleaseHalf(ctx, k.ID, actor.Name, s.now())
		if err == nil && !first {
			err = &problem.Problem{
				Kind:   problem.Gone,
				Code:   "private-half-released",
				Where:  []string{name},
				Detail: "the private half of " + name + " was handed over at this moment to somebody else",
			}
		}
		if err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(
				actor.By(),
				"key.release",
				"key",
				name,
				w.Reason,
				"%s took the private half of %s out of the safe%s%s.",
				actor.Name,
				name,
				consented,
				how,
			),
		)
	})
	if err != nil {
		clear(private)
		return nil, err
	}
	return private, nil
}

func recipientOf(text string) (hpke.PublicKey, error) {
	if text == "" {
		return nil, nil
	}
	bad := &problem.Problem{
		Kind:   problem.Invalid,
		Code:   "bad-recipient",
		Field:  "recipient",
		Detail: "the recipient is not an X25519 public key in base64",
		Remedy: "Leave it out, or let the client make it",
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, bad
	}
	k, err := hpke.NewKEM(0x0020) // DHKEM(X25519, HKDF-SHA256)
	if err != nil {
		return nil, err
	}
	public, err := k.NewPublicKey(raw)
	if err != nil {
		return nil, bad
	}
	return public, nil
}

// Holds reports whether the actor, or a team of theirs, is the key's keeper.
func (s *Service) Holds(ctx context.Context, tx *store.Store, actor people.Actor, k record.Key) (bool, error) {
	if k.KeeperID == nil {
		return false, nil
	}
	return tx.IsOf(ctx, *k.KeeperID, actor.ID)
}

// LockKey locks a key for what whoever may asks for with the key's record; it asks before the lock,
// so that nobody else makes others wait, and again after it.
func (s *Service) LockKey(
	ctx context.Context,
	tx *store.Store,
	name string,
	may func(record.Key) error,
) (record.Key, error) {
	k, err := tx.KeyNamed(ctx, name)
	if err != nil {
		return k, s.NoKey(err, name)
	}
	if err := may(k); err != nil {
		return k, err
	}
	if k, err = tx.LockKey(ctx, name); err != nil {
		return k, s.NoKey(err, name)
	}
	return k, may(k)
}

// useConsent makes use of a consent where one is needed, and says whose it was.
func (s *Service) useConsent(
	ctx context.Context,
	tx *store.Store,
	actor people.Actor,
	k record.Key,
) (words string, err error) {
	label, err := tx.AsksConsent(ctx, k.ID)
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	c, err := tx.ConsentFor(ctx, k.ID, actor.Name, s.now())
	needed := &problem.Problem{
		Kind:  problem.Conflict,
		Code:  "consent-needed",
		Where: []string{k.Name},
		Detail: fmt.Sprintf(
			"the label %s=%s asks for a second person's consent before the private half of %s is handed over",
			label.Name,
			label.Value,
			k.Name,
		),
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		needed.Remedy = "Ask for it: plumlatch consent ask " + k.Name + " -reason TEXT"
		return "", needed
	case err != nil:
		return "", err
	case c.State == "asked":
		needed.Code, needed.Detail = "consent-awaited", needed.Detail+"; you have asked, and nobody has decided yet"
		needed.Remedy = "Another admin or keeper decides: plumlatch consent grant " + c.ID.String()
		return "", needed
	case c.State == "refused":
		return "", &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "consent-refused",
			Where:  []string{k.Name},
			Detail: fmt.Sprintf("%s refused it%s", c.DecidedBy, becauseOf(c.Note)),
			Remedy: "Ask them, or ask again with another reason: plumlatch consent ask " + k.Name,
		}
	}
	return ", with the consent of " + c.DecidedBy, tx.UseConsent(ctx, c.ID)
}

func becauseOf(note string) string {
	if note == "" {
		return ""
	}
	return ": " + note
}

// AskConsent asks that a kept private half may be handed over to the actor.
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
			Remedy: "Say why, for whoever decides: -reason TEXT",
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
			Detail: "no label asks for consent before the private half of " + key + " is handed over",
			Remedy: "Take it: plumlatch key private " + key,
		}
	} else if err != nil {
		return record.Consent{}, err
	}
	if _, err := s.store.KeptHalf(ctx, k.ID); errors.Is(err, store.ErrNotFound) {
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
			Code:   "not-the-keeper",
			Where:  []string{key},
			Detail: fmt.Sprintf("only the keeper of %s or an admin gets its private half", key),
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
		State:     "asked",
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := tx.ConsentFor(ctx, k.ID, actor.Name, s.now())
		if err == nil && (earlier.State == "asked" || earlier.State == "granted") {
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
		return tx.Note(
			ctx,
			s.journal.Entry(
				actor.By(),
				"consent.ask",
				"key",
				k.Name,
				reason,
				"%s asks for consent to take the private half of %s out of the safe.",
				actor.Name,
				k.Name,
			),
		)
	})
	return c, err
}

// Consents returns the requests of the last 90 days, newest first.
func (s *Service) Consents(ctx context.Context) ([]record.Consent, error) {
	out, err := s.store.Consents(ctx, s.now().Add(-consentsShown))
	for i := range out {
		if out[i].ExpiresAt.Before(s.now()) && (out[i].State == "asked" || out[i].State == "granted") {
			out[i].State = "over"
		}
	}
	return out, err
}

// DecideConsent grants or refuses a request. Nobody decides their own; an admin, or
// another holder of the key, decides.
func (s *Service) DecideConsent(
	ctx context.Context,
	actor people.Actor,
	id uuid.UUID,
	grant bool,
	note string,
) (record.Consent, error) {
	if err := problem.CheckText("note", note); err != nil {
		return record.Consent{}, err
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
		if c.State != "asked" || c.ExpiresAt.Before(s.now()) {
			state := c.State
			if state == "asked" {
				state = "over: its time ran out"
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
				Code:   "not-the-keeper",
				Where:  []string{c.KeyName},
				Detail: "an admin decides, or somebody else who holds " + c.KeyName,
			}
		}
		action, words := "consent.grant", "%s consents that %s takes the private half of %s out of the safe."
		c.State = "granted"
		if !grant {
			c.State, action, words = "refused", "consent.refuse", "%s refuses that %s takes the private half of %s out of the "+
				"safe."
		}
		now := s.now().Truncate(time.Microsecond)
		c.DecidedBy, c.DecidedAt, c.Note = actor.Name, &now, note
		if err := tx.DecideConsent(ctx, id, c.State, actor.Name, note, now); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), action, "key", c.KeyName, note, words, actor.Name, c.AskedBy, c.KeyName),
		)
	})
	return c, err
}

// ConsentLabels returns the labels for which a second person has to consent.
func (s *Service) ConsentLabels(ctx context.Context) ([]record.ConsentLabel, error) {
	return s.store.ConsentLabels(ctx)
}

// SetConsentLabel has a label ask for a second person's consent, or not any more.
func (s *Service) SetConsentLabel(ctx context.Context, actor people.Actor, name, value string, asks bool) error {
	if err := problem.CheckLabels(map[string]string{name: value}); err != nil {
		return err
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		change, action, words := tx.DeleteConsentLabel, "consent.label-end", "%s has releases under the label %s=%s ask "+
			"for no consent any more."
		if asks {
			change = func(ctx context.Context, name, value string) (bool, error) {
				return tx.AddConsentLabel(ctx, record.ConsentLabel{Name: name, Value: value, AddedBy: actor.Name, AddedAt: s.now()})
			}
			action, words = "consent.label", "%s has releases under the label %s=%s ask for a second person's consent."
		}
		did, err := change(ctx, name, value)
		if err != nil || !did {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), action, "label", name+"="+value, "", words, actor.Name, name, value))
	})
}

// ForgetKey destroys the copy of a private half in the safe, once the keeper has just
// proved to hold it.
func (s *Service) ForgetKey(ctx context.Context, actor people.Actor, name string) (record.Key, error) {
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		k, err := s.LockKey(ctx, tx, name, func(k record.Key) error {
			if err := s.Beyond(ctx, tx, k); err != nil {
				return err
			}
			own, err := s.Holds(ctx, tx, actor, k)
			switch {
			case err != nil:
				return err
			case k.StewardOf != nil:
				return &problem.Problem{
					Kind:   problem.Conflict,
					Code:   "steward-key",
					Where:  []string{name},
					Detail: name + " is a steward key, that nobody but the service has",
					Remedy: "Withdraw it: plumlatch grant withdraw " + name,
				}
			case !own && actor.Role != people.Admin:
				return &problem.Problem{
					Kind:   problem.Forbidden,
					Code:   "not-the-keeper",
					Where:  []string{name},
					Detail: fmt.Sprintf("only the keeper of %s or an admin has the safe forget it", name),
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		half, err := tx.KeptHalf(ctx, k.ID)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "not-kept",
				Where:  []string{name},
				Detail: "the safe has no private half of " + name,
			}
		case err != nil:
			return err
		case half.ReleasedAt == nil:
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "never-released",
				Where:  []string{name},
				Detail: "nobody has the private half of " + name + " but the safe, so forgetting it would lose it",
				Remedy: "Take it out first: plumlatch key private " + name,
			}
		case k.ProvedAt == nil || k.ProvedAt.Before(*half.ReleasedAt) || s.now().Sub(*k.ProvedAt) > proofForForgetting:
			return &problem.Problem{
				Kind:  problem.Conflict,
				Code:  "not-proved",
				Where: []string{name},
				Detail: fmt.Sprintf(
					"nobody has proved within the last %d minutes to hold the private half of %s",
					int(proofForForgetting.Minutes()),
					name,
				),
				Remedy: "Prove it, and then again: plumlatch key forget " + name + " -with FILE",
			}
		}
		if err := tx.ForgetHalf(ctx, k.ID); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(
				actor.By(),
				"key.forget",
				"key",
				name,
				"",
				"%s had the safe forget the private half of %s; %s had proved to hold it.",
				actor.Name,
				name,
				k.ProvedBy,
			),
		)
	})
	if err != nil {
		return record.Key{}, err
	}
	return s.Key(ctx, name)
}

// HandOver asks another keeper to take a key over, which is done once they prove that
// they hold it. A private half that never left the safe changes its keeper at once.
func (s *Service) HandOver(
	ctx context.Context,
	actor people.Actor,
	key, to, reason string,
) (record.Key, *record.Handover, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return record.Key{}, nil, err
	}
	keeper, err := s.people.KeeperFor(ctx, actor, to)
	if err != nil {
		return record.Key{}, nil, err
	}
	if keeper == nil || to == "" {
		return record.Key{}, nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-such-keeper",
			Field:  "to",
			Detail: "nobody was named to take the key over",
		}
	}
	if keeper.LeftAt != nil {
		return record.Key{}, nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "keeper-left",
			Field:  "to",
			Detail: keeper.Name + " has left",
		}
	}
	var waits *record.Handover
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		k, err := s.LockKey(ctx, tx, key, func(k record.Key) error {
			if err := s.Beyond(ctx, tx, k); err != nil {
				return err
			}
			own, err := s.Holds(ctx, tx, actor, k)
			switch {
			case err != nil:
				return err
			case k.StewardOf != nil:
				return &problem.Problem{
					Kind:   problem.Conflict,
					Code:   "steward-key",
					Where:  []string{key},
					Detail: key + " is a steward key, the service's own",
				}
			case !own && actor.Role != people.Admin:
				return &problem.Problem{
					Kind:   problem.Forbidden,
					Code:   "not-the-keeper",
					Where:  []string{key},
					Detail: fmt.Sprintf("only the keeper of %s or an admin hands it over", key),
					Remedy: "Ask them",
				}
			}
			return nil
		})
		switch {
		case err != nil:
			return err
		case k.State == "lost":
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "key-lost",
				Where:  []string{key},
				Detail: key + " is marked as lost",
				Remedy: "Rotate it: plumlatch rotate plan -key " + key,
			}
		case k.KeeperID != nil && *k.KeeperID == keeper.ID:
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "keeper-already",
				Where:  []string{key},
				Detail: keeper.Name + " is its keeper already",
			}
		}
		half, err := tx.KeptHalf(ctx, k.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err == nil && half.ReleasedAt == nil {
			if err := tx.SetKeeper(ctx, k.ID, keeper.ID); err != nil {
				return err
			}
			return tx.Note(
				ctx,
				s.journal.Entry(
					actor.By(),
					"key.hand-over",
					"key",
					key,
					reason,
					"%s handed %s over to %s; its private half has never left the safe.",
					actor.Name,
					key,
					keeper.Name,
				),
			)
		}
		h := record.Handover{
			ID:         store.NewID(),
			KeyID:      k.ID,
			FromKeeper: k.KeeperID,
			ToKeeper:   keeper.ID,
			AskedBy:    actor.Name,
			Reason:     reason,
			AskedAt:    s.now().Truncate(time.Microsecond),
			KeyName:    k.Name,
			ToName:     keeper.Name,
		}
		waits = &h
		if err := tx.AddHandover(ctx, h); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(
				actor.By(),
				"key.hand-over-ask",
				"key",
				key,
				reason,
				"%s asked %s to take %s over, and to prove it.",
				actor.Name,
				keeper.Name,
				key,
			),
		)
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return record.Key{}, nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "hand-over-waits",
			Where:  []string{key},
			Detail: "somebody is asked to take " + key + " over already",
			Remedy: "See who: plumlatch key hand-overs. Call it off: plumlatch key hand-over " + key + " -off",
		}
	}
	if err != nil {
		return record.Key{}, nil, err
	}
	k, err := s.Key(ctx, key)
	return k, waits, err
}

// CallOffHandOver ends a hand-over that waits.
func (s *Service) CallOffHandOver(ctx context.Context, actor people.Actor, key string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		var waiting []record.Handover
		_, err := s.LockKey(ctx, tx, key, func(k record.Key) error {
			own, err := s.Holds(ctx, tx, actor, k)
			if err != nil {
				return err
			}
			if waiting, err = tx.Handovers(ctx, &k.ID); err != nil {
				return err
			}
			if len(waiting) == 0 {
				return &problem.Problem{
					Kind:   problem.NotFound,
					Code:   "no-hand-over",
					Where:  []string{key},
					Detail: "nobody is asked to take " + key + " over",
				}
			}
			if !own && actor.Role != people.Admin && waiting[0].AskedBy != actor.Name {
				return &problem.Problem{
					Kind:   problem.Forbidden,
					Code:   "not-the-keeper",
					Where:  []string{key},
					Detail: "only who asked, the keeper, or an admin calls it off",
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		if _, err := tx.EndHandover(ctx, waiting[0].ID, "called off", s.now()); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(
				actor.By(),
				"key.hand-over-off",
				"key",
				key,
				"",
				"%s called off that %s takes %s over.",
				actor.Name,
				waiting[0].ToName,
				key,
			),
		)
	})
}

// Handovers returns those that wait for a proof.
func (s *Service) Handovers(ctx context.Context) ([]record.Handover, error) {
	return s.store.Handovers(ctx, nil)
}

// TakeOver completes a hand-over of the key to whoever has just proved to hold it.
func (s *Service) TakeOver(ctx context.Context, tx *store.Store, actor people.Actor, k record.Key) error {
	waiting, err := tx.Handovers(ctx, &k.ID)
	if err != nil || len(waiting) == 0 {
		return err
	}
	h := waiting[0]
	is, err := tx.IsOf(ctx, h.ToKeeper, actor.ID)
	if err != nil || !is {
		return err
	}
	if _, err := tx.EndHandover(ctx, h.ID, "proved", s.now()); err != nil {
		return err
	}
	if err := tx.SetKeeper(ctx, k.ID, h.ToKeeper); err != nil {
		return err
	}
	return tx.Note(
		ctx,
		s.journal.Entry(
			actor.By(),
			"key.hand-over",
			"key",
			k.Name,
			h.Reason,
			"%s is the keeper of %s now, and has proved it; %s had asked for that.",
			h.ToName,
			k.Name,
			h.AskedBy,
		),
	)
}
