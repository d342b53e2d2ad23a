package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// Queue keeps what a subscriber will be told of, and that the daybook was looked at up to the
// entry with the number.
func (s *Store) Queue(ctx context.Context, subscriber uuid.UUID, wanted []record.Delivery, upTo int64) error {
	return s.InTx(ctx, func(tx *Store) error {
		db := tx.db.WithContext(ctx)
		if len(wanted) > 0 {
			if err := db.Omit("Sentence").CreateInBatches(wanted, 500).Error; err != nil {
				return err
			}
			if err := db.Where(
				"subscriber_id = ? AND state = 'done' AND ended_at < ?", subscriber, wanted[0].DueAt.Add(-deliveriesKept),
			).Delete(&record.Delivery{}).Error; err != nil {
				return err
			}
		}
		return db.Model(&record.Subscriber{}).Where("id = ?", subscriber).Update("last_seq", upTo).Error
	})
}

// DueDeliveries returns what will be sent now, the oldest first.
func (s *Store) DueDeliveries(ctx context.Context, now time.Time, limit int) ([]record.Delivery, error) {
	var out []record.Delivery
	err := s.db.WithContext(ctx).
		Where("state = 'waiting' AND due_at <= ? AND subscriber_id IN (SELECT id FROM subscribers WHERE NOT paused)", now).
		Order("due_at, seq").
		Limit(limit).
		Find(&out).
		Error
	return out, plain(err)
}

// ChangeDelivery keeps what became of an attempt.
func (s *Store) ChangeDelivery(ctx context.Context, d record.Delivery) error {
	return plain(
		s.db.WithContext(ctx).Model(&d).Select("state", "attempts", "due_at", "error", "ended_at").Updates(&d).Error,
	)
}

// DeadDeliveries returns what could not be delivered to a subscriber, newest first.
func (s *Store) DeadDeliveries(ctx context.Context, subscriber uuid.UUID) ([]record.Delivery, error) {
	var out []record.Delivery
	err := s.db.WithContext(ctx).
		Model(&record.Delivery{}).
		Where("subscriber_id = ? AND state = 'dead'", subscriber).
		Order("seq DESC").
		Limit(500).
		Find(&out).
		Error
	return out, plain(err)
}

// ReviveDeliveries has what could not be delivered tried again.
func (s *Store) ReviveDeliveries(ctx context.Context, subscriber uuid.UUID, now time.Time) (int64, error) {
	r := s.db.WithContext(ctx).
		Model(&record.Delivery{}).
		Where("subscriber_id = ? AND state = 'dead'", subscriber).
		Updates(map[string]any{"state": record.DeliveryWaiting, "attempts": 0, "due_at": now, "ended_at": nil})
	return r.RowsAffected, plain(r.Error)
}
