package keys

import (
	"context"
	"math/big"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/weakness"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

const (
	// compareEvery is how often new RSA keys are compared with all others.
	compareEvery = 5 * time.Second
	freshAtOnce  = 128
	knownAtOnce  = 5000
)

// comparePrimes looks whether new RSA keys share a prime with any that is
// recorded, and notes it in the daybook.
func (s *Service) comparePrimes(ctx context.Context) error {
	for {
		fresh, err := s.store.RSAKeys(ctx, false, uuid.Nil, freshAtOnce)
		if err != nil || len(fresh) == 0 {
			return err
		}
		moduli := moduliOf(fresh)
		var shared []record.SharedPrime
		var sentences []record.Entry
		found := func(a, b record.Key) {
			shared = append(shared, record.SharedPrime{KeyID: a.ID, OtherID: b.ID})
			sentences = append(sentences, journal.OnKeys(
				s.journal.Entry(
					journal.ByService, "key.shared-prime", "key", a.Name, "",
					journal.Facts{"other": b.Name},
				),
				b.Name,
			))
		}
		for _, p := range weakness.SharedPrimes(moduli) {
			found(fresh[p.A], fresh[p.B])
		}
		for after := uuid.Nil; ; {
			known, err := s.store.RSAKeys(ctx, true, after, knownAtOnce)
			if err != nil {
				return err
			}
			for _, p := range weakness.SharedPrimesWith(moduli, moduliOf(known)) {
				found(fresh[p.A], known[p.B])
			}
			if len(known) < knownAtOnce {
				break
			}
			after = known[len(known)-1].ID
		}
		ids := make([]uuid.UUID, len(fresh))
		for n, k := range fresh {
			ids[n] = k.ID
		}
		err = s.store.InTx(ctx, func(tx *store.Store) error {
			if err := tx.NotePrimes(ctx, ids, shared, s.now()); err != nil {
				return err
			}
			for _, e := range sentences {
				if err := tx.Note(ctx, e); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
}

func moduliOf(keys []record.Key) []*big.Int {
	moduli := make([]*big.Int, len(keys))
	for n, k := range keys {
		_, moduli[n] = keypair.Public{Type: keypair.RSA, Blob: k.Blob}.RSANumbers()
	}
	return moduli
}
