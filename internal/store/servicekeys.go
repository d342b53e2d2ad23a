package store

import (
	"context"

	"plumlatch/internal/record"
)

// ServiceKey returns the service's own key of the name.
func (s *Store) ServiceKey(ctx context.Context, name string) (record.ServiceKey, error) {
	var k record.ServiceKey
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&k).Error
	return k, plain(err)
}

// AddServiceKey keeps a key of the service's own; the first one of a name stays.
func (s *Store) AddServiceKey(ctx context.Context, k record.ServiceKey, private record.Secret) error {
	k.Encrypted = private.Encrypted
	return s.InTx(ctx, func(tx *Store) error {
		if err := tx.underMark(ctx, private); err != nil {
			return err
		}
		return plain(tx.db.WithContext(ctx).Create(&k).Error)
	})
}
