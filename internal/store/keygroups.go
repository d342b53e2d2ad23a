package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/record"
)

// openedByGroups joins group_keys k with the recorded logins l, of instances i, that they open.
const openedByGroups = `JOIN key_groups g ON g.id = k.group_key
	JOIN cloud_instances c ON c.cloud = g.cloud AND c.gone_at IS NULL AND c.takes_group_keys
		AND c.key_groups @> jsonb_build_array(g.group_id)
	JOIN instances i ON i.in_cloud = c.cloud AND i.cloud_id = c.cloud_id AND i.cloud_id <> '' AND i.gone_at IS NULL
	JOIN logins l ON l.instance_id = i.id AND l.os_user = k.os_user`

// PutKeyGroups keeps the groups of a cloud and their keys, in the place of all that were. GORM's own statements for
// each, since a cloud has few.
func (s *Store) PutKeyGroups(ctx context.Context, cloud uuid.UUID, groups []record.KeyGroup) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("cloud = ?", cloud).Delete(&record.KeyGroup{}).Error; err != nil {
		return plain(err)
	}
	var keys []record.GroupKey
	for n := range groups {
		groups[n].ID, groups[n].Cloud = NewID(), cloud
		for _, k := range groups[n].Keys {
			k.GroupKey = groups[n].ID
			keys = append(keys, k)
		}
	}
	if len(groups) == 0 {
		return nil
	}
	if err := db.CreateInBatches(&groups, 500).Error; err != nil || len(keys) == 0 {
		return plain(err)
	}
	return plain(db.CreateInBatches(&keys, 500).Error)
}

// KeyGroups returns the groups of a cloud with their keys, by kind and name, and how many recorded instances take them.
func (s *Store) KeyGroups(ctx context.Context, cloud uuid.UUID) (groups []record.KeyGroup, err error) {
	db := s.db.WithContext(ctx)
	const in = `(SELECT count(*) FROM cloud_instances c
		JOIN instances i ON i.in_cloud = c.cloud AND i.cloud_id = c.cloud_id AND i.cloud_id <> '' AND i.gone_at IS NULL
		WHERE c.cloud = key_groups.cloud AND c.gone_at IS NULL
		AND c.key_groups @> jsonb_build_array(key_groups.group_id) AND `
	err = db.Model(&record.KeyGroup{}).
		Select("key_groups.*, "+in+"c.takes_group_keys) AS taking, "+in+"NOT c.takes_group_keys) AS refusing").
		Where("cloud = ?", cloud).
		Order("array_position(ARRAY['project', 'zone', 'group'], kind), name").
		Find(&groups).
		Error
	if err != nil || len(groups) == 0 {
		return groups, plain(err)
	}
	at := map[uuid.UUID]int{}
	var ids []uuid.UUID
	for n, g := range groups {
		at[g.ID] = n
		ids = append(ids, g.ID)
	}
	var keys []record.GroupKey
	err = db.Table("group_keys").
		Select("group_keys.*, coalesce(n.name, '') AS key_name").
		Joins("LEFT JOIN keys n ON n.sha256 = group_keys.sha256").
		Where("group_key IN ?", ids).
		Order("os_user, key_name, comment").
		Scan(&keys).
		Error
	for _, k := range keys {
		g := &groups[at[k.GroupKey]]
		g.Keys = append(g.Keys, k)
	}
	return groups, plain(err)
}

// GroupWays returns the ways into logins by keys that clouds hand to groups, by login.
func (s *Store) GroupWays(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID][]reading.Way, error) {
	out := map[uuid.UUID][]reading.Way{}
	if len(logins) == 0 {
		return out, nil
	}
	rows, err := s.groupWays(ctx, 0, "l.id IN ?", logins)
	for _, r := range rows {
		out[r.LoginID] = append(out[r.LoginID], r.Way())
	}
	return out, err
}

