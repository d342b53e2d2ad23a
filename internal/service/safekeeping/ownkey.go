package safekeeping

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// OwnKey returns a key pair of the service's own, made at its first use.
func (s *Service) OwnKey(ctx context.Context, name string) (ssh.Signer, error) {
	if s.Safe == nil {
		return nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "no-safe",
			Detail: "the safe is switched off, so the service has no key of its own to sign with",
			Remedy: "Start the service with -safe-key-file FILE",
		}
	}
	k, err := s.store.ServiceKey(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		if k, err = s.newOwnKey(ctx, name); err != nil {
			return nil, err
		}
	}
	if err != nil {
		return nil, err
	}
	private, err := s.Safe.Open(k.Encrypted, ownRecord(name))
	if err != nil {
		return nil, fmt.Errorf("the service's own key %s: %w", name, err)
	}
	defer clear(private)
	return ssh.ParsePrivateKey(private)
}

// ownRecord is what the encrypted half of a key of the service's own is bound to.
func ownRecord(name string) string { return "service key " + name }

func (s *Service) newOwnKey(ctx context.Context, name string) (record.ServiceKey, error) {
	pair, err := keypair.Make(rand.Reader, keypair.Spec{}, "plum latch "+name)
	if err != nil {
		return record.ServiceKey{}, err
	}
	private, err := pair.OpenSSH(nil)
	if err != nil {
		return record.ServiceKey{}, err
	}
	defer clear(private)
	encrypted, err := s.Seal(ctx, s.store, private, ownRecord(name))
	if err != nil {
		return record.ServiceKey{}, err
	}
	err = s.store.AddServiceKey(ctx, record.ServiceKey{Name: name, Blob: pair.Public.Blob, MadeAt: s.now()}, encrypted)
	var taken *store.TakenError
	if err != nil && !errors.As(err, &taken) {
		return record.ServiceKey{}, err
	}
	return s.store.ServiceKey(ctx, name) // another process may have been first
}
