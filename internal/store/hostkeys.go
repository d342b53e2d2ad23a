package store

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// PinHostKeys keeps the host keys of an instance that are not pinned yet.
func (s *Store) PinHostKeys(ctx context.Context, keys []record.HostKey) error {
	if len(keys) == 0 {
		return nil
	}
	one := clause.OnConflict{Columns: []clause.Column{{Name: "instance_id"}, {Name: "algorithm"}}, DoNothing: true}
	return plain(s.db.WithContext(ctx).Clauses(one).Create(&keys).Error)
}

// HostKeys returns the pinned host keys of an instance.
func (s *Store) HostKeys(ctx context.Context, instance uuid.UUID) ([]record.HostKey, error) {
	var keys []record.HostKey
	err := s.db.WithContext(ctx).Where("instance_id = ?", instance).Order("algorithm DESC").Find(&keys).Error
	return keys, plain(err)
}
