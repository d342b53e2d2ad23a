package fleet

import (
	"context"
	"crypto/rand"
	"strings"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
	"plumlatch/internal/record"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// NewSteward makes a steward key for the instance, which logs in as account, "" for the instance's login user. Its
// private key is in the safe when tx ends, and nowhere else.
func (s *Service) NewSteward(
	ctx context.Context, tx *store.Store, actor people.Actor, i record.Instance, account string,
) (record.Key, error) {
	if s.Safe == nil {
		return record.Key{}, problem.NoSafe()
	}
	called := name.Suggest("steward-" + i.Name)
	if _, err := tx.KeyNamed(ctx, called); err == nil {
		called = name.Suggest(called[:min(len(called), name.MaxLength-7)] + "-" + strings.ToLower(rand.Text()[:6]))
	}
	k, encrypted, err := s.keys.NewKept(
		ctx, tx, actor, keys.NewKey{Name: called, Purpose: "the service's own key for " + i.Name}, keypair.Spec{},
		"plum latch steward of "+i.Name,
	)
	if err != nil {
		return record.Key{}, err
	}
	k.StewardOf, k.StewardUser = &i.ID, account
	return k, keys.AddKept(ctx, tx, &k, encrypted)
}
