package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// RSAKeys returns, by id, at most limit RSA keys with an id above after: of
// those whose moduli were compared with the others, or of those that were not yet.
func (s *Store) RSAKeys(ctx context.Context, compared bool, after uuid.UUID, limit int) ([]record.Key, error) {
	q := s.db.WithContext(ctx).Select("id", "name", "blob", "type").Where("type = 'rsa' AND id > ?", after)
	if compared {
		q = q.Where("primes_at IS NOT NULL")
	} else {
		q = q.Where("primes_at IS NULL")
	}
	var keys []record.Key
	err := q.Order("id").Limit(limit).Find(&keys).Error
	return keys, plain(err)
}

// NotePrimes records that the keys' moduli were compared, and with which others
// they share a prime. Each pair is given once.
func (s *Store) NotePrimes(ctx context.Context, compared []uuid.UUID, shared []record.SharedPrime, at time.Time) error {
	db := s.db.WithContext(ctx)
	if err := db.Model(&record.Key{}).Where("id IN ?", compared).Update("primes_at", at).Error; err != nil {
		return plain(err)
	}
	var rows []record.SharedPrime
	for _, p := range shared {
		rows = append(
			rows, record.SharedPrime{KeyID: p.KeyID, OtherID: p.OtherID, FoundAt: at},
			record.SharedPrime{KeyID: p.OtherID, OtherID: p.KeyID, FoundAt: at},
		)
	}
	if len(rows) == 0 {
		return nil
	}
	return plain(db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(rows, 1000).Error)
}

// withSharedPrimes fills in the names of the keys with which each shares a prime.
// Raw, since GORM would write an array as a list of parameters.
func (s *Store) withSharedPrimes(ctx context.Context, keys []record.Key) error {
	var ids []uuid.UUID
	place := map[uuid.UUID]int{}
	for n, k := range keys {
		if k.Type == "rsa" {
			ids, place[k.ID] = append(ids, k.ID), n
		}
	}
	if len(ids) == 0 {
		return nil
	}
	var rows []struct {
		KeyID uuid.UUID
		Name  string
	}
	err := s.db.WithContext(ctx).Raw(`SELECT p.key_id, k.name FROM shared_primes p JOIN keys k ON k.id = p.other_id
		WHERE p.key_id IN ? ORDER BY k.name`, ids).Scan(&rows).Error
	for _, r := range rows {
		k := &keys[place[r.KeyID]]
		k.SharesPrimeWith = append(k.SharesPrimeWith, r.Name)
	}
	return plain(err)
}
