package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// AddOperator keeps a new account. A *TakenError tells that the name is taken.
func (s *Store) AddOperator(ctx context.Context, o Operator) error {
	if o.Limits == nil {
		o.Limits = map[string]string{}
	}
	o.KnownAddresses = []string{}
	return plain(s.db.WithContext(ctx).Omit("Title", "Teams", "Sessions", "Tokens", "LastSeenAt").Create(&o).Error)
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

// OperatorOfIssuer returns the account with the issuer's subject, or the one that still
// waits for somebody with the issuer's name.
func (s *Store) OperatorOfIssuer(ctx context.Context, subject, name string) (Operator, error) {
	var o Operator
	err := s.db.WithContext(ctx).
		Where("issuer_subject = ? OR issuer_subject = '' AND issuer_name = ? AND issuer_name <> ''", subject, name).
		Order("issuer_subject DESC").
		Take(&o).
		Error
	return o, plain(err)
}

// Operators returns all accounts with what each has, by name.
func (s *Store) Operators(ctx context.Context, now time.Time) ([]Operator, error) {
	var out []Operator
	err := s.db.WithContext(ctx).Model(&Operator{}).
		Select(`operators.*, k.title,
			(SELECT string_agg(t.name, ', ' ORDER BY t.name) FROM team_members m JOIN keepers t ON t.id = m.team_id
				WHERE m.operator_id = operators.id) AS teams,
			(SELECT count(*) FROM sessions n WHERE n.operator_id = operators.id AND n.expires_at > ?) AS sessions,
			(SELECT count(*) FROM tokens t WHERE t.operator_id = operators.id AND t.revoked_at IS NULL
				AND (t.expires_at IS NULL OR t.expires_at > ?)) AS tokens,
			greatest((SELECT max(seen_at) FROM sessions n WHERE n.operator_id = operators.id), (SELECT max(last_used_at)
				FROM tokens t WHERE t.operator_id = operators.id)) AS last_seen_at`, now, now).
		Joins("LEFT JOIN keepers k ON k.operator_id = operators.id").Order("operators.name").Find(&out).Error
	return out, plain(err)
}

// ChangeOperator changes columns of an account.
func (s *Store) ChangeOperator(ctx context.Context, id uuid.UUID, o Operator, columns ...string) error {
	return plain(s.db.WithContext(ctx).Model(&Operator{ID: id}).Select(columns).Updates(&o).Error)
}

// LockPeople holds off every other change of who may do what until the transaction
// ends.
func (s *Store) LockPeople(ctx context.Context) error {
	return plain(s.db.WithContext(ctx).Exec("SELECT pg_advisory_xact_lock(hashtextextended('people', 0))").Error)
}

// CountOperators returns the number of accounts.
func (s *Store) CountOperators(ctx context.Context) (int, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Operator{}).Count(&n).Error
	return int(n), plain(err)
}

// CountAdmins returns the number of admins whose accounts are open.
func (s *Store) CountAdmins(ctx context.Context) (int, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Operator{}).Where("role = 'admin' AND closed_at IS NULL").Count(&n).Error
	return int(n), plain(err)
}

// CloseOperator closes an account: its sessions and tokens end with it.
func (s *Store) CloseOperator(ctx context.Context, id uuid.UUID, now time.Time) error {
	db := s.db.WithContext(ctx)
	if err := db.Model(&Operator{}).Where("id = ?", id).Update("closed_at", now).Error; err != nil {
		return plain(err)
	}
	if err := db.Where("operator_id = ?", id).Delete(&Session{}).Error; err != nil {
		return plain(err)
	}
	tokens := db.Model(&Token{}).Where("operator_id = ? AND revoked_at IS NULL", id)
	if err := tokens.Update("revoked_at", now).Error; err != nil {
		return plain(err)
	}
	if err := db.Exec("DELETE FROM team_members WHERE operator_id = ?", id).Error; err != nil {
		return plain(err)
	}
	return plain(db.Model(&Keeper{}).Where("operator_id = ?", id).Update("left_at", now).Error)
}

// OpenOperator opens a closed account again.
func (s *Store) OpenOperator(ctx context.Context, id uuid.UUID) error {
	db := s.db.WithContext(ctx)
	opened := map[string]any{"closed_at": nil, "leaving": nil}
	if err := db.Model(&Operator{}).Where("id = ?", id).Updates(opened).Error; err != nil {
		return plain(err)
	}
	return plain(db.Model(&Keeper{}).Where("operator_id = ?", id).Update("left_at", nil).Error)
}

