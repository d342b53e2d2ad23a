package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// AddRotationRule keeps a new rotation rule.
func (s *Store) AddRotationRule(ctx context.Context, r record.RotationRule) error {
	return plain(s.db.WithContext(ctx).Create(&r).Error)
}

// RotationRules returns all rotation rules by name.
func (s *Store) RotationRules(ctx context.Context) ([]record.RotationRule, error) {
	var rules []record.RotationRule
	err := s.db.WithContext(ctx).Order("name").Find(&rules).Error
	return rules, plain(err)
}

// LockRotationRule returns a rule and keeps others from changing it until the
// transaction ends.
func (s *Store) LockRotationRule(ctx context.Context, name string) (record.RotationRule, error) {
	var r record.RotationRule
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", name).Take(&r).Error
	return r, plain(err)
}

// ChangeRotationRule changes a rule.
func (s *Store) ChangeRotationRule(ctx context.Context, id uuid.UUID, c record.RuleChange) error {
	return plain(s.db.WithContext(ctx).Model(&record.RotationRule{}).Where("id = ?", id).Updates(&c).Error)
}

// NoteRuleBegun notes that a rule began a rotation.
func (s *Store) NoteRuleBegun(ctx context.Context, rule string, rotation uuid.UUID, at time.Time) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.RotationRule{}).
			Where("name = ?", rule).
			Updates(map[string]any{"begun_at": at, "last_rotation": rotation}).
			Error,
	)
}

// DeleteRotationRule ends a rule.
func (s *Store) DeleteRotationRule(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&record.RotationRule{}).Error)
}

// RuleRotating reports whether a rotation that the rule began has not ended.
func (s *Store) RuleRotating(ctx context.Context, rule string) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).
		Model(&record.Rotation{}).
		Where("rule = ? AND ended_at IS NULL", rule).
		Limit(1).
		Count(&n).
		Error
	return n > 0, plain(err)
}
