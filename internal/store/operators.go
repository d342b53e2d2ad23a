package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/record"
)

// LeavingOperators returns those whose leaving was begun and whose account is open.
func (s *Store) LeavingOperators(ctx context.Context) ([]record.Operator, error) {
	var out []record.Operator
	err := s.db.WithContext(ctx).
		Where("leaving IS NOT NULL AND leaving <> 'null' AND leaving->>'ended_at' IS NULL").
		Order("name").
		Find(&out).
		Error
	return out, plain(err)
}

// changeLeaving sets one field of what is kept of a leaving.
func (s *Store) changeLeaving(ctx context.Context, operator uuid.UUID, field, value string) error {
	changed := gorm.Expr("jsonb_set(leaving, ARRAY[?], to_jsonb(?::text))", field, value)
	return plain(
		s.db.WithContext(ctx).
			Model(&record.Operator{}).
			Where("id = ? AND leaving IS NOT NULL", operator).
			UpdateColumn("leaving", changed).
			Error,
	)
}

// NoteLeaving records what a leaving waits for.
func (s *Store) NoteLeaving(ctx context.Context, operator uuid.UUID, note string) error {
	return s.changeLeaving(ctx, operator, "note", note)
}

// SetLeavingRotation records the rotation that replaces the keys of somebody who leaves.
func (s *Store) SetLeavingRotation(ctx context.Context, operator, rotation uuid.UUID) error {
	return s.changeLeaving(ctx, operator, "rotation", rotation.String())
}

// AddOperator keeps a new account. A *TakenError tells that the name is taken.
func (s *Store) AddOperator(ctx context.Context, o record.Operator) error {
	if o.Limits == nil {
		o.Limits = map[string]string{}
	}
	o.KnownAddresses = []string{}
	return plain(s.db.WithContext(ctx).Omit("Title", "Teams", "Sessions", "Tokens", "LastSeenAt").Create(&o).Error)
}

// OperatorByID returns the person with the id.
func (s *Store) OperatorByID(ctx context.Context, id uuid.UUID) (record.Operator, error) {
	var o record.Operator
	err := s.db.WithContext(ctx).Where("id = ?", id).Take(&o).Error
	return o, plain(err)
}

// OperatorNamed returns the account of that name.
func (s *Store) OperatorNamed(ctx context.Context, name string) (record.Operator, error) {
	var o record.Operator
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&o).Error
	return o, plain(err)
}

// OperatorOfIssuer returns the account with the issuer's subject, or the one that still
// waits for somebody with the issuer's name.
func (s *Store) OperatorOfIssuer(ctx context.Context, subject, name string) (record.Operator, error) {
	var o record.Operator
	err := s.db.WithContext(ctx).
		Where("issuer_subject = ? OR issuer_subject = '' AND issuer_name = ? AND issuer_name <> ''", subject, name).
		Order("issuer_subject DESC").
		Take(&o).
		Error
	return o, plain(err)
}

// Operators returns all accounts with what each has, by name.
func (s *Store) Operators(ctx context.Context, now time.Time) ([]record.Operator, error) {
	var out []record.Operator
	err := s.db.WithContext(ctx).Model(&record.Operator{}).
		Select(`operators.*, k.title,
			(SELECT string_agg(t.name, ', ' ORDER BY t.name) FROM team_members m JOIN holders t ON t.id = m.team_id
				WHERE m.operator_id = operators.id) AS teams,
			(SELECT count(*) FROM sessions n WHERE n.operator_id = operators.id AND n.expires_at > ?) AS sessions,
			(SELECT count(*) FROM tokens t WHERE t.operator_id = operators.id AND t.revoked_at IS NULL
				AND (t.expires_at IS NULL OR t.expires_at > ?)) AS tokens,
			greatest((SELECT max(seen_at) FROM sessions n WHERE n.operator_id = operators.id), (SELECT max(last_used_at)
				FROM tokens t WHERE t.operator_id = operators.id)) AS last_seen_at`, now, now).
		Joins("LEFT JOIN holders k ON k.operator_id = operators.id").Order("operators.name").Find(&out).Error
	return out, plain(err)
}

// ChangeOperator changes columns of an account.
func (s *Store) ChangeOperator(ctx context.Context, id uuid.UUID, o record.Operator, columns ...string) error {
	return plain(s.db.WithContext(ctx).Model(&record.Operator{ID: id}).Select(columns).Updates(&o).Error)
}

