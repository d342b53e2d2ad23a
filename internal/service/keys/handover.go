package keys

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// HandOver asks another holder to take a key over, which is done once they prove that
// they hold it. A private key that never left the safe changes its holder at once.
func (s *Service) HandOver(
	ctx context.Context, actor people.Actor, key, to, reason string,
) (record.Key, *record.Handover, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return record.Key{}, nil, err
	}
	holder, err := s.people.HolderFor(ctx, actor, to)
	if err != nil {
		return record.Key{}, nil, err
	}
	if holder == nil || to == "" {
		return record.Key{}, nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-such-holder",
			Field:  "to",
			Detail: "nobody was named to take the key over",
		}
	}
	if holder.LeftAt != nil {
		return record.Key{}, nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "holder-left",
			Field:  "to",
			Detail: holder.Name + " has left",
		}
	}
	var waits *record.Handover
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		k, err := s.LockKey(ctx, tx, key, func(k record.Key) error { return s.mayHandOver(ctx, tx, actor, k) })
		if err != nil {
			return err
		}
		if err := handsOver(k, *holder); err != nil {
			return err
		}
		kept, err := tx.KeptKey(ctx, k.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err == nil && kept.ReleasedAt == nil {
			if err := tx.SetHolder(ctx, k.ID, holder.ID); err != nil {
				return err
			}
			return tx.Note(ctx, s.journal.Entry(
				actor.By(), "key.hand-over:kept", "key", key, reason,
				journal.Facts{"holder": holder.Name},
			))
		}
		h := record.Handover{
			ID:         store.NewID(),
			KeyID:      k.ID,
			FromHolder: k.HolderID,
			ToHolder:   holder.ID,
			AskedBy:    actor.Name,
			Reason:     reason,
			AskedAt:    s.now().Truncate(time.Microsecond),
			KeyName:    k.Name,
			ToName:     holder.Name,
		}
		waits = &h
		if err := tx.AddHandover(ctx, h); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "key.hand-over-ask", "key", key, reason,
			journal.Facts{"holder": holder.Name},
		))
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

// mayHandOver refuses an actor who may not hand the key over.
func (s *Service) mayHandOver(ctx context.Context, tx *store.Store, actor people.Actor, k record.Key) error {
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
			Where:  []string{k.Name},
			Detail: k.Name + " is a steward key, the service's own",
		}
	case !own && actor.Role != people.Admin:
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "not-the-holder",
			Where:  []string{k.Name},
			Detail: fmt.Sprintf("only the holder of %s or an admin hands it over", k.Name),
			Remedy: "Ask them",
		}
	}
	return nil
}

// handsOver refuses a key that cannot go to the holder.
func handsOver(k record.Key, to record.Holder) error {
	switch {
	case k.State == custody.Lost:
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "key-lost",
			Where:  []string{k.Name},
			Detail: k.Name + " is marked as lost",
			Remedy: "Rotate it: plumlatch rotate plan -key " + k.Name,
		}
	case k.HolderID != nil && *k.HolderID == to.ID:
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "holder-already",
			Where:  []string{k.Name},
			Detail: to.Name + " is its holder already",
		}
	}
	return nil
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
					Code:   "not-the-holder",
					Where:  []string{key},
					Detail: "only who asked, the holder, or an admin calls it off",
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
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "key.hand-over-off", "key", key, "",
			journal.Facts{"holder": waiting[0].ToName},
		))
	})
}

// Handovers returns those that wait for a proof.
func (s *Service) Handovers(ctx context.Context) ([]record.Handover, error) {
	return s.store.Handovers(ctx, nil)
}

// TakeOver completes a hand-over of the key to whoever has just proved to hold it. A key that nobody holds, they
// hold from then on.
func (s *Service) TakeOver(ctx context.Context, tx *store.Store, actor people.Actor, k record.Key) error {
	waiting, err := tx.Handovers(ctx, &k.ID)
	if err != nil {
		return err
	}
	if len(waiting) == 0 {
		if k.HolderID != nil || k.StewardOf != nil {
			return nil
		}
		own, err := tx.HolderOf(ctx, actor.ID)
		if errors.Is(err, store.ErrNotFound) { // an account without a holder, such as one for a program
			return nil
		}
		if err == nil {
			err = tx.SetHolder(ctx, k.ID, own.ID)
		}
		if err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "key.held", "key", k.Name, "", journal.Facts{"holder": own.Name},
		))
	}
	h := waiting[0]
	is, err := tx.IsOf(ctx, h.ToHolder, actor.ID)
	if err != nil || !is {
		return err
	}
	if _, err := tx.EndHandover(ctx, h.ID, "proved", s.now()); err != nil {
		return err
	}
	if err := tx.SetHolder(ctx, k.ID, h.ToHolder); err != nil {
		return err
	}
	return tx.Note(ctx, s.journal.Entry(
		actor.By(), "key.hand-over", "key", k.Name, h.Reason,
		journal.Facts{"holder": h.ToName, "asked_by": h.AskedBy},
	))
}

func handedOverWords(k record.Key) string {
	return fmt.Sprintf(
		"was handed over once, to %s on %s, and is kept nowhere here", k.CreatedBy,
		k.CreatedAt.UTC().Format("2 Jan 2006 at 15:04 UTC"),
	)
}

func handedOver(k record.Key) *problem.Problem {
	p := &problem.Problem{
		Kind:   problem.Gone,
		Code:   "private-key-not-here",
		Where:  []string{k.Name},
		Remedy: "If nobody has it, make a new pair (plumlatch key new NAME) and let that in instead",
	}
	switch k.Origin {
	case "service":
		p.Detail = fmt.Sprintf("the private key of %s %s", k.Name, handedOverWords(k))
	case "client":
		p.Detail = fmt.Sprintf(
			"the private key of %s was made on the machine of %s and never came here", k.Name, k.CreatedBy,
		)
	default:
		p.Detail = fmt.Sprintf(
			"only the public key of %s was imported, by %s; the private key never came here", k.Name, k.CreatedBy,
		)
	}
	return p
}
