package store

import (
	"context"
	"errors"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// Remember keeps what a request led to, and forgets those of two days ago. It returns what an earlier request with
// the same key led to, if there was one.
func (s *Store) Remember(ctx context.Context, i record.Idempotency) (earlier *record.Idempotency, err error) {
	db := s.db.WithContext(ctx)
	if err := db.Where("created_at < ?", i.CreatedAt.Add(-rememberFor)).Delete(&record.Idempotency{}).Error; err != nil {
		return nil, plain(err)
	}
	// A second request waits here for the first one's transaction to end.
	result := db.Clauses(clause.OnConflict{DoNothing: true}).Create(&i)
	if result.Error != nil || result.RowsAffected == 1 {
		return nil, plain(result.Error)
	}
	return s.remembered(ctx, i.OperatorID, i.Key)
}

func (s *Store) remembered(ctx context.Context, operator uuid.UUID, key string) (*record.Idempotency, error) {
	var i record.Idempotency
	err := plain(s.db.WithContext(ctx).Where("operator_id = ? AND key = ?", operator, key).Take(&i).Error)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return &i, err
}