// LockPeople holds off every other change of who may do what until the transaction
// ends.
// Raw, since GORM has no advisory locks.
func (s *Store) LockPeople(ctx context.Context) error {
	return plain(s.db.WithContext(ctx).Exec("SELECT pg_advisory_xact_lock(hashtextextended('people', 0))").Error)
}

// CountOperators returns the number of accounts.
func (s *Store) CountOperators(ctx context.Context) (int, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&record.Operator{}).Count(&n).Error
	return int(n), plain(err)
}

// CountAdmins returns the number of admins whose accounts are open.
func (s *Store) CountAdmins(ctx context.Context) (int, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&record.Operator{}).Where("role = 'admin' AND closed_at IS NULL").Count(&n).Error
	return int(n), plain(err)
}

// EndLeaving records that nothing is left to do for somebody who leaves.
func (s *Store) EndLeaving(ctx context.Context, operator uuid.UUID, now time.Time) error {
	return s.changeLeaving(ctx, operator, "ended_at", now.UTC().Format(time.RFC3339Nano))
}

// CloseOperator closes an account: its sessions and tokens end with it, and what it holds is held by nobody.
func (s *Store) CloseOperator(ctx context.Context, id uuid.UUID, now time.Time) error {
	if err := s.CloseAccount(ctx, id, now); err != nil {
		return err
	}
	db := s.db.WithContext(ctx)
	if err := db.Table("team_members").Where("operator_id = ?", id).Delete(nil).Error; err != nil {
		return plain(err)
	}
	return plain(db.Model(&record.Holder{}).Where("operator_id = ?", id).Update("left_at", now).Error)
}

// CloseAccount ends all by which somebody uses the service; what they hold, they still hold.
func (s *Store) CloseAccount(ctx context.Context, id uuid.UUID, now time.Time) error {
	db := s.db.WithContext(ctx)
	closing := db.Model(&record.Operator{}).Where("id = ? AND closed_at IS NULL", id)
	if err := closing.Update("closed_at", now).Error; err != nil {
		return plain(err)
	}
	if err := db.Where("operator_id = ?", id).Delete(&record.Session{}).Error; err != nil {
		return plain(err)
	}
	tokens := db.Model(&record.Token{}).Where("operator_id = ? AND revoked_at IS NULL", id)
	return plain(tokens.Update("revoked_at", now).Error)
}

// OpenOperator opens a closed account again.
func (s *Store) OpenOperator(ctx context.Context, id uuid.UUID) error {
	db := s.db.WithContext(ctx)
	opened := map[string]any{"closed_at": nil, "leaving": nil}
	if err := db.Model(&record.Operator{}).Where("id = ?", id).Updates(opened).Error; err != nil {
		return plain(err)
	}
	return plain(db.Model(&record.Holder{}).Where("operator_id = ?", id).Update("left_at", nil).Error)
}

// SetFactor keeps the encrypted secret of a second factor, nil for none, and forgets the
// recovery codes of the one before.
func (s *Store) SetFactor(ctx context.Context, operator uuid.UUID, secret record.Secret) error {
	db := s.db.WithContext(ctx)
	if secret.Encrypted != nil {
		if err := s.underMark(ctx, secret); err != nil {
			return err
		}
	}
	if err := db.Model(&record.Operator{}).Where("id = ?", operator).Updates(
		map[string]any{"factor_encrypted": secret.Encrypted, "factor_at": nil, "factor_step": 0},
	).Error; err != nil {
		return plain(err)
	}
	return plain(db.Table("recovery_codes").Where("operator_id = ?", operator).Delete(nil).Error)
}

// ConfirmFactor puts the second factor into use, with the hashes of its recovery codes.
func (s *Store) ConfirmFactor(ctx context.Context, operator uuid.UUID, codes [][]byte, now time.Time) error {
	db := s.db.WithContext(ctx)
	if err := db.Model(&record.Operator{}).Where("id = ?", operator).Update("factor_at", now).Error; err != nil {
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
		Model(&record.Operator{}).
		Where("id = ? AND factor_step < ?", operator, step).
		Update("factor_step", step)
	return r.RowsAffected == 1, plain(r.Error)
}

// UseRecoveryCode takes a recovery code; false if there is none or it was taken. left is
// how many there still are.
func (s *Store) UseRecoveryCode(
	ctx context.Context, operator uuid.UUID, hash []byte, now time.Time,
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
