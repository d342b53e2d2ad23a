package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
)

// RotatingLines returns the logins and old keys that rotations are at work on.
func (s *Store) RotatingLines(ctx context.Context) (map[[2]uuid.UUID]bool, error) {
	var rows []struct{ LoginID, OldKeyID uuid.UUID }
	err := s.db.WithContext(ctx).
		Table("rotation_items t").
		Select("t.login_id, t.old_key_id").
		Joins("JOIN rotations r ON r.id = t.rotation_id AND r.ended_at IS NULL").
		Where("t.ended_at IS NULL AND t.old_key_id IS NOT NULL").
		Scan(&rows).
		Error
	lines := map[[2]uuid.UUID]bool{}
	for _, r := range rows {
		lines[[2]uuid.UUID{r.LoginID, r.OldKeyID}] = true
	}
	return lines, plain(err)
}

// RotatingTimes returns the median time in seconds that the steps of the last
// rotations took, on each instance and on all; 0 for all where there was none.
// Raw, since GORM has no grouping sets.
func (s *Store) RotatingTimes(ctx context.Context) (of map[uuid.UUID]float64, all float64, err error) {
	const recent = `WITH recent AS (SELECT r.id, r.instance_id FROM runs r WHERE r.kind = 'rotate'
		AND r.state = 'done' AND coalesce(r.payload ->> 'worker', r.facts ->> 'worker', '') = ''
			AND coalesce(r.payload ->> 'phase', r.facts ->> 'phase') IN ('in', 'whole') ORDER BY r.ended_at DESC LIMIT 1000),
		took AS (SELECT c.instance_id, extract(epoch FROM max(p.ended_at) - min(p.started_at)) AS seconds FROM recent c
			JOIN run_steps p ON p.run_id = c.id GROUP BY c.id, c.instance_id)
		SELECT instance_id, percentile_cont(0.5) WITHIN GROUP (ORDER BY seconds) AS seconds FROM took
			GROUP BY GROUPING SETS ((instance_id), ())`
	var rows []struct {
		InstanceID *uuid.UUID
		Seconds    *float64
	}
	if err := s.db.WithContext(ctx).Raw(recent).Scan(&rows).Error; err != nil {
		return nil, 0, plain(err)
	}
	of = map[uuid.UUID]float64{}
	for _, r := range rows {
		switch {
		case r.Seconds == nil:
		case r.InstanceID == nil:
			all = *r.Seconds
		default:
			of[*r.InstanceID] = *r.Seconds
		}
	}
	return of, all, nil
}

// ReportedItems returns all items of a rotation in the order of its plan.
// Raw, since GORM has no lateral join.
func (s *Store) ReportedItems(ctx context.Context, id uuid.UUID) ([]record.ReportedItem, error) {
	var items []record.ReportedItem
	err := s.db.WithContext(ctx).
		Raw(`SELECT t.*, l.os_user, i.name AS instance_name, i.cloud_id, i.in_cloud,
			ok.sha256 AS old_sha256, nk.sha256 AS new_sha256,
			pb.at AS before_at, coalesce(pb.person, '') AS before_person, pa.at AS after_at, coalesce(pa.person,
				'') AS after_person
		FROM rotation_items t JOIN rotations r ON r.id = t.rotation_id JOIN logins l ON l.id = t.login_id
			JOIN instances i ON i.id = l.instance_id
		LEFT JOIN keys ok ON ok.id = t.old_key_id LEFT JOIN keys nk ON nk.id = t.new_key_id
		LEFT JOIN LATERAL (SELECT at, person FROM proofs WHERE kind = 'entry' AND login_id = t.login_id
			AND key_id = t.old_key_id AND at <= r.created_at ORDER BY at DESC LIMIT 1) pb ON true
		LEFT JOIN LATERAL (SELECT at, person FROM proofs WHERE kind = 'entry' AND login_id = t.login_id
			AND key_id = t.new_key_id AND at >= r.created_at ORDER BY at DESC LIMIT 1) pa ON true
		WHERE t.rotation_id = ? ORDER BY t.seq`, id).
		Scan(&items).
		Error
	return items, plain(err)
}

