package service

import (
	"context"
	"crypto/rand"
	"strings"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
	"plumlatch/internal/store"
)

// newSteward makes a steward key for the instance. Its private half is in the
// safe when tx ends, and nowhere else.
func (s *Service) newSteward(ctx context.Context, tx *store.Store, actor Actor, i store.Instance) (store.Key, error) {
	if s.Safe == nil {
		return store.Key{}, noSafe()
	}
	called := name.Suggest("steward-" + i.Name)
	if _, err := tx.KeyNamed(ctx, called); err == nil {
		called = name.Suggest(called[:min(len(called), name.MaxLength-7)] + "-" + strings.ToLower(rand.Text()[:6]))
	}
	k, sealed, err := s.newKept(
		ctx,
		tx,
		actor,
		NewKey{Name: called, Purpose: "the service's own key for " + i.Name},
		keypair.Spec{},
		"plum latch steward of "+i.Name,
	)
	if err != nil {
		return store.Key{}, err
	}
	k.StewardOf = &i.ID
	return k, addKept(ctx, tx, &k, sealed)
}
