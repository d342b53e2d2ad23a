package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/secrets"
	"plumlatch/internal/store"
)

// The second factor is TOTP (RFC 6238): six digits by HMAC-SHA1 over steps of 30
// seconds, as authenticators take them. The step before and the one after are taken
// too, each step once.
const (
	factorStep    = 30 * time.Second
	recoveryCodes = 10
)

// Factor is a second factor that will be confirmed by a code of it.
type Factor struct {
	// Secret is in base32, URL what an authenticator reads from a picture.
	Secret, URL string
}

func factorRecord(o record.Operator) string { return "second factor of " + o.ID.String() }

// HasFactor reports whether the actor signs in with a second factor.
func (s *Service) HasFactor(ctx context.Context, actor Actor) (bool, error) {
	o, err := s.store.OperatorNamed(ctx, actor.Name)
	return o.FactorAt != nil, err
}

// BeginFactor makes a secret for the actor's second factor. It is in use once confirmed.
func (s *Service) BeginFactor(ctx context.Context, actor Actor) (Factor, error) {
	if s.Safe == nil {
		return Factor{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "no-safe",
			Detail: "the safe is switched off, so the secret of a second factor cannot be kept",
			Remedy: "Start the service with -safe-key-file FILE",
		}
	}
	o, err := s.store.OperatorNamed(ctx, actor.Name)
	if err != nil {
		return Factor{}, err
	}
	if o.FactorAt != nil {
		return Factor{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "factor-there",
			Detail: "you have a second factor already",
			Remedy: "Give it up first, with a code of it: plumlatch factor remove",
		}
	}
	key, err := totp.Generate(totp.GenerateOpts{
		Issuer:      "Plum Latch",
		AccountName: o.Name,
		Period:      uint(factorStep.Seconds()),
		Digits:      otp.DigitsSix,
		Rand:        rand.Reader,
	})
	if err != nil {
		return Factor{}, err
	}
	encrypted, err := s.safes.Seal(ctx, s.store, []byte(key.Secret()), factorRecord(o))
	if err != nil {
		return Factor{}, err
	}
	return Factor{
			key.Secret(),
			key.URL(),
		}, s.store.InTx(
			ctx,
			func(tx *store.Store) error { return tx.SetFactor(ctx, o.ID, encrypted) },
		)
}

// ConfirmFactor puts the second factor into use and returns its recovery codes, which
// are kept as hashes alone.
func (s *Service) ConfirmFactor(ctx context.Context, actor Actor, code string) ([]string, error) {
	o, err := s.store.OperatorNamed(ctx, actor.Name)
	if err != nil {
		return nil, err
	}
	if o.FactorEncrypted == nil || o.FactorAt != nil {
		return nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "no-factor-begun",
			Detail: "no second factor waits to be confirmed",
			Remedy: "Begin one: plumlatch factor add",
		}
	}
	try, err := s.attempt(ctx, "factor of "+o.Name, "")
	if err != nil {
		return nil, err
	}
	ok, err := s.totpFits(ctx, o, code)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, wrongCode()
	}
	if err := try.succeeded(ctx); err != nil {
		return nil, err
	}
	codes, hashes := make([]string, recoveryCodes), make([][]byte, recoveryCodes)
	for i := range codes {
		text := strings.ToLower(rand.Text()[:16])
		codes[i] = text[:4] + "-" + text[4:8] + "-" + text[8:12] + "-" + text[12:]
		hashes[i] = secrets.Hash(text)
	}
	return codes, s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.ConfirmFactor(ctx, o.ID, hashes, s.now()); err != nil {
			return err
		}
		if err := tx.EndSessionsBut(ctx, o.ID, actor.Session); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "factor.add", "operator", o.Name, "", nil,
		))
	})
}

// RemoveFactor gives the actor's second factor up, by a code of it or a recovery code.
func (s *Service) RemoveFactor(ctx context.Context, actor Actor, code string) error {
	o, err := s.store.OperatorNamed(ctx, actor.Name)
	if err != nil {
		return err
	}
	if o.FactorAt == nil {
		return &problem.Problem{Kind: problem.NotFound, Code: "no-factor", Detail: "you have no second factor"}
	}
	try, err := s.attempt(ctx, "factor of "+o.Name, "")
	if err != nil {
		return err
	}
	ok, err := s.codeFits(ctx, o, code)
	if err != nil {
		return err
	}
	if !ok {
		return wrongCode()
	}
	if err := try.succeeded(ctx); err != nil {
		return err
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.SetFactor(ctx, o.ID, record.Secret{}); err != nil {
			return err
		}
		if err := tx.EndSessionsBut(ctx, o.ID, actor.Session); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), "factor.remove", "operator", o.Name, "", nil),
		)
	})
}

func wrongCode() error {
	return &problem.Problem{
		Kind:   problem.Forbidden,
		Code:   "wrong-code",
		Field:  "code",
		Detail: "the code is wrong, or was used before",
		Remedy: "Wait for the next one and give it within its 30 seconds",
	}
}

// codeFits takes a code of the second factor or a recovery code.
func (s *Service) codeFits(ctx context.Context, o record.Operator, code string) (bool, error) {
	plain := strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(code))
	if len(plain) == 6 {
		return s.totpFits(ctx, o, plain)
	}
	ok, left, err := s.store.UseRecoveryCode(ctx, o.ID, secrets.Hash(plain), s.now())
	if err != nil || !ok {
		return false, err
	}
	e := s.journal.Entry(
		journal.By{Name: o.Name, Via: "service"}, "factor.recovery", "operator", o.Name, "",
		journal.Facts{"left": left},
	)
	return true, s.store.Note(ctx, e)
}

func (s *Service) totpFits(ctx context.Context, o record.Operator, code string) (bool, error) {
	if s.Safe == nil {
		return false, &problem.Problem{
			Kind:   problem.Unavailable,
			Code:   "no-safe",
			Detail: "the safe is switched off, so a code of the second factor cannot be checked",
			Remedy: "Give a recovery code, or have the service started with -safe-key-file FILE",
		}
	}
	secret, err := s.Safe.Open(o.FactorEncrypted, factorRecord(o))
	if err != nil {
		return false, fmt.Errorf("open the second factor of %s: %w", o.Name, err)
	}
	defer clear(secret)
	now := s.now().Unix() / int64(factorStep.Seconds())
	for step := now - 1; step <= now+1; step++ {
		want, err := totp.GenerateCodeCustom(
			string(secret), time.Unix(step*int64(factorStep.Seconds()), 0),
			totp.ValidateOpts{Period: uint(factorStep.Seconds()), Digits: otp.DigitsSix},
		)
		if err != nil {
			return false, err
		}
		if subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return s.store.UseStep(ctx, o.ID, step)
		}
	}
	return false, nil
}
