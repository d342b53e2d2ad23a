package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// Token is a secret for programs. Only its hash is kept.
type Token struct {
	ID         uuid.UUID
	Name       string
	Hash       []byte
	OperatorID uuid.UUID
	Role       string
	CreatedAt  time.Time
	ExpiresAt  *time.Time
	LastUsedAt *time.Time
	RevokedAt  *time.Time
	// Only is sweep or read for a token that may do nothing else.
	Only   string            `gorm:"column:only_for"`
	Limits map[string]string `gorm:"serializer:json;default:'{}'"`
	Person string            `gorm:"->;-:migration"`
}

// AddToken keeps a new token.
func (s *Store) AddToken(ctx context.Context, t Token) error {
	if t.Limits == nil {
		t.Limits = map[string]string{}
	}
	return plain(s.db.WithContext(ctx).Omit("Person").Create(&t).Error)
}

// Tokens returns the tokens that hold, of one operator or of all, newest first.
func (s *Store) Tokens(ctx context.Context, operator *uuid.UUID, now time.Time) ([]Token, error) {
	q := s.db.WithContext(ctx).
		Model(&Token{}).
		Select("tokens.*, o.name AS person").
		Joins("JOIN operators o ON o.id = tokens.operator_id").
		Where("revoked_at IS NULL AND (expires_at IS NULL OR expires_at > ?)", now)
	if operator != nil {
		q = q.Where("operator_id = ?", *operator)
	}
	var tokens []Token
	err := q.Order("tokens.created_at DESC").Find(&tokens).Error
	return tokens, plain(err)
}

// RevokeToken ends a token, of one operator or of anybody.
func (s *Store) RevokeToken(ctx context.Context, operator *uuid.UUID, id uuid.UUID, now time.Time) (Token, error) {
	var t Token
	db := s.db.WithContext(ctx)
	q := db.Model(&Token{}).
		Select("tokens.*, o.name AS person").
		Joins("JOIN operators o ON o.id = tokens.operator_id").
		Where("tokens.id = ? AND revoked_at IS NULL", id)
	if operator != nil {
		q = q.Where("operator_id = ?", *operator)
	}
	if err := q.Take(&t).Error; err != nil {
		return t, plain(err)
	}
	return t, plain(db.Model(&Token{}).Where("id = ?", id).Update("revoked_at", now).Error)
}

// TokenHolder returns the token with that hash, if it holds, and whose it is.
// The last use is noted to the minute.
func (s *Store) TokenHolder(ctx context.Context, hash []byte, now time.Time) (Token, Operator, error) {
	var t Token
	var o Operator
	db := s.db.WithContext(ctx)
	if err := db.Where(
		"hash = ? AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > ?)",
		hash,
		now,
	).Take(&t).Error; err != nil {
		return t, o, plain(err)
	}
	if t.LastUsedAt == nil || now.Sub(*t.LastUsedAt) > time.Minute {
		if err := db.Model(&Token{}).Where("id = ?", t.ID).Update("last_used_at", now).Error; err != nil {
			return t, o, plain(err)
		}
	}
	err := db.Where("id = ? AND closed_at IS NULL", t.OperatorID).Take(&o).Error
	return t, o, plain(err)
}
