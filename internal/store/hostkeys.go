package store

import (
	"context"
	"encoding/hex"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// PinHostKeys keeps the host keys of an instance that are not pinned yet.
func (s *Store) PinHostKeys(ctx context.Context, keys []record.HostKey) error {
	if len(keys) == 0 {
		return nil
	}
	one := clause.OnConflict{Columns: []clause.Column{{Name: "instance_id"}, {Name: "algorithm"}}, DoNothing: true}
	return plain(s.db.WithContext(ctx).Clauses(one).Create(&keys).Error)
}

// HostKeys returns the pinned host keys of an instance.
func (s *Store) HostKeys(ctx context.Context, instance uuid.UUID) ([]record.HostKey, error) {
	var keys []record.HostKey
	err := s.db.WithContext(ctx).Where("instance_id = ?", instance).Order("algorithm DESC").Find(&keys).Error
	return keys, plain(err)
}

// HostKeysWith returns at most limit instances that have or had a pinned host key with the digest, of the kind
// sha256 or md5.
func (s *Store) HostKeysWith(ctx context.Context, kind string, sum []byte, limit int) (
	out []record.HostKeyOf, err error,
) {
	condition, value := "h.sha256 = ?", any(sum)
	if kind == "md5" {
		condition, value = "md5(h.blob) = ?", hex.EncodeToString(sum)
	}
	err = s.db.WithContext(ctx).
		Table("host_keys h").
		Select("i.name AS instance_name, i.gone_at, h.pinned_at").
		Joins("JOIN instances i ON i.id = h.instance_id").
		Where(condition, value).
		Order("i.name, h.pinned_at").
		Limit(limit).
		Scan(&out).
		Error
	return out, plain(err)
}
