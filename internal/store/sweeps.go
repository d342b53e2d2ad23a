package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/record"
)

// AddSweep keeps a new sweep of the logins.
// Raw where items are added, since GORM inserts no rows of a question.
func (s *Store) AddSweep(ctx context.Context, sweep record.Sweep, logins []uuid.UUID) error {
	db := s.db.WithContext(ctx)
	if err := db.Create(&sweep).Error; err != nil {
		return plain(err)
	}
	return plain(
		db.Exec(
			"INSERT INTO sweep_items (sweep_id, login_id, state, outcome) SELECT ?, id, 'waiting', '' FROM logins WHERE id IN ?",
			sweep.ID, logins,
		).Error,
	)
}

// SweepByID returns a sweep.
func (s *Store) SweepByID(ctx context.Context, id uuid.UUID) (record.Sweep, error) {
	var w record.Sweep
	err := s.db.WithContext(ctx).Where("id = ?", id).Take(&w).Error
	return w, plain(err)
}

// SweepCounts returns how many logins of the sweep are in which state.
func (s *Store) SweepCounts(ctx context.Context, id uuid.UUID) (map[reading.State]int, error) {
	var rows []struct {
		State reading.State
		Count int
	}
	err := s.db.WithContext(ctx).
		Table("sweep_items").
		Select("state, count(*) AS count").
		Where("sweep_id = ?", id).
		Group("state").
		Scan(&rows).
		Error
	counts := map[reading.State]int{}
	for _, r := range rows {
		counts[r.State] = r.Count
	}
	return counts, plain(err)
}

// SweepItems returns one page of the logins of a sweep, by instance. state ""
// means all.
func (s *Store) SweepItems(
	ctx context.Context, id uuid.UUID, state reading.State, p record.Page,
) (record.List[record.SweepItem], error) {
	q := s.db.WithContext(ctx).
		Table("sweep_items").
		Joins("JOIN logins l ON l.id = sweep_items.login_id JOIN instances i ON i.id = l.instance_id").
		Where("sweep_items.sweep_id = ?", id)
	if state != "" {
		q = q.Where("sweep_items.state = ?", state)
	}
	page, err := seek(q, order{columns: []string{"i.name", "l.os_user"}}, p)
	if err != nil {
		return record.List[record.SweepItem]{}, err
	}
	var items []record.SweepItem
	const columns = "sweep_items.*, l.os_user, i.name AS instance_name, l.instance_id, l.os_user = i.login_user AS main, "
	if err := page.Select(columns+keysNow, away).Scan(&items).Error; err != nil {
		return record.List[record.SweepItem]{}, plain(err)
	}
	return cut(items, p, func(i record.SweepItem) []string { return []string{i.InstanceName, i.OSUser} }), nil
}

// away names lines by which nobody gets in, which are no differences.
var away = sql.Named("away", authorizedkeys.SentAway)

// keysNow counts, for each login of a sweep, the keys by their status as it is now.
const keysNow = `
	(SELECT count(*) FROM sightings s WHERE s.login_id = l.id AND s.present) AS in_place,
	(SELECT count(*) FROM grants g JOIN sightings s ON s.login_id = g.login_id AND s.key_id = g.key_id AND NOT s.present
		WHERE g.login_id = l.id AND g.withdrawn_at IS NULL) AS missing,
	(SELECT count(*) FROM sightings s WHERE s.login_id = l.id AND s.present AND coalesce(s.options, '') !~ @away
		AND NOT EXISTS (SELECT 1 FROM grants g
		WHERE g.login_id = s.login_id AND g.key_id = s.key_id AND g.withdrawn_at IS NULL)) AS ungranted,
	(SELECT count(*) FROM strangers t WHERE t.login_id = l.id) AS strangers`

