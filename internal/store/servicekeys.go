package store

import (
	"context"
	"time"
)

// ServiceKey is a key pair of the service's own, the private half sealed by the safe.
type ServiceKey struct {
	Name   string
	Blob   []byte
	Sealed []byte
	MadeAt time.Time
}

// ServiceKey returns the service's own key of the name.
func (s *Store) ServiceKey(ctx context.Context, name string) (ServiceKey, error) {
	var k ServiceKey
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&k).Error
	return k, plain(err)
}

// AddServiceKey keeps a key of the service's own; the first one of a name stays.
func (s *Store) AddServiceKey(ctx context.Context, k ServiceKey, private Secret) error {
	k.Sealed = private.Sealed
	return s.InTx(ctx, func(tx *Store) error {
		if err := tx.underMark(ctx, private); err != nil {
			return err
		}
		return plain(tx.db.WithContext(ctx).Create(&k).Error)
	})
}
