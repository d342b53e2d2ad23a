package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// AddHandover keeps that a key is to have another holder. A *TakenError tells that it is to already.
func (s *Store) AddHandover(ctx context.Context, h record.Handover) error {
	return plain(s.db.WithContext(ctx).Omit("KeyName", "FromName", "ToName").Create(&h).Error)
}

// Handovers returns those that wait for a proof, the oldest first; of one key if one is given.
func (s *Store) Handovers(ctx context.Context, key *uuid.UUID) ([]record.Handover, error) {
	q := s.db.WithContext(ctx).
		Model(&record.Handover{}).
		Select("handovers.*, k.name AS key_name, coalesce(f.name, '') AS from_name, t.name AS to_name").
		Joins("JOIN keys k ON k.id = handovers.key_id").
		Joins("LEFT JOIN holders f ON f.id = handovers.from_holder").
		Joins("JOIN holders t ON t.id = handovers.to_holder").
		Where("handovers.ended_at IS NULL")
	if key != nil {
		q = q.Where("handovers.key_id = ?", *key)
	}
	var out []record.Handover
	err := q.Order("handovers.asked_at, handovers.id").Find(&out).Error
	return out, plain(err)
}

// EndHandover ends the one of the key that waits; false if none does.
func (s *Store) EndHandover(ctx context.Context, id uuid.UUID, outcome string, at time.Time) (bool, error) {
	r := s.db.WithContext(ctx).
		Model(&record.Handover{}).
		Where("id = ? AND ended_at IS NULL", id).
		Updates(map[string]any{"ended_at": at, "outcome": outcome})
	return r.RowsAffected == 1, plain(r.Error)
}
