package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// PutMailAddress keeps where a person will get mail, in place of what was before.
func (s *Store) PutMailAddress(ctx context.Context, a record.MailAddress) error {
	return plain(s.db.WithContext(ctx).
		Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "operator_id"}}, UpdateAll: true}).
		Create(&a).Error)
}

// MailAddressOf returns where a person gets, or will get, mail; ErrNotFound where there is none.
func (s *Store) MailAddressOf(ctx context.Context, operator uuid.UUID) (a record.MailAddress, err error) {
	err = s.db.WithContext(ctx).Where("operator_id = ?", operator).Take(&a).Error
	return a, plain(err)
}

// ConfirmMail has an address count, where the code is the person's; false where it is not.
func (s *Store) ConfirmMail(ctx context.Context, operator uuid.UUID, code []byte, since, at time.Time) (bool, error) {
	done := s.db.WithContext(ctx).
		Model(&record.MailAddress{}).
		Where("operator_id = ? AND code_hash = ? AND asked_at > ?", operator, code, since).
		Updates(map[string]any{"confirmed_at": at, "code_hash": nil})
	return done.RowsAffected > 0, plain(done.Error)
}

// DeleteMail forgets where a person gets mail.
func (s *Store) DeleteMail(ctx context.Context, operator uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("operator_id = ?", operator).Delete(&record.MailAddress{}).Error)
}

// MailDue returns the confirmed addresses of people whose accounts are open and to whom no mail was tried since.
func (s *Store) MailDue(ctx context.Context, since time.Time, limit int) (out []record.MailAddress, err error) {
	err = s.db.WithContext(ctx).
		Model(&record.MailAddress{}).
		Select("mail_addresses.*, p.name, o.title, o.id AS holder_id").
		Joins("JOIN operators p ON p.id = mail_addresses.operator_id AND p.closed_at IS NULL").
		Joins("JOIN holders o ON o.operator_id = p.id").
		Where("confirmed_at IS NOT NULL AND (tried_at IS NULL OR tried_at < ?)", since).
		Order("tried_at NULLS FIRST").
		Limit(limit).
		Find(&out).
		Error
	return out, plain(err)
}

// NoteMail keeps that a mail is being tried. Where another process was faster, nothing is kept and it is false.
func (s *Store) NoteMail(ctx context.Context, a record.MailAddress, at time.Time) (bool, error) {
	done := s.db.WithContext(ctx).
		Model(&record.MailAddress{}).
		Where("operator_id = ? AND address = ? AND tried_at IS NOT DISTINCT FROM ?", a.OperatorID, a.Address, a.TriedAt).
		Update("tried_at", at)
	return done.RowsAffected > 0, plain(done.Error)
}

// NoteMailSent keeps what came of a mail.
func (s *Store) NoteMailSent(ctx context.Context, operator uuid.UUID, at *time.Time, why string) error {
	changes := map[string]any{"problem": why}
	if at != nil {
		changes["sent_at"] = *at
	}
	return plain(s.db.WithContext(ctx).Model(&record.MailAddress{}).Where("operator_id = ?", operator).
		Updates(changes).Error)
}

// TasksOf returns what people have to do before they get in, or so that it is known that they do: new keys that they
// are asked to bring, keys in the safe that nobody took out, keys that are handed over to them, and proofs that are
// due since before. What a team has to do is told to each of it; proofs are asked of persons alone. Raw, since it
// gathers from five tables at once.
func (s *Store) TasksOf(ctx context.Context, operators []uuid.UUID, before time.Time) (out []record.Task, err error) {
	if len(operators) == 0 {
		return nil, nil
	}
	err = s.db.WithContext(ctx).Raw(
		`WITH who AS (SELECT o.id AS holder_id, o.operator_id, true AS own FROM holders o WHERE o.operator_id IN @who
			UNION ALL SELECT m.team_id, m.operator_id, false FROM team_members m WHERE m.operator_id IN @who)
		SELECT w.operator_id, 'bring' AS kind, a.name, a.created_at AS at FROM who w JOIN asked_keys a
			ON a.holder_id = w.holder_id AND a.brought_at IS NULL AND EXISTS (SELECT 1 FROM rotation_items t
				WHERE t.rotation_id = a.rotation_id AND t.new_name = a.name AND t.state = 'asked')
		UNION ALL
		SELECT w.operator_id, 'take', k.name, k.created_at FROM who w JOIN keys k ON k.holder_id = w.holder_id
			JOIN kept_keys h ON h.key_id = k.id AND h.released_at IS NULL
			WHERE k.state = 'active' AND k.steward_of IS NULL AND EXISTS (SELECT 1 FROM grants g
				WHERE g.key_id = k.id AND g.withdrawn_at IS NULL)
		UNION ALL
		SELECT w.operator_id, 'take-over', k.name, h.asked_at FROM who w JOIN handovers h
			ON h.to_holder = w.holder_id AND h.ended_at IS NULL JOIN keys k ON k.id = h.key_id AND k.state = 'active'
		UNION ALL
		SELECT w.operator_id, 'prove', k.name, coalesce(k.proved_at, k.created_at) FROM who w JOIN keys k
			ON k.holder_id = w.holder_id JOIN operators p ON p.id = w.operator_id
			WHERE w.own AND k.state = 'active' AND k.steward_of IS NULL
				AND NOT EXISTS (SELECT 1 FROM kept_keys h WHERE h.key_id = k.id AND h.released_at IS NULL)
				AND NOT (k.proved_at IS NOT NULL AND k.proved_at >= @before AND k.proved_by = p.name)
				AND EXISTS (SELECT 1 FROM grants g JOIN logins l ON l.id = g.login_id
					JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL
					WHERE g.key_id = k.id AND g.withdrawn_at IS NULL)
		ORDER BY 1, 2, 3`,
		map[string]any{"who": operators, "before": before},
	).Scan(&out).Error
	return out, plain(err)
}