// LoginsOfGroupKey returns at most limit logins that are opened by a key that a cloud hands to a group.
func (s *Store) LoginsOfGroupKey(ctx context.Context, sha256 []byte, limit int) ([]record.GroupWay, error) {
	return s.groupWays(ctx, limit, "k.sha256 = ?", sha256)
}

// InGroup returns the logins that a group's keys of a user open, or would.
func (s *Store) InGroup(
	ctx context.Context, cloud uuid.UUID, group, user string,
) (ids []uuid.UUID, err error) {
	err = s.db.WithContext(ctx).
		Table("cloud_instances c").
		Joins(`JOIN instances i ON i.in_cloud = c.cloud AND i.cloud_id = c.cloud_id AND i.cloud_id <> ''
			AND i.gone_at IS NULL`).
		Joins("JOIN logins l ON l.instance_id = i.id AND l.os_user = ?", user).
		Where("c.cloud = ? AND c.gone_at IS NULL AND c.takes_group_keys", cloud).
		Where("c.key_groups @> jsonb_build_array(CAST(? AS text))", group).
		Pluck("l.id", &ids).
		Error
	return ids, plain(err)
}

func (s *Store) groupWays(
	ctx context.Context, limit int, where string, args ...any,
) (rows []record.GroupWay, err error) {
	q := s.db.WithContext(ctx).
		Table("group_keys k").
		Select(`DISTINCT i.name, l.os_user, l.os_user || '@' || i.name AS login, l.id AS login_id, k.sha256, k.comment,
			coalesce(n.name, '') AS key_name,
			o.name AS cloud_name, g.group_id, g.name AS group_name, g.kind`).
		Joins(openedByGroups).
		Joins("JOIN clouds o ON o.id = g.cloud").
		Joins("LEFT JOIN keys n ON n.sha256 = k.sha256").
		Where(where, args...).
		Order("i.name, l.os_user, o.name, g.group_id, k.sha256")
	if limit > 0 {
		q = q.Limit(limit)
	}
	return rows, plain(q.Scan(&rows).Error)
}

// GroupKeysOf returns the digests of the keys of groups that open logins, by login.
func (s *Store) GroupKeysOf(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID][][]byte, error) {
	out := map[uuid.UUID][][]byte{}
	if len(logins) == 0 {
		return out, nil
	}
	rows, err := s.groupWays(ctx, 0, "l.id IN ?", logins)
	for _, r := range rows {
		out[r.LoginID] = append(out[r.LoginID], r.SHA256)
	}
	return out, err
}

// LabelWorth is what the name of a key beside instances of a cloud is worth.
type LabelWorth struct{ Launched, Opens, Untrue int }

// LabelsWorth returns, for each name of a key with the id of its record, how many instances of the cloud show the name,
// and how many of their login users' logins the key opens, and does not, as they were last read. Raw, since GORM
// selects from no lists.
func (s *Store) LabelsWorth(
	ctx context.Context, cloud uuid.UUID, names []string, keys []uuid.UUID,
) ([]LabelWorth, error) {
	out := make([]LabelWorth, len(names))
	ids := make([][16]byte, len(keys))
	for n, k := range keys {
		ids[n] = k
	}
	rows, err := s.db.Statement.ConnPool.QueryContext(ctx, `SELECT n.place, count(*),
			count(*) FILTER (WHERE s.present), count(*) FILTER (WHERE l.swept_at IS NOT NULL AND s.present IS NOT TRUE
				AND n.key <> '00000000-0000-0000-0000-000000000000')
		FROM unnest($2::text[], $3::uuid[]) WITH ORDINALITY AS n (name, key, place)
		JOIN cloud_instances c ON c.cloud = $1 AND c.gone_at IS NULL AND c.key_label = n.name
		LEFT JOIN instances i ON i.in_cloud = c.cloud AND i.cloud_id = c.cloud_id AND i.cloud_id <> '' AND i.gone_at IS NULL
		LEFT JOIN logins l ON l.instance_id = i.id AND l.os_user = i.login_user
		LEFT JOIN sightings s ON s.login_id = l.id AND s.key_id = n.key
		GROUP BY n.place`, [16]byte(cloud), names, ids)
	if err != nil {
		return nil, plain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var place int
		var w LabelWorth
		if err := rows.Scan(&place, &w.Launched, &w.Opens, &w.Untrue); err != nil {
			return nil, plain(err)
		}
		out[place-1] = w
	}
	return out, plain(rows.Err())
}

