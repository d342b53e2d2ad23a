package rotate

import (
	"context"
	"crypto/rand"
	"fmt"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
)

// newKeys returns the keys that come, and of those that the service makes the encrypted
// private keys.
func (s *Service) newKeys(
	ctx context.Context, actor people.Actor, plan RotationPlan, start RotationStart,
) (made []record.Key, encrypted map[string]record.Secret, err error) {
	bad := func(code, detail, remedy string) error {
		return &problem.Problem{Kind: problem.Invalid, Code: code, Field: "make", Detail: detail, Remedy: remedy}
	}
	switch {
	case start.To != "":
		k, err := s.keys.Key(ctx, start.To)
		if err != nil {
			return nil, nil, err
		}
		return []record.Key{k}, nil, s.keys.Grantable(k)
	case start.Make == MakeBring:
		return nil, nil, nil // they come later
	case start.Make == MakeService && s.Safe == nil:
		return nil, nil, problem.NoSafe()
	case start.Make != MakeService && start.Make != makeHere:
		return nil, nil, bad(
			"bad-make", fmt.Sprintf("%q is not a source for new keys", start.Make), "Say here, service or bring",
		)
	}
	privates := map[string][]byte{}
	encrypted = map[string]record.Secret{}
	for _, planned := range plan.New {
		in := keys.NewKey{Name: planned.Name, Purpose: "follows " + planned.Follows}
		var public keypair.Public
		origin := "client"
		if start.Make == makeHere {
			line, ok := start.NewKeys[planned.Name]
			if !ok {
				return nil, nil, bad(
					"key-missing", fmt.Sprintf("the public key of the new key %s was not given", planned.Name),
					"The client makes and gives all of them: plumlatch rotate start",
				)
			}
			if public, err = keypair.ReadLine(line); err != nil {
				return nil, nil, problem.FromRefusal("new_keys", err)
			}
		} else {
			origin = "service"
			pair, err := keypair.Make(
				rand.Reader,
				keypair.Spec{Type: planned.Type, Bits: map[string]int{keypair.RSA: madeAsRSABits}[planned.Type]},
				planned.Name,
			)
			if err != nil {
				return nil, nil, err
			}
			public = pair.Public
			if privates[planned.Name], err = pair.OpenSSH(nil); err != nil {
				return nil, nil, err
			}
		}
		k := s.keys.NewRecord(actor, in, public, origin)
		k.HolderID = planned.holder
		if private := privates[planned.Name]; private != nil {
			k.Custody = custody.Kept
			encrypted[planned.Name], err = s.safes.Seal(ctx, s.store, private, k.ID.String())
			clear(private)
			if err != nil {
				return nil, nil, err
			}
		}
		if err := s.keys.Grantable(k); err != nil {
			return nil, nil, err
		}
		made = append(made, k)
	}
	return made, encrypted, nil
}
