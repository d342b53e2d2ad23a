package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// AddAskedKeys keeps requests for new public halves.
func (s *Store) AddAskedKeys(ctx context.Context, asked []AskedKey) error {
	if len(asked) == 0 {
		return nil
	}
	return plain(s.db.WithContext(ctx).CreateInBatches(asked, 500).Error)
}

func (s *Store) askedKeys(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).
		Table("asked_keys a").
		Joins("JOIN rotations r ON r.id = a.rotation_id AND r.ended_at IS NULL JOIN keepers o ON o.id = a.keeper_id").
		Where("a.brought_at IS NULL").
		Select(`a.*, o.name AS keeper_name, o.kind AS keeper_kind, r.requested_by, r.reason,
			(SELECT count(DISTINCT t.login_id) FROM rotation_items t WHERE t.rotation_id = a.rotation_id
				AND t.new_name = a.name AND t.state = 'asked') AS logins`)
}

// AskedKeys returns the requests that are open, the oldest first. keeper "" means all.
func (s *Store) AskedKeys(ctx context.Context, keeper string) ([]AskedKey, error) {
	q := s.askedKeys(ctx)
	if keeper != "" {
		q = q.Where("o.name = ?", keeper)
	}
	var asked []AskedKey
	if err := q.Order("a.created_at, a.name").Scan(&asked).Error; err != nil {
		return nil, plain(err)
	}
	live := asked[:0]
	for _, a := range asked {
		if a.Logins > 0 { // those of logins that were left out meanwhile wait for nothing
			live = append(live, a)
		}
	}
	return live, nil
}

// AskedKeyByID returns a request that is open.
func (s *Store) AskedKeyByID(ctx context.Context, id uuid.UUID) (AskedKey, error) {
	var a []AskedKey
	err := s.askedKeys(ctx).Where("a.id = ?", id).Scan(&a).Error
	if err == nil && len(a) == 0 {
		return AskedKey{}, ErrNotFound
	}
	if err != nil {
		return AskedKey{}, plain(err)
	}
	return a[0], nil
}

// BringKey ends a request with the key that was brought; what waited for it may begin.
// false means that another was faster.
func (s *Store) BringKey(ctx context.Context, a AskedKey, key Key, at time.Time) (bool, error) {
	db := s.db.WithContext(ctx)
	done := db.Model(&AskedKey{}).Where("id = ? AND brought_at IS NULL", a.ID).Update("brought_at", at)
	if done.Error != nil || done.RowsAffected == 0 {
		return false, plain(done.Error)
	}
	return true, plain(
		db.Model(&RotationItem{}).Where("rotation_id = ? AND new_name = ? AND state = 'asked'", a.RotationID, a.Name).
			Updates(map[string]any{"state": "waiting", "new_key_id": key.ID, "new_name": key.Name}).Error,
	)
}

// AddRotationRule keeps a new standing rule.
func (s *Store) AddRotationRule(ctx context.Context, r RotationRule) error {
	return plain(s.db.WithContext(ctx).Create(&r).Error)
}

// RotationRules returns all standing rules by name.
func (s *Store) RotationRules(ctx context.Context) ([]RotationRule, error) {
	var rules []RotationRule
	err := s.db.WithContext(ctx).Order("name").Find(&rules).Error
	return rules, plain(err)
}

// LockRotationRule returns a rule and keeps others from changing it until the
// transaction ends.
func (s *Store) LockRotationRule(ctx context.Context, name string) (RotationRule, error) {
	var r RotationRule
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", name).Take(&r).Error
	return r, plain(err)
}

// ChangeRotationRule sets columns of a rule.
func (s *Store) ChangeRotationRule(ctx context.Context, id uuid.UUID, columns map[string]any) error {
	return plain(s.db.WithContext(ctx).Model(&RotationRule{}).Where("id = ?", id).Updates(columns).Error)
}

// NoteRuleBegun notes that a rule began a rotation.
func (s *Store) NoteRuleBegun(ctx context.Context, rule string, rotation uuid.UUID, at time.Time) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&RotationRule{}).
			Where("name = ?", rule).
			Updates(map[string]any{"begun_at": at, "last_rotation": rotation}).
			Error,
	)
}

// DeleteRotationRule ends a rule.
func (s *Store) DeleteRotationRule(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&RotationRule{}).Error)
}

// RuleRotating reports whether a rotation that the rule began has not ended.
func (s *Store) RuleRotating(ctx context.Context, rule string) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Rotation{}).Where("rule = ? AND ended_at IS NULL", rule).Limit(1).Count(&n).Error
	return n > 0, plain(err)
}

