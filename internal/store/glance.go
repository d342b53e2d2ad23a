package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
)

// KeptReach returns the reach of each login as it was last kept.
func (s *Store) KeptReach(ctx context.Context) (map[uuid.UUID]reach.State, error) {
	var rows []record.LoginReach
	err := s.db.WithContext(ctx).Where("until IS NULL").Find(&rows).Error
	out := make(map[uuid.UUID]reach.State, len(rows))
	for _, r := range rows {
		out[r.LoginID] = r.State
	}
	return out, plain(err)
}

// KeepReach keeps what the reach of logins is from now on; "" for a login that is gone.
func (s *Store) KeepReach(ctx context.Context, now map[uuid.UUID]reach.State, at time.Time) error {
	ids := make([]uuid.UUID, 0, len(now))
	rows := make([]record.LoginReach, 0, len(now))
	for id, state := range now {
		ids = append(ids, id)
		if state != "" {
			rows = append(rows, record.LoginReach{LoginID: id, State: state, Since: at})
		}
	}
	db := s.db.WithContext(ctx)
	for part := range slices.Chunk(ids, 5000) {
		err := db.Model(&record.LoginReach{}).Where("until IS NULL AND login_id IN ?", part).Update("until", at).Error
		if err != nil {
			return plain(err)
		}
	}
	if len(rows) == 0 {
		return nil
	}
	return plain(db.CreateInBatches(rows, 1000).Error)
}

// ReachTurns returns what came and went by each of n+1 points in time, of which the last is until, a step apart; and
// since when reach was kept, the zero time for never. Raw, since GORM has no union of two questions.
func (s *Store) ReachTurns(
	ctx context.Context, until time.Time, step time.Duration, n int,
) (turns []reach.Turn, since time.Time, err error) {
	first := until.Add(-time.Duration(n) * step)
	const point = "greatest(0, ceil(extract(epoch FROM (%s - CAST(@first AS timestamptz))) / @step))::int"
	count := func(column, sign string) string {
		return "SELECT state, " + fmt.Sprintf(
			point,
			column,
		) + " AS point, " + sign + "count(*) AS count FROM login_reach WHERE " +
			column + " <= @until GROUP BY 1, 2"
	}
	args := map[string]any{"first": first, "step": step.Seconds(), "until": until}
	err = s.db.WithContext(ctx).Raw(count("since", "")+" UNION ALL "+count("until", "-"), args).Scan(&turns).Error
	if err != nil {
		return nil, since, plain(err)
	}
	var at *time.Time
	if err := s.db.WithContext(ctx).Model(&record.LoginReach{}).Select("min(since)").Row().Scan(&at); err != nil {
		return nil, since, plain(err)
	}
	if at != nil {
		since = *at
	}
	return turns, since, nil
}

// ReachChanges returns the logins whose reach is another than at a time that is over, the last change first, and how
// many there are. A login that was not there at that time is among them, one that is gone is not.
func (s *Store) ReachChanges(ctx context.Context, since time.Time, limit int) ([]record.ReachChange, int, error) {
	q := s.db.WithContext(ctx).Table("login_reach r").
		Joins("JOIN logins l ON l.id = r.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL").
		Joins("LEFT JOIN login_reach b ON b.login_id = r.login_id AND b.since <= ? AND b.until > ?", since, since).
		Where("r.until IS NULL AND r.since > ? AND b.state IS DISTINCT FROM r.state", since)
	var total int64
	if err := q.Count(&total).Error; err != nil {
		return nil, 0, plain(err)
	}
	var out []record.ReachChange
	err := q.Select("l.os_user, i.name AS instance_name, coalesce(b.state, '') AS before, r.state AS after, " +
		"r.since AS at").
		Order("r.since DESC, i.name, l.os_user").
		Limit(limit).
		Scan(&out).
		Error
	return out, int(total), plain(err)
}

// LastLook is when a person last said that they had seen what changed; the zero time for never.
func (s *Store) LastLook(ctx context.Context, operator uuid.UUID) (time.Time, error) {
	var at []time.Time
	err := s.db.WithContext(ctx).Table("looks").Where("operator_id = ?", operator).Pluck("at", &at).Error
	if err != nil || len(at) == 0 {
		return time.Time{}, plain(err)
	}
	return at[0], nil
}

// Look records that a person has seen what changed.
func (s *Store) Look(ctx context.Context, operator uuid.UUID, at time.Time) error {
	return plain(s.db.WithContext(ctx).Table("looks").
		Clauses(clause.OnConflict{
			Columns:   []clause.Column{{Name: "operator_id"}},
			DoUpdates: clause.AssignmentColumns([]string{"at"}),
		}).
		Create(map[string]any{"operator_id": operator, "at": at}).Error)
}

// PausedRotations returns the rotations that are paused, the first first.
func (s *Store) PausedRotations(ctx context.Context, limit int) ([]record.Rotation, error) {
	var out []record.Rotation
	err := s.db.WithContext(ctx).Omit("left_out").Where("ended_at IS NULL AND state = ?", rotation.Paused).
		Order("created_at").Limit(limit).Find(&out).Error
	return out, plain(err)
}

// DifferingCharters returns the names of the charters that something differs from.
func (s *Store) DifferingCharters(ctx context.Context, limit int) ([]string, error) {
	var out []string
	err := s.db.WithContext(ctx).Model(&record.Charter{}).
		Where("released_at IS NULL AND version > 0 AND (differs > 0 OR problem <> '')").
		Order("name").Limit(limit).Pluck("name", &out).Error
	return out, plain(err)
}

// WaitingRuns returns the runs that wait for somebody, the first first.
func (s *Store) WaitingRuns(ctx context.Context, limit int) ([]record.Run, error) {
	var out []record.Run
	err := s.db.WithContext(ctx).Preload("Instance").Where("ended_at IS NULL AND waits->>'step' <> ''").
		Order("created_at").Limit(limit).Find(&out).Error
	return out, plain(err)
}
