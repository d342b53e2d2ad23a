package rotate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// askedKeys returns the requests that a rotation begins with: one for each key that
// its holder is to bring.
func askedKeys(r record.Rotation, plan RotationPlan, start RotationStart) ([]record.AskedKey, error) {
	if start.Make != MakeBring || start.To != "" {
		return nil, nil
	}
	var asked []record.AskedKey
	var nobody []string
	for _, k := range plan.New {
		if k.holder == nil {
			nobody = append(nobody, k.Follows)
			continue
		}
		asked = append(asked, record.AskedKey{
			ID:         store.NewID(),
			RotationID: r.ID,
			Name:       k.Name,
			Follows:    k.Follows,
			HolderID:   *k.holder,
			Type:       k.Type,
			Bits:       k.Bits,
			CreatedAt:  r.CreatedAt,
		})
	}
	if len(nobody) > 0 {
		slices.Sort(nobody)
		return nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "nobody-to-ask",
			Field:  "make",
			Where:  slices.Compact(nobody),
			Detail: "nobody keeps " + strings.Join(slices.Compact(nobody), ", ") + ", so nobody can be asked",
			Remedy: "Have these made here or by the service: add -make here or -make service",
		}
	}
	return asked, nil
}

// AskedKey is a new public key that is asked for.
type AskedKey struct {
	record.AskedKey
	// Yours is whether the actor may bring it.
	Yours bool
}

// AskedKeys returns the new public keys that are asked for, the oldest request
// first. holder "" means of all, "me" of the actor.
func (s *Service) AskedKeys(ctx context.Context, actor people.Actor, holder string) ([]AskedKey, error) {
	own, err := s.store.HolderOf(ctx, actor.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if holder == "me" {
		if holder = own.Name; holder == "" {
			return nil, nil // no holder, so nothing is asked of them
		}
	}
	asked, err := s.store.AskedKeys(ctx, holder)
	out := make([]AskedKey, len(asked))
	for n, a := range asked {
		out[n] = AskedKey{a, mayBring(actor, own, a)}
	}
	return out, err
}

// BringKey takes the public key that a holder was asked for. Where it is recorded
// already as a key of that holder, that key is the one that comes.
func (s *Service) BringKey(
	ctx context.Context, actor people.Actor, asked uuid.UUID, public string,
) (record.Key, error) {
	a, k, err := s.askedFor(ctx, actor, asked, public)
	if err != nil {
		return record.Key{}, err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if k, err = knownOrNew(ctx, tx, a, k); err != nil {
			return err
		}
		first, err := tx.BringKey(ctx, a, k, s.now())
		if err == nil && !first {
			err = &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "not-asked",
				Detail: "it was brought meanwhile",
				Remedy: "See what is asked for: plumlatch rotate asked",
			}
		}
		if err != nil {
			return err
		}
		return tx.Note(ctx, journal.OnKeys(
			s.journal.Entry(
				actor.By(), "rotation.bring", "key", k.Name, "",
				journal.Facts{"follows": a.Follows},
			),
			a.Follows,
		))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return record.Key{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "name-taken",
			Detail: "a key named " + a.Name + " was recorded meanwhile",
			Remedy: "Rename that one, and bring this again",
		}
	}
	if err != nil {
		return record.Key{}, err
	}
	s.engine.Nudge(ctx, rotationDuty)
	return s.keys.Key(ctx, k.Name)
}

// askedFor returns what is asked for, and the key that answers it, which is not recorded yet.
func (s *Service) askedFor(
	ctx context.Context, actor people.Actor, asked uuid.UUID, public string,
) (a record.AskedKey, k record.Key, err error) {
	a, err = s.store.AskedKeyByID(ctx, asked)
	if errors.Is(err, store.ErrNotFound) {
		return a, k, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "not-asked",
			Detail: "there is no such request, or it was answered already",
			Remedy: "See what is asked for: plumlatch rotate asked",
		}
	}
	if err != nil {
		return a, k, err
	}
	own, err := s.store.HolderOf(ctx, actor.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return a, k, err
	}
	if !mayBring(actor, own, a) {
		return a, k, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "not-asked-of-you",
			Where:  []string{a.HolderName},
			Detail: "this key is asked of " + a.HolderName,
			Remedy: "See what is asked of you: plumlatch rotate asked -holder me",
		}
	}
	read, err := keypair.ReadLine(public)
	if err != nil {
		return a, k, problem.FromRefusal("public_key", err)
	}
	k = s.keys.NewRecord(actor, keys.NewKey{Name: a.Name, Purpose: "follows " + a.Follows}, read, "client")
	k.HolderID = &a.HolderID
	if err := s.keys.Grantable(k); err != nil {
		return a, k, err
	}
	if k.Type != a.Type && a.Type == keypair.RSA {
		return a, k, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "wrong-type",
			Field:  "public_key",
			Detail: fmt.Sprintf("an instance that it will open takes RSA keys only, and this is %s", k.Type),
			Remedy: fmt.Sprintf("Bring an RSA key of %d bits: plumlatch rotate bring %s -new", a.Bits, a.Name),
		}
	}
	return a, k, nil
}

// knownOrNew records the key that was brought, or returns the record of one that may answer what is asked for.
func knownOrNew(ctx context.Context, tx *store.Store, a record.AskedKey, k record.Key) (record.Key, error) {
	known, err := tx.KeysIn(ctx, [][]byte{k.SHA256})
	if err != nil {
		return k, err
	}
	same, there := known[string(k.SHA256)]
	if !there {
		return k, tx.AddKey(ctx, &k)
	}
	earlier, err := tx.KeyByID(ctx, same.ID)
	if err != nil {
		return k, err
	}
	if earlier.HolderID == nil || *earlier.HolderID != a.HolderID || earlier.State != custody.Active {
		return k, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "another-key",
			Field:  "public_key",
			Where:  []string{earlier.Name},
			Detail: fmt.Sprintf("this is the key %s, which is not an active key of %s", earlier.Name, a.HolderName),
			Remedy: "Bring another",
		}
	}
	if earlier.Name == a.Follows {
		return k, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "old-key",
			Field:  "public_key",
			Where:  []string{earlier.Name},
			Detail: "this is the key being replaced",
			Remedy: "Bring another: plumlatch rotate bring " + a.Name + " -new",
		}
	}
	return earlier, nil
}

// mayBring lets the holder, of a team's any operator, and an admin.
func mayBring(actor people.Actor, own record.Holder, a record.AskedKey) bool {
	return actor.Role == people.Admin || actor.Role != people.Viewer && (a.HolderKind == "team" || own.ID == a.HolderID)
}
