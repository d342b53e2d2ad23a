package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// AddReceiver keeps a receiver. A *TakenError tells that the name is taken.
func (s *Store) AddReceiver(ctx context.Context, r record.Receiver, secret record.Secret) error {
	if r.Sealed = secret.Sealed; r.Sealed != nil {
		if err := s.underMark(ctx, secret); err != nil {
			return err
		}
	}
	return plain(s.db.WithContext(ctx).Omit("Waiting", "Dead", "Delivered", "LastAt", "LastError").Create(&r).Error)
}

// Receivers returns all receivers with how each does, by name.
func (s *Store) Receivers(ctx context.Context) ([]record.Receiver, error) {
	var out []record.Receiver
	err := s.db.WithContext(ctx).Model(&record.Receiver{}).Select(`receivers.*,
		(SELECT count(*) FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state = 'waiting') AS waiting,
		(SELECT count(*) FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state = 'dead') AS dead,
		(SELECT count(*) FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state = 'done') AS delivered,
		(SELECT max(ended_at) FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state = 'done') AS last_at,
		coalesce((SELECT error FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state <> 'done'
			AND d.error <> '' ORDER BY d.seq DESC LIMIT 1), '') AS last_error`).
		Order("name").Find(&out).Error
	return out, plain(err)
}

// ActiveReceivers returns the receivers that are not paused, by name.
func (s *Store) ActiveReceivers(ctx context.Context) ([]record.Receiver, error) {
	var out []record.Receiver
	err := s.db.WithContext(ctx).Where("NOT paused").Order("name").Find(&out).Error
	return out, plain(err)
}

// ReceiverNamed returns the receiver of that name.
func (s *Store) ReceiverNamed(ctx context.Context, name string) (record.Receiver, error) {
	var r record.Receiver
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&r).Error
	return r, plain(err)
}

// DeleteReceiver forgets a receiver and its deliveries.
func (s *Store) DeleteReceiver(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&record.Receiver{}).Error)
}

// PauseReceiver pauses a receiver or goes on.
func (s *Store) PauseReceiver(ctx context.Context, id uuid.UUID, pause bool) error {
	return plain(s.db.WithContext(ctx).Model(&record.Receiver{}).Where("id = ?", id).Update("paused", pause).Error)
}

// deliveriesKept is for how long it is remembered that something was delivered.
const deliveriesKept = 30 * 24 * time.Hour