// TakeSweepItems returns logins that sweeps wait for, and counts that their reading begins.
// There are at most limits[0] of those whose reading begins for the first time; where there are
// none, at most limits[1] of those that it begins for the second time, and so on.
// Raw, since GORM updates no table from a question.
func (s *Store) TakeSweepItems(ctx context.Context, limits ...int) ([]record.SweepItem, error) {
	for tries, limit := range limits {
		var items []record.SweepItem
		err := s.db.WithContext(ctx).Raw(`UPDATE sweep_items SET tries = tries + 1 FROM
			(SELECT sweep_id, login_id FROM sweep_items WHERE state = 'waiting' AND tries = ? ORDER BY sweep_id LIMIT ?) t
			WHERE sweep_items.sweep_id = t.sweep_id AND sweep_items.login_id = t.login_id
				RETURNING sweep_items.*`, tries, limit).Scan(&items).Error
		if err != nil || len(items) > 0 {
			return items, plain(err)
		}
	}
	return nil, nil
}

// UntakeSweepItems forgets that the reading of logins was begun: the service ends in good order.
func (s *Store) UntakeSweepItems(ctx context.Context, logins []uuid.UUID) error {
	return plain(
		s.db.WithContext(ctx).
			Table("sweep_items").
			Where("state = ? AND login_id IN ?", reading.Waiting, logins).
			Update("tries", 0).
			Error,
	)
}

// GiveUpSweepItems ends the waiting for logins whose reading was begun so often and never
// ended, and returns their ids.
// Raw, since GORM has no statement that changes two tables.
func (s *Store) GiveUpSweepItems(ctx context.Context, tries int, why string, at time.Time) ([]uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).
		Raw(`WITH given AS (UPDATE sweep_items SET state = 'failed', outcome = ?, ended_at = ? WHERE state = 'waiting'
			AND tries >= ? RETURNING login_id)
		UPDATE logins SET tried_at = ?, sweep_error = ? WHERE id IN (SELECT login_id FROM given)
			RETURNING id`, why, at, tries, at, why).
		Scan(&ids).
		Error
	return ids, plain(err)
}

// EndSweepItems records what came of logins, for each and for every sweep that
// waits for it.
// Raw, since GORM updates no table from arrays.
func (s *Store) EndSweepItems(ctx context.Context, ends []record.SweepEnd) error {
	ids, at := make([][16]byte, len(ends)), make([]time.Time, len(ends))
	states, outcomes, methods, folders := make(
		[]string, len(ends),
	), make(
		[]string, len(ends),
	), make(
		[]string, len(ends),
	), make(
		[]string, len(ends),
	)
	for n, e := range ends {
		text, err := json.Marshal(append([]record.Folder{}, e.Folders...))
		if err != nil {
			return err
		}
		folders[n] = string(text)
		ids[n], at[n], states[n], outcomes[n], methods[n] = e.LoginID, e.At, string(e.State), e.Outcome, e.Method
	}
	pool := s.db.Statement.ConnPool
	if _, err := pool.ExecContext(ctx, `UPDATE logins l SET tried_at = n.at, swept_at = n.at, swept_by = n.method,
		sweep_error = '', folders = n.folders::jsonb
		FROM unnest($1::uuid[], $2::timestamptz[], $3::text[], $4::text[]) AS n (id, at, method, folders)
			WHERE l.id = n.id AND n.method <> ''`, ids, at, methods, folders); err != nil {
		return plain(err)
	}
	_, err := pool.ExecContext(ctx, `UPDATE sweep_items s SET state = n.state, outcome = n.outcome, ended_at = n.at
		FROM unnest($1::uuid[], $2::timestamptz[], $3::text[], $4::text[]) AS n (id, at, state, outcome)
			WHERE s.login_id = n.id AND s.state = 'waiting'`, ids, at, states, outcomes)
	return plain(err)
}

// EndSweeps ends those sweeps that wait for no login now.
// Raw, since GORM updates no table from a question.
func (s *Store) EndSweeps(ctx context.Context, at time.Time) error {
	return plain(s.db.WithContext(ctx).Exec(`UPDATE sweeps SET ended_at = ? WHERE ended_at IS NULL
		AND NOT EXISTS (SELECT 1 FROM sweep_items WHERE sweep_id = sweeps.id AND state = 'waiting')`, at).Error)
}

// versionsKept is how many contents of one file are kept; the oldest go.
const versionsKept = 500
