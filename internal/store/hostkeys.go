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

// ReplaceHostKeys pins the host keys in the place of all that were. Those that go are kept as former ones.
// Raw where they move, since GORM copies no rows.
func (s *Store) ReplaceHostKeys(
	ctx context.Context, instance uuid.UUID, keys []record.HostKey, was record.FormerHostKey,
) error {
	stay := make([][]byte, len(keys))
	for n, k := range keys {
		stay[n] = k.SHA256
	}
	db := s.db.WithContext(ctx)
	err := db.Exec(`INSERT INTO former_host_keys (id, instance_id, algorithm, blob, sha256, learnt, pinned_at, replaced_at,
			replaced_by, reason)
		SELECT id, instance_id, algorithm, blob, sha256, learnt, pinned_at, ?, ?, ? FROM host_keys
		WHERE instance_id = ? AND sha256 NOT IN ?`, was.ReplacedAt, was.ReplacedBy, was.Reason, instance, stay).Error
	if err != nil {
		return plain(err)
	}
	err = db.Where("instance_id = ? AND sha256 NOT IN ?", instance, stay).Delete(&record.HostKey{}).Error
	if err != nil {
		return plain(err)
	}
	return s.PinHostKeys(ctx, keys)
}

// FormerHostKeys returns at most limit host keys that were pinned for an instance, the last replaced first.
func (s *Store) FormerHostKeys(
	ctx context.Context, instance uuid.UUID, limit int,
) (keys []record.FormerHostKey, err error) {
	err = s.db.WithContext(ctx).
		Where("instance_id = ?", instance).
		Order("replaced_at DESC, algorithm DESC").
		Limit(limit).
		Find(&keys).
		Error
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
	db := s.db.WithContext(ctx)
	const columns = "instance_id, sha256, blob, pinned_at"
	err = db.Table("(? UNION ALL ?) AS h",
		db.Table("host_keys h").Select(columns+", NULL::timestamptz AS replaced_at").Where(condition, value),
		db.Table("former_host_keys h").Select(columns+", replaced_at").Where(condition, value)).
		Select("i.name AS instance_name, i.gone_at, h.pinned_at, h.replaced_at").
		Joins("JOIN instances i ON i.id = h.instance_id").
		Order("i.name, h.pinned_at").
		Limit(limit).
		Scan(&out).
		Error
	return out, plain(err)
}
