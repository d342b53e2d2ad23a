package store

import (
	"context"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// PinHostKeys keeps the host keys of an instance that are not pinned yet.
func (s *Store) PinHostKeys(ctx context.Context, keys []record.HostKey) error {
	for _, k := range keys {
		err := s.db.WithContext(ctx).Exec(`INSERT INTO host_keys (id, instance_id, algorithm, blob, sha256, learnt, pinned_at)
			VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (instance_id, algorithm) DO NOTHING`,
			k.ID, k.InstanceID, k.Algorithm, k.Blob, k.SHA256, k.Learnt, k.PinnedAt).Error
		if err != nil {
			return plain(err)
		}
	}
	return nil
}

// HostKeys returns the pinned host keys of an instance.
func (s *Store) HostKeys(ctx context.Context, instance uuid.UUID) ([]record.HostKey, error) {
	var keys []record.HostKey
	err := s.db.WithContext(ctx).Where("instance_id = ?", instance).Order("algorithm DESC").Find(&keys).Error
	return keys, plain(err)
}

// InstancesWithHostKey returns the instances that are there and have a pinned
// host key with the SHA-256 digest.
func (s *Store) InstancesWithHostKey(ctx context.Context, digest []byte) ([]record.Instance, error) {
	var instances []record.Instance
	err := s.db.WithContext(ctx).
		Where("gone_at IS NULL AND id IN (SELECT instance_id FROM host_keys WHERE sha256 = ?)", digest).
		Order("name").
		Find(&instances).
		Error
	return instances, plain(err)
}
