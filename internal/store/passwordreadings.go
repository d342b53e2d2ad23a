package store

import (
	"context"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// NotePasswordReading records that somebody asked for a password or opened it.
func (s *Store) NotePasswordReading(ctx context.Context, r record.PasswordReading) error {
	return plain(s.db.WithContext(ctx).Create(&r).Error)
}

// PasswordReadings returns who asked for the password of an instance and who opened it,
// the last first.
func (s *Store) PasswordReadings(ctx context.Context, instance uuid.UUID) ([]record.PasswordReading, error) {
	var list []record.PasswordReading
	err := s.db.WithContext(ctx).Where("instance_id = ?", instance).Order("at DESC, id").Limit(100).Find(&list).Error
	return list, plain(err)
}
