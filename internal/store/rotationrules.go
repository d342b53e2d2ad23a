package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"
)

// RotationRule has keys rotated by themselves when they are due.
type RotationRule struct {
	ID           uuid.UUID
	Name         string
	Wanted       json.RawMessage `gorm:"type:jsonb;serializer:json"`
	Make         string
	Settings     RotationSettings `gorm:"serializer:json"`
	Paused       bool
	CreatedBy    string
	CreatedAt    time.Time
	LookedAt     *time.Time // when it was last seen whether something is due
	BegunAt      *time.Time // when it last began a rotation
	LastRotation *uuid.UUID
	// Note is what is due and cannot be done, and why.
	Note string
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
