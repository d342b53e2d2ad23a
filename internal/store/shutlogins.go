package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// ShutLogins returns the logins that were noted as shut.
func (s *Store) ShutLogins(ctx context.Context) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).Table("shut_logins").Pluck("login_id", &ids).Error
	out := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, plain(err)
}

// SetShut records which logins have become shut, and which no longer are.
func (s *Store) SetShut(ctx context.Context, came, went []uuid.UUID, at time.Time) error {
	db := s.db.WithContext(ctx)
	if len(came) > 0 {
		rows := make([]map[string]any, len(came))
		for i, id := range came {
			rows[i] = map[string]any{"login_id": id, "since": at}
		}
		if err := db.Table("shut_logins").CreateInBatches(rows, 500).Error; err != nil {
			return plain(err)
		}
	}
	if len(went) == 0 {
		return nil
	}
	return plain(db.Table("shut_logins").Where("login_id IN ?", went).Delete(nil).Error)
}
