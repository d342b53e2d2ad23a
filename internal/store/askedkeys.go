package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/record"
)

// AddAskedKeys keeps requests for new public keys.
func (s *Store) AddAskedKeys(ctx context.Context, asked []record.AskedKey) error {
	if len(asked) == 0 {
		return nil
	}
	return plain(s.db.WithContext(ctx).CreateInBatches(asked, 500).Error)
}

func (s *Store) askedKeys(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).
		Table("asked_keys a").
		Joins("JOIN rotations r ON r.id = a.rotation_id AND r.ended_at IS NULL JOIN holders o ON o.id = a.holder_id").
		Where("a.brought_at IS NULL").
		Select(`a.*, o.name AS holder_name, o.kind AS holder_kind, r.requested_by, r.reason,
			(SELECT count(DISTINCT t.login_id) FROM rotation_items t WHERE t.rotation_id = a.rotation_id
				AND t.new_name = a.name AND t.state = 'asked') AS logins`)
}

// AskedKeys returns the requests that are open, the oldest first. holder "" means all.
func (s *Store) AskedKeys(ctx context.Context, holder string) ([]record.AskedKey, error) {
	q := s.askedKeys(ctx)
	if holder != "" {
		q = q.Where("o.name = ?", holder)
	}
	var asked []record.AskedKey
	if err := q.Order("a.created_at, a.name").Scan(&asked).Error; err != nil {
		return nil, plain(err)
	}
	live := asked[:0]
	for _, a := range asked {
		if a.Logins > 0 { // those of logins that were left out meanwhile wait for nothing
			live = append(live, a)
		}
	}
	return live, nil
}

// AskedKeyByID returns a request that is open.
func (s *Store) AskedKeyByID(ctx context.Context, id uuid.UUID) (record.AskedKey, error) {
	var a []record.AskedKey
	err := s.askedKeys(ctx).Where("a.id = ?", id).Scan(&a).Error
	if err == nil && len(a) == 0 {
		return record.AskedKey{}, ErrNotFound
	}
	if err != nil {
		return record.AskedKey{}, plain(err)
	}
	return a[0], nil
}

// BringKey ends a request with the key that was brought; what waited for it may begin.
// false means that another was faster.
func (s *Store) BringKey(ctx context.Context, a record.AskedKey, key record.Key, at time.Time) (bool, error) {
	db := s.db.WithContext(ctx)
	done := db.Model(&record.AskedKey{}).Where("id = ? AND brought_at IS NULL", a.ID).Update("brought_at", at)
	if done.Error != nil || done.RowsAffected == 0 {
		return false, plain(done.Error)
	}
	return true, plain(
		db.Model(&record.RotationItem{}).Where("rotation_id = ? AND new_name = ? AND state = 'asked'", a.RotationID, a.Name).
			Updates(map[string]any{"state": "waiting", "new_key_id": key.ID, "new_name": key.Name}).Error,
	)
}
