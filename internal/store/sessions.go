package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// codeAwaited is for how long a session waits for a code.
const codeAwaited = 10 * time.Minute

// AddSession keeps a session and forgets those that have run out.
func (s *Store) AddSession(ctx context.Context, n record.Session) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("expires_at < ?", n.CreatedAt).Delete(&record.Session{}).Error; err != nil {
		return plain(err)
	}
	return plain(db.Create(&n).Error)
}

// SessionHolder returns the session with that hash, if it has not run out, and whose
// it is. It was in use now, which is noted to the minute.
func (s *Store) SessionHolder(
	ctx context.Context, hash []byte, now time.Time, idle time.Duration,
) (record.Session, record.Operator, error) {
	var n record.Session
	var o record.Operator
	db := s.db.WithContext(ctx)
	if err := db.Where(
		"hash = ? AND NOT awaits_code AND expires_at > ? AND seen_at > ?", hash, now, now.Add(-idle),
	).Take(&n).Error; err != nil {
		return n, o, plain(err)
	}
	if now.Sub(n.SeenAt) > time.Minute {
		if err := db.Model(&record.Session{}).Where("hash = ?", hash).Update("seen_at", now).Error; err != nil {
			return n, o, plain(err)
		}
	}
	err := db.Where("id = ? AND closed_at IS NULL", n.OperatorID).Take(&o).Error
	return n, o, plain(err)
}

// Sessions returns the sessions that hold, of one operator or of all, the last used first.
func (s *Store) Sessions(
	ctx context.Context, operator *uuid.UUID, now time.Time, idle time.Duration,
) ([]record.Session, error) {
	q := s.db.WithContext(ctx).
		Model(&record.Session{}).
		Select("sessions.*, o.name AS person").
		Joins("JOIN operators o ON o.id = sessions.operator_id").
		Where("NOT sessions.awaits_code AND sessions.expires_at > ? AND sessions.seen_at > ?", now, now.Add(-idle))
	if operator != nil {
		q = q.Where("sessions.operator_id = ?", *operator)
	}
	var out []record.Session
	err := q.Order("sessions.seen_at DESC").Find(&out).Error
	return out, plain(err)
}

// EndSession forgets a session by its hash.
func (s *Store) EndSession(ctx context.Context, hash []byte) error {
	return plain(s.db.WithContext(ctx).Where("hash = ?", hash).Delete(&record.Session{}).Error)
}

// EndSessionByID forgets a session, of one operator or of anybody, and returns it.
func (s *Store) EndSessionByID(ctx context.Context, operator *uuid.UUID, id uuid.UUID) (record.Session, error) {
	var n record.Session
	db := s.db.WithContext(ctx)
	q := db.Model(&record.Session{}).
		Select("sessions.*, o.name AS person").
		Joins("JOIN operators o ON o.id = sessions.operator_id").
		Where("sessions.id = ?", id)
	if operator != nil {
		q = q.Where("sessions.operator_id = ?", *operator)
	}
	if err := q.Take(&n).Error; err != nil {
		return n, plain(err)
	}
	return n, plain(db.Where("id = ?", id).Delete(&record.Session{}).Error)
}

// EndOtherSessions forgets the sessions of an operator but the one with the hash; all where that
// is nil.
func (s *Store) EndOtherSessions(ctx context.Context, operator uuid.UUID, but []byte) error {
	q := s.db.WithContext(ctx).Where("operator_id = ?", operator)
	if but != nil {
		q = q.Where("hash <> ?", but)
	}
	return plain(q.Delete(&record.Session{}).Error)
}

// EndSessionsBut forgets the sessions of an operator but the one with the id.
func (s *Store) EndSessionsBut(ctx context.Context, operator, but uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("operator_id = ? AND id <> ?", operator, but).Delete(&record.Session{}).Error)
}

// ConfirmSession notes that the session's person has just shown who they are.
func (s *Store) ConfirmSession(ctx context.Context, id uuid.UUID, at time.Time) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.Session{}).
			Where("id = ?", id).
			Updates(map[string]any{"confirmed_at": at, "awaits_code": false}).
			Error,
	)
}

// SessionAwaitingCode returns the session with that hash that waits for a code, and whose it is.
func (s *Store) SessionAwaitingCode(
	ctx context.Context, hash []byte, now time.Time,
) (record.Session, record.Operator, error) {
	var n record.Session
	var o record.Operator
	db := s.db.WithContext(ctx)
	if err := db.Where(
		"hash = ? AND awaits_code AND created_at > ?", hash, now.Add(-codeAwaited),
	).Take(&n).Error; err != nil {
		return n, o, plain(err)
	}
	err := db.Where("id = ? AND closed_at IS NULL", n.OperatorID).Take(&o).Error
	return n, o, plain(err)
}