// SetTakesGroupKeys notes whether an instance takes the keys of its groups.
func (s *Store) SetTakesGroupKeys(ctx context.Context, cloud uuid.UUID, cloudID string, taken bool) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.CloudInstance{}).
			Where("cloud = ? AND cloud_id = ?", cloud, cloudID).
			Update("takes_group_keys", taken).
			Error,
	)
}

// ruleFor is the rule that counts for what runs in a cloud: one for that cloud before one for all, and one that leaves
// it alone before one that records it.
const ruleFor = `(SELECT r.leave_alone FROM public.record_rules r
	WHERE (r.cloud IS NULL OR r.cloud = cloud_instances.cloud)
		AND cloud_instances.labels @> jsonb_build_object(r.label_name, r.label_text)
	ORDER BY r.cloud IS NULL, r.leave_alone DESC LIMIT 1)`

// ToRecord returns the ids of what runs in a cloud, is not recorded, and is recorded by a rule.
func (s *Store) ToRecord(ctx context.Context, cloud uuid.UUID) (ids []string, err error) {
	err = s.db.WithContext(ctx).
		Model(&record.CloudInstance{}).
		Joins(recordedAs).
		Where("cloud_instances.cloud = ? AND cloud_instances.gone_at IS NULL AND i.id IS NULL", cloud).
		Where("cloud_instances.state = 'running' AND "+notOurs+" AND NOT "+ruleFor).
		Order("cloud_instances.cloud_id").
		Pluck("cloud_instances.cloud_id", &ids).
		Error
	return ids, plain(err)
}

// ForgetAlone forgets instances of a cloud that were left alone and that are gone since before a time.
func (s *Store) ForgetAlone(ctx context.Context, cloud uuid.UUID, before time.Time) error {
	return plain(
		s.db.WithContext(ctx).
			Where("cloud = ? AND gone_at < ? AND "+ruleFor, cloud, before).
			Where(`NOT EXISTS (SELECT 1 FROM public.instances i WHERE i.in_cloud = cloud_instances.cloud
				AND i.cloud_id = cloud_instances.cloud_id)`).
			Delete(&record.CloudInstance{}).
			Error,
	)
}

// AddRecordRule keeps a rule, in the place of one for the same label in the same clouds.
func (s *Store) AddRecordRule(ctx context.Context, r record.RecordRule) error {
	db := s.db.WithContext(ctx)
	err := db.
		Where("label_name = ? AND label_text = ?", r.LabelName, r.LabelText).
		Where("cloud IS NOT DISTINCT FROM ?", r.Cloud).
		Delete(&record.RecordRule{}).
		Error
	if err != nil {
		return plain(err)
	}
	return plain(db.Create(&r).Error)
}

// RecordRules returns all rules by their labels.
func (s *Store) RecordRules(ctx context.Context) (out []record.RecordRule, err error) {
	err = s.recordRules(ctx).Order("label_name, label_text, cloud_name").Find(&out).Error
	return out, plain(err)
}

func (s *Store) recordRules(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).
		Model(&record.RecordRule{}).
		Select("record_rules.*, coalesce((SELECT c.name FROM clouds c WHERE c.id = record_rules.cloud), '') AS cloud_name")
}

// RecordRule returns a rule.
func (s *Store) RecordRule(ctx context.Context, id uuid.UUID) (r record.RecordRule, err error) {
	err = s.recordRules(ctx).Where("record_rules.id = ?", id).Take(&r).Error
	return r, plain(err)
}

// DeleteRecordRule ends a rule.
func (s *Store) DeleteRecordRule(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&record.RecordRule{}).Error)
}
