package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// Passkeys returns the passkeys of a person, by name.
func (s *Store) Passkeys(ctx context.Context, operator uuid.UUID) ([]record.Passkey, error) {
	var out []record.Passkey
	err := s.db.WithContext(ctx).Where("operator_id = ?", operator).Order("name").Find(&out).Error
	return out, plain(err)
}

// AddPasskey keeps a passkey; a TakenError where its name, or the passkey itself, is there.
func (s *Store) AddPasskey(ctx context.Context, p record.Passkey) error {
	return plain(s.db.WithContext(ctx).Create(&p).Error)
}

// UsePasskey records that a passkey was used, with what its authenticator counts now.
func (s *Store) UsePasskey(ctx context.Context, p record.Passkey) error {
	return plain(s.db.WithContext(ctx).Model(&p).Select("credential", "used_at").Updates(&p).Error)
}

// RemovePasskey removes a person's passkey; false where there is none of that name.
func (s *Store) RemovePasskey(ctx context.Context, operator uuid.UUID, name string) (bool, error) {
	r := s.db.WithContext(ctx).Where("operator_id = ? AND name = ?", operator, name).Delete(&record.Passkey{})
	return r.RowsAffected == 1, plain(r.Error)
}

// RemovePasskeys removes all passkeys of a person, and returns how many there were.
func (s *Store) RemovePasskeys(ctx context.Context, operator uuid.UUID) (int, error) {
	r := s.db.WithContext(ctx).Where("operator_id = ?", operator).Delete(&record.Passkey{})
	return int(r.RowsAffected), plain(r.Error)
}

// mostChallenges is how many are open at most: a sign-in begins one before anybody is known.
const mostChallenges = 10_000

// AddPasskeyChallenge keeps what a browser is asked to sign, and forgets those that are over; false where too many are
// open.
func (s *Store) AddPasskeyChallenge(ctx context.Context, c record.PasskeyChallenge, now time.Time) (bool, error) {
	db := s.db.WithContext(ctx)
	if err := db.Where("expires_at <= ?", now).Delete(&record.PasskeyChallenge{}).Error; err != nil {
		return false, plain(err)
	}
	var open int64
	if err := db.Model(&record.PasskeyChallenge{}).Count(&open).Error; err != nil || open >= mostChallenges {
		return false, plain(err)
	}
	return true, plain(db.Create(&c).Error)
}

// TakePasskeyChallenge returns what a browser was asked to sign, once; ErrNotFound where it is over or was taken.
func (s *Store) TakePasskeyChallenge(
	ctx context.Context,
	id uuid.UUID,
	now time.Time,
) (record.PasskeyChallenge, error) {
	var taken []record.PasskeyChallenge
	err := s.db.WithContext(ctx).Clauses(clause.Returning{}).Where("id = ? AND expires_at > ?", id, now).
		Delete(&taken).Error
	if err == nil && len(taken) == 0 {
		return record.PasskeyChallenge{}, ErrNotFound
	}
	if err != nil {
		return record.PasskeyChallenge{}, plain(err)
	}
	return taken[0], nil
}
