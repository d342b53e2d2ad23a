package keys

import (
	"context"
	"crypto/rand"
	"fmt"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

func LineOf(k record.Key) string {
	return keypair.Public{Algorithm: k.Algorithm, Blob: k.Blob, Comment: k.Comment}.Line()
}

// KeptSigner opens a key's private key in the safe.
func (s *Service) KeptSigner(ctx context.Context, k record.Key) (ssh.Signer, error) {
	if s.Safe == nil {
		return nil, fmt.Errorf("the private key of %s cannot be used: the safe is switched off", k.Name)
	}
	kept, err := s.store.KeptKey(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	private, err := s.Safe.Open(kept.Encrypted, k.ID.String())
	if err != nil {
		return nil, fmt.Errorf("the private key of %s cannot be used: %w", k.Name, err)
	}
	signer, err := ssh.ParsePrivateKey(private)
	clear(private)
	if err != nil {
		return nil, fmt.Errorf("the private key of %s cannot be used: it does not read as one", k.Name)
	}
	s.journal.Use("to log in", k.Name)
	return signer, nil
}

// NewKept makes a pair whose private key will be kept, and seals that.
func (s *Service) NewKept(
	ctx context.Context, tx *store.Store, actor people.Actor, in NewKey, spec keypair.Spec, comment string,
) (k record.Key, encrypted record.Secret, err error) {
	if s.Safe == nil {
		return k, encrypted, problem.NoSafe()
	}
	pair, err := keypair.Make(rand.Reader, spec, comment)
	if err != nil {
		return k, encrypted, err
	}
	k = s.NewRecord(actor, in, pair.Public, "service")
	k.Custody = custody.Kept
	private, err := pair.OpenSSH(nil)
	if err != nil {
		return k, encrypted, err
	}
	encrypted, err = s.safes.Seal(ctx, tx, private, k.ID.String())
	clear(private)
	return k, encrypted, err
}

func AddKept(ctx context.Context, tx *store.Store, k *record.Key, encrypted record.Secret) error {
	if err := tx.AddKey(ctx, k); err != nil {
		return err
	}
	return tx.KeepKey(ctx, k.ID, encrypted, k.CreatedAt)
}

// LineFor is the line of a key in authorized_keys. A steward key's is limited to
// what it is for.
func (s *Service) LineFor(k record.Key) string {
	if k.StewardOf == nil {
		return LineOf(k)
	}
	options := "restrict"
	if s.StewardFrom != "" {
		options += `,from="` + s.StewardFrom + `"`
	}
	return options + " " + LineOf(k)
}