// RotatingLines returns the logins and old keys that rotations are at work on.
func (s *Store) RotatingLines(ctx context.Context) (map[[2]uuid.UUID]bool, error) {
	var rows []struct{ LoginID, OldKeyID uuid.UUID }
	err := s.db.WithContext(ctx).
		Raw("SELECT t.login_id, t.old_key_id FROM rotation_items t JOIN rotations r ON r.id = t.rotation_id AND r.ended_at " +
			"IS NULL WHERE t.ended_at IS NULL AND t.old_key_id IS NOT NULL").
		Scan(&rows).
		Error
	lines := map[[2]uuid.UUID]bool{}
	for _, r := range rows {
		lines[[2]uuid.UUID{r.LoginID, r.OldKeyID}] = true
	}
	return lines, plain(err)
}

// RotatingTimes returns the median time in seconds that the steps of the last
// rotations took, on each instance and on all; 0 for all where there was none.
func (s *Store) RotatingTimes(ctx context.Context) (of map[uuid.UUID]float64, all float64, err error) {
	const recent = `WITH recent AS (SELECT r.id, r.instance_id FROM runs r WHERE r.kind = 'rotate'
		AND r.state = 'done' AND coalesce(r.payload ->> 'worker', r.facts ->> 'worker', '') = ''
			AND coalesce(r.payload ->> 'phase', r.facts ->> 'phase') IN ('in', 'whole') ORDER BY r.ended_at DESC LIMIT 1000),
		took AS (SELECT c.instance_id, extract(epoch FROM max(p.ended_at) - min(p.started_at)) AS seconds FROM recent c
			JOIN run_steps p ON p.run_id = c.id GROUP BY c.id, c.instance_id)
		SELECT instance_id, percentile_cont(0.5) WITHIN GROUP (ORDER BY seconds) AS seconds FROM took
			GROUP BY GROUPING SETS ((instance_id), ())`
	var rows []struct {
		InstanceID *uuid.UUID
		Seconds    *float64
	}
	if err := s.db.WithContext(ctx).Raw(recent).Scan(&rows).Error; err != nil {
		return nil, 0, plain(err)
	}
	of = map[uuid.UUID]float64{}
	for _, r := range rows {
		switch {
		case r.Seconds == nil:
		case r.InstanceID == nil:
			all = *r.Seconds
		default:
			of[*r.InstanceID] = *r.Seconds
		}
	}
	return of, all, nil
}

// ReportedItem is an item of a rotation with the proofs before and after.
type ReportedItem struct {
	RotationItem
	OldSHA256         []byte `gorm:"column:old_sha256"`
	NewSHA256         []byte `gorm:"column:new_sha256"`
	BeforeAt, AfterAt *time.Time
	BeforePerson      string
	AfterPerson       string
	CloudID           string
}

// ReportedItems returns all items of a rotation in the order of its plan.
func (s *Store) ReportedItems(ctx context.Context, rotation uuid.UUID) ([]ReportedItem, error) {
	var items []ReportedItem
	err := s.db.WithContext(ctx).
		Raw(`SELECT t.*, l.os_user, i.name AS instance_name, i.cloud_id, ok.sha256 AS old_sha256, nk.sha256 AS new_sha256,
			pb.at AS before_at, coalesce(pb.person, '') AS before_person, pa.at AS after_at, coalesce(pa.person,
				'') AS after_person
		FROM rotation_items t JOIN rotations r ON r.id = t.rotation_id JOIN logins l ON l.id = t.login_id
			JOIN instances i ON i.id = l.instance_id
		LEFT JOIN keys ok ON ok.id = t.old_key_id LEFT JOIN keys nk ON nk.id = t.new_key_id
		LEFT JOIN LATERAL (SELECT at, person FROM proofs WHERE kind = 'entry' AND login_id = t.login_id
			AND key_id = t.old_key_id AND at <= r.created_at ORDER BY at DESC LIMIT 1) pb ON true
		LEFT JOIN LATERAL (SELECT at, person FROM proofs WHERE kind = 'entry' AND login_id = t.login_id
			AND key_id = t.new_key_id AND at >= r.created_at ORDER BY at DESC LIMIT 1) pa ON true
		WHERE t.rotation_id = ? ORDER BY t.seq`, rotation).
		Scan(&items).
		Error
	return items, plain(err)
}

// KeyStand is a login in which a key was seen at the last look.
type KeyStand struct {
	KeyName, InstanceName string
	OSUser                string `gorm:"column:os_user"`
	SeenAt                time.Time
}

// StandsOf returns the logins of instances that are there in which the keys stand.
func (s *Store) StandsOf(ctx context.Context, keys []uuid.UUID) ([]KeyStand, error) {
	var stands []KeyStand
	err := s.db.WithContext(ctx).
		Raw(`SELECT k.name AS key_name, i.name AS instance_name, l.os_user, s.seen_at FROM sightings s
			JOIN keys k ON k.id = s.key_id JOIN logins l ON l.id = s.login_id
		JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL WHERE s.present AND s.key_id IN ?
			ORDER BY k.name, i.name, l.os_user`, keys).
		Scan(&stands).
		Error
	return stands, plain(err)
}
