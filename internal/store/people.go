package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// AddOperator keeps a new account. A *TakenError tells that the name is taken.
func (s *Store) AddOperator(ctx context.Context, o Operator) error {
	return plain(s.db.WithContext(ctx).Create(&o).Error)
}

// AddKeeper keeps a new person or team.
func (s *Store) AddKeeper(ctx context.Context, k Keeper) error {
	return plain(s.db.WithContext(ctx).Create(&k).Error)
}

// OperatorNamed returns the account of that name.
func (s *Store) OperatorNamed(ctx context.Context, name string) (Operator, error) {
	var o Operator
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&o).Error
	return o, plain(err)
}

// CountOperators returns the number of accounts.
func (s *Store) CountOperators(ctx context.Context) (int, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Operator{}).Count(&n).Error
	return int(n), plain(err)
}

// AddSession keeps a session and forgets those that have run out.
func (s *Store) AddSession(ctx context.Context, n Session) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("expires_at < ?", n.CreatedAt).Delete(&Session{}).Error; err != nil {
		return plain(err)
	}
	return plain(db.Create(&n).Error)
}

// OperatorWithSession returns whose session has that hash and has not run out.
func (s *Store) OperatorWithSession(ctx context.Context, hash []byte, now time.Time) (Operator, error) {
	var o Operator
	err := s.db.WithContext(ctx).Joins("JOIN sessions ON sessions.operator_id = operators.id AND sessions.hash = ? AND sessions.expires_at > ?", hash, now).Take(&o).Error
	return o, plain(err)
}

// EndSession forgets a session.
func (s *Store) EndSession(ctx context.Context, hash []byte) error {
	return plain(s.db.WithContext(ctx).Where("hash = ?", hash).Delete(&Session{}).Error)
}

// AddToken keeps a new token.
func (s *Store) AddToken(ctx context.Context, t Token) error {
	return plain(s.db.WithContext(ctx).Create(&t).Error)
}

// Tokens returns an operator's tokens that hold, newest first.
func (s *Store) Tokens(ctx context.Context, operator uuid.UUID, now time.Time) ([]Token, error) {
	var tokens []Token
	err := s.db.WithContext(ctx).Where("operator_id = ? AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > ?)", operator, now).
		Order("created_at DESC").Find(&tokens).Error
	return tokens, plain(err)
}

// RevokeToken ends an operator's token.
func (s *Store) RevokeToken(ctx context.Context, operator, id uuid.UUID, now time.Time) (Token, error) {
	var t Token
	db := s.db.WithContext(ctx)
	if err := db.Where("operator_id = ? AND id = ? AND revoked_at IS NULL", operator, id).Take(&t).Error; err != nil {
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
	if err := db.Where("hash = ? AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > ?)", hash, now).Take(&t).Error; err != nil {
		return t, o, plain(err)
	}
	if t.LastUsedAt == nil || now.Sub(*t.LastUsedAt) > time.Minute {
		if err := db.Model(&Token{}).Where("id = ?", t.ID).Update("last_used_at", now).Error; err != nil {
			return t, o, plain(err)
		}
	}
	err := db.Where("id = ?", t.OperatorID).Take(&o).Error
	return t, o, plain(err)
}
