package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/record"
)

// ForgetKey destroys the kept private key of a key, whose holder alone has it now.
func (s *Store) ForgetKey(ctx context.Context, key uuid.UUID) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("key_id = ?", key).Delete(&record.KeptKey{}).Error; err != nil {
		return plain(err)
	}
	return plain(db.Model(&record.Key{}).Where("id = ?", key).Update("custody", custody.Holder).Error)
}

// NeverReleased tells of which of the keys the safe has the private key and nobody else.
func (s *Store) NeverReleased(ctx context.Context, keys []uuid.UUID) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).
		Model(&record.KeptKey{}).
		Where("key_id IN ? AND released_at IS NULL", keys).
		Pluck("key_id", &ids).
		Error
	out := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, plain(err)
}

// KeptAmong tells of which of the keys the safe has the private key.
func (s *Store) KeptAmong(ctx context.Context, keys []uuid.UUID) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).Model(&record.KeptKey{}).Where("key_id IN ?", keys).Pluck("key_id", &ids).Error
	kept := map[uuid.UUID]bool{}
	for _, id := range ids {
		kept[id] = true
	}
	return kept, plain(err)
}

// KeptKey returns the encrypted private key of a key; ErrNotFound where the safe has none.
func (s *Store) KeptKey(ctx context.Context, key uuid.UUID) (record.KeptKey, error) {
	var h record.KeptKey
	err := s.db.WithContext(ctx).Where("key_id = ?", key).Take(&h).Error
	return h, plain(err)
}

// ReleaseKey records that a kept half was handed over; false where it was before.
func (s *Store) ReleaseKey(ctx context.Context, key uuid.UUID, to string, at time.Time) (bool, error) {
	done := s.db.WithContext(ctx).
		Model(&record.KeptKey{}).
		Where("key_id = ? AND released_at IS NULL", key).
		Updates(map[string]any{"released_at": at, "released_to": to})
	return done.RowsAffected > 0, plain(done.Error)
}

// KeepKey keeps the encrypted private key of a key.
func (s *Store) KeepKey(ctx context.Context, key uuid.UUID, private record.Secret, at time.Time) error {
	if err := s.underMark(ctx, private); err != nil {
		return err
	}
	h := record.KeptKey{KeyID: key, Encrypted: private.Encrypted, KeptAt: at}
	return plain(s.db.WithContext(ctx).Create(&h).Error)
}

// CountKept returns the number of kept private keys.
func (s *Store) CountKept(ctx context.Context) (n int64, err error) {
	err = s.db.WithContext(ctx).Model(&record.KeptKey{}).Count(&n).Error
	return n, plain(err)
}

// RetireSteward ends the steward key of an instance and destroys its private key.
func (s *Store) RetireSteward(ctx context.Context, instance uuid.UUID) error {
	db := s.db.WithContext(ctx)
	stewards := db.Model(&record.Key{}).Select("id").Where("steward_of = ?", instance)
	if err := db.Where("key_id IN (?)", stewards).Delete(&record.KeptKey{}).Error; err != nil {
		return plain(err)
	}
	return plain(db.Model(&record.Key{}).Where("steward_of = ?", instance).Update("state", custody.Retired).Error)
}
