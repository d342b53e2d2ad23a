package keys

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

const (
	// consentHolds is for how long a request waits for consent, and what is granted for a use.
	consentHolds = 4 * time.Hour
	// consentsShown is how far back requests are listed.
	consentsShown = 90 * 24 * time.Hour
	// proofForForgetting is how recent the holder's proof has to be before the kept copy goes.
	proofForForgetting = 15 * time.Minute
	// releaseInfo binds what is encrypted for somebody to its purpose (HPKE's info).
	releaseInfo = "plum latch private key "
)

// LockKey locks a key for what whoever may asks for with the key's record; it asks before the lock,
// so that nobody else makes others wait, and again after it.
func (s *Service) LockKey(
	ctx context.Context, tx *store.Store, name string, may func(record.Key) error,
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

// ForgetKey destroys the copy of a private key in the safe, once the holder has just
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
					Kind:   problem.Forbidden,
					Code:   "steward-key",
					Where:  []string{name},
					Detail: name + " is a steward key, that nobody but the service has",
					Remedy: "Withdraw it: plumlatch grant withdraw " + name,
				}
			case !own && actor.Role != people.Admin:
				return &problem.Problem{
					Kind:   problem.Forbidden,
					Code:   "not-the-holder",
					Where:  []string{name},
					Detail: fmt.Sprintf("only the holder of %s or an admin has the safe forget it", name),
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		kept, err := tx.KeptKey(ctx, k.ID)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "not-kept",
				Where:  []string{name},
				Detail: "the safe has no private key of " + name,
			}
		case err != nil:
			return err
		case kept.ReleasedAt == nil:
			return &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "never-released",
				Where:  []string{name},
				Detail: "nobody has the private key of " + name + " but the safe, so forgetting it would lose it",
				Remedy: "Take it out first: plumlatch key private " + name,
			}
		case k.ProvedAt == nil || k.ProvedAt.Before(*kept.ReleasedAt) || s.now().Sub(*k.ProvedAt) > proofForForgetting:
			return &problem.Problem{
				Kind:  problem.Conflict,
				Code:  "not-proved",
				Where: []string{name},
				Detail: fmt.Sprintf(
					"nobody has proved possession of the private key of %[2]s in the last %[1]d minutes",
					int(proofForForgetting.Minutes()), name,
				),
				Remedy: "Prove it, and then again: plumlatch key forget " + name + " -with FILE",
			}
		}
		if err := tx.ForgetKey(ctx, k.ID); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "key.forget", "key", name, "",
			journal.Facts{"proved_by": k.ProvedBy},
		))
	})
	if err != nil {
		return record.Key{}, err
	}
	return s.Key(ctx, name)
}
