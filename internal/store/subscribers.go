package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// AddSubscriber keeps a subscriber. A *TakenError tells that the name is taken.
func (s *Store) AddSubscriber(ctx context.Context, r record.Subscriber, secret record.Secret) error {
	if r.Encrypted = secret.Encrypted; r.Encrypted != nil {
		if err := s.underMark(ctx, secret); err != nil {
			return err
		}
	}
	return plain(s.db.WithContext(ctx).Omit("Waiting", "Dead", "Delivered", "LastAt", "LastError").Create(&r).Error)
}

// Subscribers returns all subscribers with how each does, by name.
func (s *Store) Subscribers(ctx context.Context) ([]record.Subscriber, error) {
	var out []record.Subscriber
	err := s.db.WithContext(ctx).Model(&record.Subscriber{}).Select(`subscribers.*,
		(SELECT count(*) FROM deliveries d WHERE d.subscriber_id = subscribers.id AND d.state = 'waiting') AS waiting,
		(SELECT count(*) FROM deliveries d WHERE d.subscriber_id = subscribers.id AND d.state = 'dead') AS dead,
		(SELECT count(*) FROM deliveries d WHERE d.subscriber_id = subscribers.id AND d.state = 'done') AS delivered,
		(SELECT max(ended_at) FROM deliveries d WHERE d.subscriber_id = subscribers.id AND d.state = 'done') AS last_at,
		coalesce((SELECT error FROM deliveries d WHERE d.subscriber_id = subscribers.id AND d.state <> 'done'
			AND d.error <> '' ORDER BY d.seq DESC LIMIT 1), '') AS last_error`).
		Order("name").Find(&out).Error
	return out, plain(err)
}

// ActiveSubscribers returns the subscribers that are not paused, by name.
func (s *Store) ActiveSubscribers(ctx context.Context) ([]record.Subscriber, error) {
	var out []record.Subscriber
	err := s.db.WithContext(ctx).Where("NOT paused").Order("name").Find(&out).Error
	return out, plain(err)
}

// SubscriberNamed returns the subscriber of that name.
func (s *Store) SubscriberNamed(ctx context.Context, name string) (record.Subscriber, error) {
	var r record.Subscriber
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&r).Error
	return r, plain(err)
}

// DeleteSubscriber forgets a subscriber and its deliveries.
func (s *Store) DeleteSubscriber(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&record.Subscriber{}).Error)
}

// PauseSubscriber pauses a subscriber or continues.
func (s *Store) PauseSubscriber(ctx context.Context, id uuid.UUID, pause bool) error {
	return plain(s.db.WithContext(ctx).Model(&record.Subscriber{}).Where("id = ?", id).Update("paused", pause).Error)
}

// deliveriesKept is for how long it is remembered that something was delivered.
const deliveriesKept = 30 * 24 * time.Hour
