package keys

import (
	"cmp"
	"context"
	"crypto/hpke"
	"encoding/base64"
	"errors"
	"fmt"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Release says what is wanted of a kept private key.
type Release struct {
	Key, Reason string
	// Recipient is the asker's public key for HPKE (RFC 9180: DHKEM(X25519, HKDF-SHA256),
	// HKDF-SHA256, AES-256-GCM) in base64; "" for a private key in plain text.
	Recipient string
}

// PrivateKey hands a private key that the safe keeps over to the key's holder or an
// admin, once. Of any other key it says why there is none, and notes that it was
// asked for. With a recipient the answer is encrypted to that, in base64.
func (s *Service) PrivateKey(ctx context.Context, actor people.Actor, w Release) ([]byte, error) {
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
			actor.By(), "key.private-key", "key", name, w.Reason, nil,
		)
		refused.Outcome = "refused"
		if err := s.store.Note(ctx, refused); err != nil {
			return nil, err
		}
		return nil, p
	}
	kept, verdict, why, err := s.judgeKept(ctx, actor, k, w.Reason, true)
	if err != nil {
		return nil, err
	}
	if verdict != custody.Granted {
		if verdict.Noted() {
			return refuse(why)
		}
		return nil, why
	}
	private, err := s.Safe.Open(kept.Encrypted, k.ID.String())
	if err != nil {
		return nil, fmt.Errorf("open the private key of %s: %w", name, err)
	}
	if recipient != nil {
		if private, err = sealFor(recipient, name, private); err != nil {
			return nil, err
		}
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		consented, err := s.useConsent(ctx, tx, actor, k)
		if err != nil {
			return err
		}
		first, err := tx.ReleaseKey(ctx, k.ID, actor.Name, s.now())
		if err == nil && !first {
			err = &problem.Problem{
				Kind:   problem.Gone,
				Code:   "private-key-released",
				Where:  []string{name},
				Detail: "the private key of " + name + " was handed over at this moment to somebody else",
			}
		}
		if err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "key.release", "key", name, w.Reason,
			journal.Facts{"consent_by": consented, "encrypted": recipient != nil},
		))
	})
	if err != nil {
		clear(private)
		return nil, err
	}
	return private, nil
}

// judgeKept says whether the actor gets at a kept private key, and if not why. To take it out it must not have been
// handed over before.
func (s *Service) judgeKept(
	ctx context.Context, actor people.Actor, k record.Key, reason string, out bool,
) (kept record.KeptKey, verdict custody.Verdict, why *problem.Problem, err error) {
	kept, err = s.store.KeptKey(ctx, k.ID)
	there := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return kept, "", nil, err
	}
	beyond := s.Beyond(ctx, s.store, k)
	var refused *problem.Problem
	if beyond != nil && !errors.As(beyond, &refused) {
		return kept, "", nil, beyond
	}
	own, err := s.Holds(ctx, s.store, actor, k)
	if err != nil {
		return kept, "", nil, err
	}
	verdict = custody.Judge(custody.Asked{
		Kept:     there,
		Released: out && kept.ReleasedAt != nil,
		Steward:  k.StewardOf != nil,
		SafeOff:  s.Safe == nil,
		Reason:   reason != "",
		Beyond:   beyond != nil,
		Holds:    own,
		Admin:    actor.Role == people.Admin,
	})
	if verdict == custody.Granted {
		return kept, verdict, nil, nil
	}
	return kept, verdict, cmp.Or(refused, notReleased(verdict, k, kept)), nil
}

// MayUse refuses an actor who may not have a kept private key used for them, or lacks the consent for it.
func (s *Service) MayUse(ctx context.Context, actor people.Actor, k record.Key, reason string) error {
	_, verdict, why, err := s.judgeKept(ctx, actor, k, reason, false)
	if err != nil {
		return err
	}
	if verdict != custody.Granted {
		return why
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		_, err := s.consentOf(ctx, tx, actor, k)
		return err
	})
}

// UseKept opens a kept private key for one use on the actor's behalf, with a second person's consent where a label asks
// for it. consented is whose that was, "" for nobody's.
func (s *Service) UseKept(
	ctx context.Context, actor people.Actor, k record.Key, reason string,
) (signer ssh.Signer, consented string, err error) {
	if err := s.MayUse(ctx, actor, k, reason); err != nil {
		return nil, "", err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		consented, err = s.useConsent(ctx, tx, actor, k)
		return err
	})
	if err != nil {
		return nil, "", err
	}
	signer, err = s.KeptSigner(ctx, k)
	return signer, consented, err
}

// sealFor encrypts the private key of the key to somebody and forgets it. What it returns is base64.
func sealFor(recipient hpke.PublicKey, key string, private []byte) ([]byte, error) {
	defer clear(private)
	sealed, err := hpke.Seal(recipient, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(releaseInfo+key), private)
	if err != nil {
		return nil, fmt.Errorf("encrypt the private key of %s: %w", key, err)
	}
	return []byte(base64.StdEncoding.EncodeToString(sealed)), nil
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

// Holds reports whether the actor, or a team of theirs, is the key's holder.
func (s *Service) Holds(ctx context.Context, tx *store.Store, actor people.Actor, k record.Key) (bool, error) {
	if k.HolderID == nil {
		return false, nil
	}
	return tx.IsOf(ctx, *k.HolderID, actor.ID)
}

// notReleased is why somebody gets no private key.
func notReleased(v custody.Verdict, k record.Key, kept record.KeptKey) *problem.Problem {
	p := &problem.Problem{Kind: problem.Forbidden, Code: string(v), Where: []string{k.Name}}
	switch v {
	case custody.NotKept:
		return handedOver(k)
	case custody.SafeOff:
		return problem.NoSafe()
	case custody.Steward:
		p.Detail = k.Name + " is a steward key, whose private key leaves the safe for nobody"
		p.Remedy = "Grant a key of your own: plumlatch grant add"
	case custody.Released:
		p.Kind = problem.Gone
		p.Detail = fmt.Sprintf(
			"the private key of %s was handed over once, to %s on %s", k.Name, kept.ReleasedTo,
			kept.ReleasedAt.UTC().Format("2 Jan 2006 at 15:04 UTC"),
		)
		p.Remedy = "If nobody has it, rotate the key: plumlatch rotate plan -key " + k.Name
	case custody.NoReason:
		p.Kind, p.Field, p.Where = problem.Invalid, "reason", nil
		p.Detail, p.Remedy = "no reason was given", "Say why, for the daybook: -reason TEXT"
	default:
		p.Detail, p.Remedy = fmt.Sprintf("only the holder of %s or an admin gets its private key", k.Name), "Ask them"
	}
	return p
}