// SetFactor keeps the sealed secret of a second factor, nil for none, and forgets the
// recovery codes of the one before.
func (s *Store) SetFactor(ctx context.Context, operator uuid.UUID, secret Secret) error {
	db := s.db.WithContext(ctx)
	if secret.Sealed != nil {
		if err := s.underMark(ctx, secret); err != nil {
			return err
		}
	}
	if err := db.Model(&Operator{}).Where("id = ?", operator).Updates(
		map[string]any{"factor_sealed": secret.Sealed, "factor_at": nil, "factor_step": 0},
	).Error; err != nil {
		return plain(err)
	}
	return plain(db.Exec("DELETE FROM recovery_codes WHERE operator_id = ?", operator).Error)
}

// ConfirmFactor puts the second factor into use, with the hashes of its recovery codes.
func (s *Store) ConfirmFactor(ctx context.Context, operator uuid.UUID, codes [][]byte, now time.Time) error {
	db := s.db.WithContext(ctx)
	if err := db.Model(&Operator{}).Where("id = ?", operator).Update("factor_at", now).Error; err != nil {
		return plain(err)
	}
	rows := make([]map[string]any, len(codes))
	for i, c := range codes {
		rows[i] = map[string]any{"operator_id": operator, "hash": c}
	}
	return plain(db.Table("recovery_codes").Create(rows).Error)
}

// UseStep takes a time step of a second factor; false if it or a later one was taken.
func (s *Store) UseStep(ctx context.Context, operator uuid.UUID, step int64) (bool, error) {
	r := s.db.WithContext(ctx).
		Model(&Operator{}).
		Where("id = ? AND factor_step < ?", operator, step).
		Update("factor_step", step)
	return r.RowsAffected == 1, plain(r.Error)
}

// UseRecoveryCode takes a recovery code; false if there is none or it was taken. left is
// how many there still are.
func (s *Store) UseRecoveryCode(
	ctx context.Context,
	operator uuid.UUID,
	hash []byte,
	now time.Time,
) (ok bool, left int64, err error) {
	db := s.db.WithContext(ctx)
	r := db.Table("recovery_codes").
		Where("operator_id = ? AND hash = ? AND used_at IS NULL", operator, hash).
		Update("used_at", now)
	if r.Error != nil || r.RowsAffected == 0 {
		return false, 0, plain(r.Error)
	}
	err = db.Table("recovery_codes").Where("operator_id = ? AND used_at IS NULL", operator).Count(&left).Error
	return true, left, plain(err)
}

// AddSession keeps a session and forgets those that have run out.
func (s *Store) AddSession(ctx context.Context, n Session) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("expires_at < ?", n.CreatedAt).Delete(&Session{}).Error; err != nil {
		return plain(err)
	}
	return plain(db.Create(&n).Error)
}

// SessionHolder returns the session with that hash, if it has not run out, and whose
// it is. It was in use now, which is noted to the minute.
func (s *Store) SessionHolder(
	ctx context.Context,
	hash []byte,
	now time.Time,
	idle time.Duration,
) (Session, Operator, error) {
	var n Session
	var o Operator
	db := s.db.WithContext(ctx)
	if err := db.Where(
		"hash = ? AND NOT awaits_code AND expires_at > ? AND seen_at > ?",
		hash,
		now,
		now.Add(-idle),
	).Take(&n).Error; err != nil {
		return n, o, plain(err)
	}
	if now.Sub(n.SeenAt) > time.Minute {
		if err := db.Model(&Session{}).Where("hash = ?", hash).Update("seen_at", now).Error; err != nil {
			return n, o, plain(err)
		}
	}
	err := db.Where("id = ? AND closed_at IS NULL", n.OperatorID).Take(&o).Error
	return n, o, plain(err)
}

// Sessions returns the sessions that hold, of one operator or of all, the last used first.
func (s *Store) Sessions(
	ctx context.Context,
	operator *uuid.UUID,
	now time.Time,
	idle time.Duration,
) ([]Session, error) {
	q := s.db.WithContext(ctx).
		Model(&Session{}).
		Select("sessions.*, o.name AS person").
		Joins("JOIN operators o ON o.id = sessions.operator_id").
		Where("NOT sessions.awaits_code AND sessions.expires_at > ? AND sessions.seen_at > ?", now, now.Add(-idle))
	if operator != nil {
		q = q.Where("sessions.operator_id = ?", *operator)
	}
	var out []Session
	err := q.Order("sessions.seen_at DESC").Find(&out).Error
	return out, plain(err)
}

