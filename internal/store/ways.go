package store

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/record"
)

// AcceptedWays returns the ways into logins that somebody has accepted, by login.
func (s *Store) AcceptedWays(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID][]record.AcceptedWay, error) {
	var rows []record.AcceptedWay
	if len(logins) > 0 {
		if err := s.db.WithContext(ctx).Where("login_id IN ?", logins).Order("kind, name").Find(&rows).Error; err != nil {
			return nil, plain(err)
		}
	}
	out := map[uuid.UUID][]record.AcceptedWay{}
	for _, r := range rows {
		out[r.LoginID] = append(out[r.LoginID], r)
	}
	return out, nil
}

// AcceptWay keeps that a way was accepted. It reports whether that is new; one that was accepted as it is stays so.
// Raw in its condition, since GORM's upsert knows none.
func (s *Store) AcceptWay(ctx context.Context, w record.AcceptedWay) (bool, error) {
	done := s.db.WithContext(ctx).Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "login_id"}, {Name: "kind"}, {Name: "name"}},
		DoUpdates: clause.AssignmentColumns([]string{"text", "at", "by", "reason"}),
		Where:     clause.Where{Exprs: []clause.Expression{clause.Expr{SQL: "accepted_ways.text <> excluded.text"}}},
	}).Create(&w)
	return done.RowsAffected > 0, plain(done.Error)
}

// WithdrawWay ends the acceptance of a way into a login. It reports whether it was accepted.
func (s *Store) WithdrawWay(ctx context.Context, login uuid.UUID, kind reading.WayKind, name string) (bool, error) {
	done := s.db.WithContext(ctx).
		Where("login_id = ? AND kind = ? AND name = ?", login, kind, name).
		Delete(&record.AcceptedWay{})
	return done.RowsAffected > 0, plain(done.Error)
}
