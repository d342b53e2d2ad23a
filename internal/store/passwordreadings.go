package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// PasswordReading is that somebody asked for an administrator's password, or opened it.
type PasswordReading struct {
	ID         uuid.UUID
	InstanceID uuid.UUID
	Person     string
	What       string // asked or opened
	At         time.Time
}

// NotePasswordReading records that somebody asked for a password or opened it.
func (s *Store) NotePasswordReading(ctx context.Context, r PasswordReading) error {
	return plain(s.db.WithContext(ctx).Create(&r).Error)
}

// PasswordReadings returns who asked for the password of an instance and who opened it,
// the last first.
func (s *Store) PasswordReadings(ctx context.Context, instance uuid.UUID) ([]PasswordReading, error) {
	var list []PasswordReading
	err := s.db.WithContext(ctx).Where("instance_id = ?", instance).Order("at DESC, id").Limit(100).Find(&list).Error
	return list, plain(err)
}