// EndSession forgets a session by its hash.
func (s *Store) EndSession(ctx context.Context, hash []byte) error {
	return plain(s.db.WithContext(ctx).Where("hash = ?", hash).Delete(&Session{}).Error)
}

// EndSessionByID forgets a session, of one operator or of anybody, and returns it.
func (s *Store) EndSessionByID(ctx context.Context, operator *uuid.UUID, id uuid.UUID) (Session, error) {
	var n Session
	db := s.db.WithContext(ctx)
	q := db.Model(&Session{}).
		Select("sessions.*, o.name AS person").
		Joins("JOIN operators o ON o.id = sessions.operator_id").
		Where("sessions.id = ?", id)
	if operator != nil {
		q = q.Where("sessions.operator_id = ?", *operator)
	}
	if err := q.Take(&n).Error; err != nil {
		return n, plain(err)
	}
	return n, plain(db.Where("id = ?", id).Delete(&Session{}).Error)
}

// EndOtherSessions forgets the sessions of an operator but the one with the hash; all where that
// is nil.
func (s *Store) EndOtherSessions(ctx context.Context, operator uuid.UUID, but []byte) error {
	q := s.db.WithContext(ctx).Where("operator_id = ?", operator)
	if but != nil {
		q = q.Where("hash <> ?", but)
	}
	return plain(q.Delete(&Session{}).Error)
}

// EndSessionsBut forgets the sessions of an operator but the one with the id.
func (s *Store) EndSessionsBut(ctx context.Context, operator, but uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("operator_id = ? AND id <> ?", operator, but).Delete(&Session{}).Error)
}

// ConfirmSession notes that the session's person has just shown who they are.
func (s *Store) ConfirmSession(ctx context.Context, id uuid.UUID, at time.Time) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&Session{}).
			Where("id = ?", id).
			Updates(map[string]any{"confirmed_at": at, "awaits_code": false}).
			Error,
	)
}

// codeAwaited is for how long a session waits for a code.
const codeAwaited = 10 * time.Minute

// SessionAwaitingCode returns the session with that hash that waits for a code, and whose it is.
func (s *Store) SessionAwaitingCode(ctx context.Context, hash []byte, now time.Time) (Session, Operator, error) {
	var n Session
	var o Operator
	db := s.db.WithContext(ctx)
	if err := db.Where(
		"hash = ? AND awaits_code AND created_at > ?",
		hash,
		now.Add(-codeAwaited),
	).Take(&n).Error; err != nil {
		return n, o, plain(err)
	}
	err := db.Where("id = ? AND closed_at IS NULL", n.OperatorID).Take(&o).Error
	return n, o, plain(err)
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

// JoinTeam makes a person one of a team; false if they are already.
func (s *Store) JoinTeam(ctx context.Context, team, operator uuid.UUID) (bool, error) {
	r := s.db.WithContext(ctx).
		Exec("INSERT INTO team_members (team_id, operator_id) VALUES (?, ?) ON CONFLICT DO NOTHING", team, operator)
	return r.RowsAffected == 1, plain(r.Error)
}

// PartTeam takes a person out of a team; false if they are not in it.
func (s *Store) PartTeam(ctx context.Context, team, operator uuid.UUID) (bool, error) {
	r := s.db.WithContext(ctx).Exec("DELETE FROM team_members WHERE team_id = ? AND operator_id = ?", team, operator)
	return r.RowsAffected == 1, plain(r.Error)
}

// DeleteKeeper forgets a keeper who holds no key.
func (s *Store) DeleteKeeper(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&Keeper{}).Error)
}

// KeysOfKeeper counts the active keys that a keeper holds.
func (s *Store) KeysOfKeeper(ctx context.Context, id uuid.UUID) (n int64, err error) {
	err = s.db.WithContext(ctx).Model(&Key{}).Where("keeper_id = ?", id).Count(&n).Error
	return n, plain(err)
}

// IsOf reports whether a keeper is the operator, or a team that the operator is in.
func (s *Store) IsOf(ctx context.Context, keeper, operator uuid.UUID) (is bool, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT EXISTS (SELECT 1 FROM keepers WHERE id = ? AND operator_id = ?)
		OR EXISTS (SELECT 1 FROM team_members WHERE team_id = ?
			AND operator_id = ?)`, keeper, operator, keeper, operator).Scan(&is).Error
	return is, plain(err)
}

func withMembers(q *gorm.DB) *gorm.DB {
	return q.Select(
		"keepers.*, (SELECT string_agg(o.name, ', ' ORDER BY o.name) FROM team_members m JOIN operators o ON o.id = " +
			"m.operator_id WHERE m.team_id = keepers.id) AS members",
	)
}
