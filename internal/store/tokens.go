package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// AddToken keeps a new token.
func (s *Store) AddToken(ctx context.Context, t record.Token) error {
	if t.Limits == nil {
		t.Limits = map[string]string{}
	}
	return plain(s.db.WithContext(ctx).Omit("Person").Create(&t).Error)
}

// Tokens returns the tokens that hold, of one operator or of all, newest first.
func (s *Store) Tokens(ctx context.Context, operator *uuid.UUID, now time.Time) ([]record.Token, error) {
	q := s.db.WithContext(ctx).
		Model(&record.Token{}).
		Select("tokens.*, o.name AS person").
		Joins("JOIN operators o ON o.id = tokens.operator_id").
		Where("revoked_at IS NULL AND (expires_at IS NULL OR expires_at > ?)", now)
	if operator != nil {
		q = q.Where("operator_id = ?", *operator)
	}
	var tokens []record.Token
	err := q.Order("tokens.created_at DESC").Find(&tokens).Error
	return tokens, plain(err)
}

// RevokeToken ends a token, of one operator or of anybody.
func (s *Store) RevokeToken(
	ctx context.Context, operator *uuid.UUID, id uuid.UUID, now time.Time,
) (record.Token, error) {
	var t record.Token
	db := s.db.WithContext(ctx)
	q := db.Model(&record.Token{}).
		Select("tokens.*, o.name AS person").
		Joins("JOIN operators o ON o.id = tokens.operator_id").
		Where("tokens.id = ? AND revoked_at IS NULL", id)
	if operator != nil {
		q = q.Where("operator_id = ?", *operator)
	}
	if err := q.Take(&t).Error; err != nil {
		return t, plain(err)
	}
	return t, plain(db.Model(&record.Token{}).Where("id = ?", id).Update("revoked_at", now).Error)
}

// TokenHolder returns the token with that hash, if it holds, and whose it is.
// The last use is noted to the minute.
func (s *Store) TokenHolder(ctx context.Context, hash []byte, now time.Time) (record.Token, record.Operator, error) {
	var t record.Token
	var o record.Operator
	db := s.db.WithContext(ctx)
	if err := db.Where(
		"hash = ? AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > ?)", hash, now,
	).Take(&t).Error; err != nil {
		return t, o, plain(err)
	}
	if t.LastUsedAt == nil || now.Sub(*t.LastUsedAt) > time.Minute {
		if err := db.Model(&record.Token{}).Where("id = ?", t.ID).Update("last_used_at", now).Error; err != nil {
			return t, o, plain(err)
		}
	}
	err := db.Where("id = ? AND closed_at IS NULL", t.OperatorID).Take(&o).Error
	return t, o, plain(err)
}