// RotatedKeys returns, by rotation, the keys that it replaces.
func (s *Store) RotatedKeys(ctx context.Context, ids ...uuid.UUID) (map[uuid.UUID]record.Some, error) {
	var rows []struct {
		RotationID uuid.UUID
		Names      []string `gorm:"serializer:json"`
		Total      int
	}
	err := s.db.WithContext(ctx).
		Model(&record.RotationItem{}).
		Select("rotation_id, jsonb_path_query_array(jsonb_agg(DISTINCT keys.name), '$[0 to 2]') AS names, "+
			"count(DISTINCT keys.id) AS total").
		Joins("JOIN keys ON keys.id = rotation_items.old_key_id").
		Where("rotation_id IN ?", ids).
		Group("rotation_id").
		Scan(&rows).
		Error
	old := map[uuid.UUID]record.Some{}
	for _, r := range rows {
		old[r.RotationID] = record.Some{Names: r.Names, Total: r.Total}
	}
	return old, plain(err)
}

// RotationCounts returns, by rotation, how many items are in which state.
func (s *Store) RotationCounts(
	ctx context.Context, ids ...uuid.UUID,
) (map[uuid.UUID]map[rotation.ItemState]int, error) {
	var rows []struct {
		RotationID uuid.UUID
		State      rotation.ItemState
		Count      int
	}
	err := s.db.WithContext(ctx).
		Model(&record.RotationItem{}).
		Select("rotation_id, state, count(*) AS count").
		Where("rotation_id IN ?", ids).
		Group("rotation_id, state").
		Scan(&rows).
		Error
	counts := map[uuid.UUID]map[rotation.ItemState]int{}
	for _, id := range ids {
		counts[id] = map[rotation.ItemState]int{}
	}
	for _, r := range rows {
		counts[r.RotationID][r.State] = r.Count
	}
	return counts, plain(err)
}

func (s *Store) rotationItems(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).
		Table("rotation_items").
		Joins("JOIN logins l ON l.id = rotation_items.login_id JOIN instances i ON i.id = l.instance_id").
		Select("rotation_items.*, l.os_user, i.name AS instance_name")
}

// RotationItems returns one page of the items of a rotation in the order of its
// plan. state "" means all.
func (s *Store) RotationItems(
	ctx context.Context, id uuid.UUID, state rotation.ItemState, p record.Page,
) (record.List[record.RotationItem], error) {
	q := s.rotationItems(ctx).Where("rotation_items.rotation_id = ?", id)
	if state != "" {
		q = q.Where("rotation_items.state = ?", state)
	}
	page, err := seek(q, order{columns: []string{"lpad(rotation_items.seq::text, 9, '0')"}}, p)
	if err != nil {
		return record.List[record.RotationItem]{}, err
	}
	var items []record.RotationItem
	if err := page.Scan(&items).Error; err != nil {
		return record.List[record.RotationItem]{}, plain(err)
	}
	return cut(items, p, func(i record.RotationItem) []string { return []string{fmt.Sprintf("%09d", i.Seq)} }), nil
}

// ItemsIn returns at most limit items of a rotation that are in the state and
// before the place, in the order of the plan; those on whose instance no run is at
// work, and on whose login no rotation that was begun earlier. elsewhere are those that
// are edited from somebody's machine, otherwise all others. beyond 0 means all places.
func (s *Store) ItemsIn(
	ctx context.Context, id uuid.UUID, state rotation.ItemState, elsewhere bool, beyond, limit int,
) ([]record.RotationItem, error) {
	q := s.rotationItems(ctx).Where("rotation_items.rotation_id = ? AND rotation_items.state = ?", id, state).
		Where("(rotation_items.means = 'from here') = ?", elsewhere).
		Where("NOT EXISTS (SELECT 1 FROM runs r WHERE r.instance_id = i.id AND r.ended_at IS NULL)").
		Where(`NOT EXISTS (SELECT 1 FROM rotation_items o JOIN rotations e ON e.id = o.rotation_id
			AND e.ended_at IS NULL JOIN rotations m ON m.id = rotation_items.rotation_id
			WHERE o.login_id = rotation_items.login_id AND o.ended_at IS NULL
				AND o.rotation_id <> rotation_items.rotation_id AND (e.created_at, e.id) < (m.created_at, m.id))`)
	if beyond > 0 {
		q = q.Where("rotation_items.seq < ?", beyond)
	}
	var items []record.RotationItem
	err := q.Order("rotation_items.seq").Limit(limit).Scan(&items).Error
	return items, plain(err)
}

// FirstGroup returns how many of the first n items of a rotation are in which state.
func (s *Store) FirstGroup(ctx context.Context, id uuid.UUID, n int) (map[rotation.ItemState]int, error) {
	var rows []struct {
		State rotation.ItemState
		Count int
	}
	err := s.db.WithContext(ctx).
		Model(&record.RotationItem{}).
		Select("state, count(*) AS count").
		Where("rotation_id = ? AND seq < ?", id, n).
		Group("state").
		Scan(&rows).
		Error
	counts := map[rotation.ItemState]int{}
	for _, r := range rows {
		counts[r.State] = r.Count
	}
	return counts, plain(err)
}

// ProveEntered makes the placed items of a rotation proved whose new key has completed a login since it
// was placed. Raw, since GORM updates no table from a join with another.
func (s *Store) ProveEntered(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Exec(`UPDATE rotation_items t
		SET state = 'proved', proved_at = s.entered_at, detail = ''
		FROM sightings s
		WHERE t.rotation_id = ? AND t.state = 'placed' AND s.login_id = t.login_id AND s.key_id = t.new_key_id
			AND s.entered_at IS NOT NULL AND (t.entered_before IS NULL OR s.entered_at > t.entered_before)`, id).Error)
}

// ItemTurn is what an item of a rotation comes to next.
type ItemTurn struct {
	ID    uuid.UUID
	State rotation.ItemState
	// Run is its run from now on, nil for the earlier one; EndedAt when it ended, nil for not.
	Run     *uuid.UUID
	Detail  string
	EndedAt *time.Time
}

// TurnItems gives items their next states. Raw, since GORM updates no rows to values of their own.
func (s *Store) TurnItems(ctx context.Context, turns []ItemTurn) error {
	if len(turns) == 0 {
		return nil
	}
	var ids [][16]byte
	var runs []*uuid.UUID
	var states, details []string
	var ends []*time.Time
	for _, t := range turns {
		ids, runs, states = append(ids, t.ID), append(runs, t.Run), append(states, string(t.State))
		details, ends = append(details, t.Detail), append(ends, t.EndedAt)
	}
	_, err := s.db.Statement.ConnPool.ExecContext(ctx, `UPDATE rotation_items t
		SET state = n.state, run_id = COALESCE(n.run, t.run_id), detail = n.detail,
			ended_at = COALESCE(n.ended, t.ended_at)
		FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[], $5::timestamptz[]) AS n (id, run, state, detail, ended)
		WHERE t.id = n.id`, ids, runs, states, details, ends)
	return plain(err)
}

// ItemByID returns an item of a rotation.
func (s *Store) ItemByID(ctx context.Context, id uuid.UUID) (record.RotationItem, error) {
	var i record.RotationItem
	err := s.db.WithContext(ctx).Model(&record.RotationItem{}).Where("id = ?", id).Take(&i).Error
	return i, plain(err)
}

// ItemsBeside returns the items of a rotation whose new line is beside the old one: all, or that of
// one login. Each comes with whether the old key is lost.
func (s *Store) ItemsBeside(
	ctx context.Context, id, login uuid.UUID,
) (items []record.RotationItem, lost map[uuid.UUID]bool, err error) {
	q := s.db.WithContext(ctx).
		Table("rotation_items i").
		Select("i.*, k.state = 'lost' AS old_lost").
		Joins("LEFT JOIN keys k ON k.id = i.old_key_id").
		Where("i.rotation_id = ? AND i.state IN ('placed', 'proved')", id)
	if login != uuid.Nil {
		q = q.Where("i.login_id = ?", login)
	}
	var rows []struct {
		record.RotationItem
		OldLost bool
	}
	err = q.Scan(&rows).Error
	lost = map[uuid.UUID]bool{}
	for _, r := range rows {
		items = append(items, r.RotationItem)
		if r.OldLost {
			lost[r.ID] = true
		}
	}
	return items, lost, plain(err)
}

// ChangeItemsByID changes items.
func (s *Store) ChangeItemsByID(ctx context.Context, ids []uuid.UUID, c record.ItemChange) error {
	if len(ids) == 0 {
		return nil
	}
	return plain(s.db.WithContext(ctx).Model(&record.RotationItem{}).Where("id IN ?", ids).Updates(&c).Error)
}

// BusyItems counts the items of a rotation on which a run is at work, up to limit.
func (s *Store) BusyItems(ctx context.Context, id uuid.UUID, limit int) (int, error) {
	var busy []uuid.UUID
	states := []rotation.ItemState{rotation.ItemPlacing, rotation.ItemRemoving}
	err := s.itemsOf(ctx, id, uuid.Nil, states).Limit(limit).Pluck("id", &busy).Error
	return len(busy), plain(err)
}

// ChangeItem changes an item.
func (s *Store) ChangeItem(ctx context.Context, id uuid.UUID, c record.ItemChange) error {
	return plain(s.db.WithContext(ctx).Model(&record.RotationItem{}).Where("id = ?", id).Updates(&c).Error)
}

// ForceItem notes who had an item's old line go without a login by the new key, and has the item continue.
func (s *Store) ForceItem(ctx context.Context, id uuid.UUID, by, why string) error {
	return plain(s.db.WithContext(ctx).Model(&record.RotationItem{}).Where("id = ?", id).
		Updates(map[string]any{"override_by": by, "override_why": why, "ended_at": nil}).Error)
}

// ChangeItems changes the items of a rotation that are in one of the states.
// login is one login's only, the zero one means all. It returns how many.
func (s *Store) ChangeItems(
	ctx context.Context, id, login uuid.UUID, states []rotation.ItemState, c record.ItemChange,
) (int, error) {
	done := s.itemsOf(ctx, id, login, states).Updates(&c)
	return int(done.RowsAffected), plain(done.Error)
}

// RetryItems has the failed items of a rotation begin from the start. login is one login's only, the zero
// one means all. It returns how many.
func (s *Store) RetryItems(ctx context.Context, id, login uuid.UUID) (int, error) {
	done := s.itemsOf(ctx, id, login, []rotation.ItemState{rotation.ItemFailed}).Updates(map[string]any{
		"state": rotation.ItemWaiting, "detail": "", "ended_at": nil, "placed_at": nil, "proved_at": nil,
		"override_by": "", "override_why": "",
	})
	return int(done.RowsAffected), plain(done.Error)
}

func (s *Store) itemsOf(ctx context.Context, id, login uuid.UUID, states []rotation.ItemState) *gorm.DB {
	q := s.db.WithContext(ctx).Model(&record.RotationItem{}).Where("rotation_id = ? AND state IN ?", id, states)
	if login != uuid.Nil {
		q = q.Where("login_id = ?", login)
	}
	return q
}

// RotatingLogins returns those of the logins that a rotation other than the one is at
// work on, with that rotation's id.
func (s *Store) RotatingLogins(
	ctx context.Context, logins []uuid.UUID, but uuid.UUID,
) (map[uuid.UUID]uuid.UUID, error) {
	var rows []struct{ LoginID, RotationID uuid.UUID }
	err := s.db.WithContext(ctx).
		Table("rotation_items t").
		Distinct("t.login_id", "t.rotation_id").
		Joins("JOIN rotations r ON r.id = t.rotation_id AND r.ended_at IS NULL").
		Where("t.login_id IN ? AND t.ended_at IS NULL AND t.rotation_id <> ?", logins, but).
		Scan(&rows).
		Error
	of := map[uuid.UUID]uuid.UUID{}
	for _, r := range rows {
		of[r.LoginID] = r.RotationID
	}
	return of, plain(err)
}

// ItemOf returns the item of a login in a rotation that is in one of the states.
func (s *Store) ItemOf(
	ctx context.Context, id, login uuid.UUID, states []rotation.ItemState,
) (record.RotationItem, error) {
	var i record.RotationItem
	done := s.rotationItems(ctx).
		Where(
			"rotation_items.rotation_id = ? AND rotation_items.login_id = ? AND rotation_items.state IN ?", id, login,
			states,
		).
		Limit(1).
		Scan(&i)
	if done.Error == nil && done.RowsAffected == 0 {
		return i, ErrNotFound
	}
	return i, plain(done.Error)
}

// KeysInPlace returns the keys that are in place somewhere or should be, but for steward keys: how they are judged,
// in how many logins, and on how many instances they were seen. Raw, for the union of what is granted and what was
// seen.
func (s *Store) KeysInPlace(ctx context.Context) ([]record.KeyInPlace, error) {
	var out []record.KeyInPlace
	err := s.db.WithContext(ctx).Raw(`SELECT k.type, k.bits, k.created_at, k.state, p.lines, p.instances FROM (
			SELECT p.key_id, count(*) AS lines, count(DISTINCT l.instance_id) FILTER (WHERE p.seen) AS instances FROM (
				SELECT key_id, login_id, bool_or(seen) AS seen FROM (
					SELECT key_id, login_id, false AS seen FROM grants WHERE withdrawn_at IS NULL
					UNION ALL SELECT key_id, login_id, true FROM sightings WHERE present) e
				GROUP BY key_id, login_id) p
			JOIN logins l ON l.id = p.login_id JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL
			GROUP BY p.key_id) p
		JOIN keys k ON k.id = p.key_id AND k.steward_of IS NULL`).Scan(&out).Error
	return out, plain(err)
}
