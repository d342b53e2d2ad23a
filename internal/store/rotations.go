package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// AddRotation keeps a new rotation with its items.
func (s *Store) AddRotation(ctx context.Context, r Rotation, items []RotationItem) error {
	db := s.db.WithContext(ctx)
	if err := db.Create(&r).Error; err != nil {
		return plain(err)
	}
	return plain(db.CreateInBatches(items, 500).Error)
}

// RotationByID returns a rotation.
func (s *Store) RotationByID(ctx context.Context, id uuid.UUID) (Rotation, error) {
	var r Rotation
	err := s.db.WithContext(ctx).Where("id = ?", id).Take(&r).Error
	return r, plain(err)
}

// LockRotation returns a rotation and keeps others from changing it until the
// transaction ends.
func (s *Store) LockRotation(ctx context.Context, id uuid.UUID) (Rotation, error) {
	var r Rotation
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Take(&r).Error
	return r, plain(err)
}

// LiveRotations returns the ids of the rotations that have not ended.
func (s *Store) LiveRotations(ctx context.Context) ([]uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).Model(&Rotation{}).Where("ended_at IS NULL").Order("created_at").Pluck("id", &ids).Error
	return ids, plain(err)
}

// Rotations returns one page of rotations, the newest first, without what their plans
// left out.
func (s *Store) Rotations(ctx context.Context, p Page) (List[Rotation], error) {
	q := s.db.WithContext(ctx).Model(&Rotation{}).Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"created_at", "id"}, down: true}, p)
	if err != nil {
		return List[Rotation]{}, err
	}
	var items []Rotation
	if err := page.Omit("left_out").Find(&items).Error; err != nil { // which may be long
		return List[Rotation]{}, plain(err)
	}
	l := cut(items, p, func(r Rotation) []string { return []string{stamp(r.CreatedAt), r.ID.String()} })
	return l, count(q, p, &l.Total)
}

// RotationCounts returns, by rotation, how many items are in which state.
func (s *Store) RotationCounts(ctx context.Context, ids ...uuid.UUID) (map[uuid.UUID]map[string]int, error) {
	var rows []struct {
		RotationID uuid.UUID
		State      string
		Count      int
	}
	err := s.db.WithContext(ctx).
		Raw(
			"SELECT rotation_id, state, count(*) AS count FROM rotation_items WHERE rotation_id IN ? GROUP BY rotation_id, "+
				"state",
			ids,
		).
		Scan(&rows).
		Error
	counts := map[uuid.UUID]map[string]int{}
	for _, id := range ids {
		counts[id] = map[string]int{}
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
func (s *Store) RotationItems(ctx context.Context, id uuid.UUID, state string, p Page) (List[RotationItem], error) {
	q := s.rotationItems(ctx).Where("rotation_items.rotation_id = ?", id)
	if state != "" {
		q = q.Where("rotation_items.state = ?", state)
	}
	page, err := seek(q, order{columns: []string{"lpad(rotation_items.seq::text, 9, '0')"}}, p)
	if err != nil {
		return List[RotationItem]{}, err
	}
	var items []RotationItem
	if err := page.Scan(&items).Error; err != nil {
		return List[RotationItem]{}, plain(err)
	}
	return cut(items, p, func(i RotationItem) []string { return []string{fmt.Sprintf("%09d", i.Seq)} }), nil
}

// ItemsIn returns at most limit items of a rotation that are in the state and
// before the place, in the order of the plan; those on whose instance no run is at
// work, and on whose login no rotation that was begun earlier. elsewhere are those that
// are edited from somebody's machine, otherwise all others. beyond 0 means all places.
func (s *Store) ItemsIn(
	ctx context.Context,
	rotation uuid.UUID,
	state string,
	elsewhere bool,
	beyond, limit int,
) ([]RotationItem, error) {
	q := s.rotationItems(ctx).Where("rotation_items.rotation_id = ? AND rotation_items.state = ?", rotation, state).
		Where("(rotation_items.means = 'from here') = ?", elsewhere).
		Where("NOT EXISTS (SELECT 1 FROM runs r WHERE r.instance_id = i.id AND r.ended_at IS NULL)").
		Where(`NOT EXISTS (SELECT 1 FROM rotation_items o JOIN rotations e ON e.id = o.rotation_id
			AND e.ended_at IS NULL JOIN rotations m ON m.id = rotation_items.rotation_id
			WHERE o.login_id = rotation_items.login_id AND o.ended_at IS NULL
				AND o.rotation_id <> rotation_items.rotation_id AND (e.created_at, e.id) < (m.created_at, m.id))`)
	if beyond > 0 {
		q = q.Where("rotation_items.seq < ?", beyond)
	}
	var items []RotationItem
	err := q.Order("rotation_items.seq").Limit(limit).Scan(&items).Error
	return items, plain(err)
}

// FirstGroup returns how many of the first n items of a rotation are in which state.
func (s *Store) FirstGroup(ctx context.Context, rotation uuid.UUID, n int) (map[string]int, error) {
	var rows []struct {
		State string
		Count int
	}
	err := s.db.WithContext(ctx).
		Raw(
			"SELECT state, count(*) AS count FROM rotation_items WHERE rotation_id = ? AND seq < ? GROUP BY state",
			rotation,
			n,
		).
		Scan(&rows).
		Error
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.State] = r.Count
	}
	return counts, plain(err)
}

// EnteredItems returns the items of a rotation that are placed and whose new key has
// completed a login since, with when.
func (s *Store) EnteredItems(ctx context.Context, rotation uuid.UUID) (map[uuid.UUID]time.Time, error) {
	var rows []struct {
		ID        uuid.UUID
		EnteredAt time.Time
	}
	err := s.db.WithContext(ctx).Raw(`SELECT t.id, s.entered_at FROM rotation_items t
		JOIN sightings s ON s.login_id = t.login_id AND s.key_id = t.new_key_id AND s.entered_at IS NOT NULL
			AND (t.entered_before IS NULL OR s.entered_at > t.entered_before)
		WHERE t.rotation_id = ? AND t.state = 'placed'`, rotation).Scan(&rows).Error
	entered := map[uuid.UUID]time.Time{}
	for _, r := range rows {
		entered[r.ID] = r.EnteredAt
	}
	return entered, plain(err)
}

// ItemByID returns an item of a rotation.
func (s *Store) ItemByID(ctx context.Context, id uuid.UUID) (RotationItem, error) {
	var i RotationItem
	err := s.db.WithContext(ctx).Model(&RotationItem{}).Where("id = ?", id).Take(&i).Error
	return i, plain(err)
}

// ItemsBeside returns the items of a rotation whose new line is beside the old one: all, or that of
// one login. Each comes with whether the old key is lost.
func (s *Store) ItemsBeside(
	ctx context.Context,
	rotation, login uuid.UUID,
) (items []RotationItem, lost map[uuid.UUID]bool, err error) {
	q := s.db.WithContext(ctx).
		Table("rotation_items i").
		Select("i.*, k.state = 'lost' AS old_lost").
		Joins("LEFT JOIN keys k ON k.id = i.old_key_id").
		Where("i.rotation_id = ? AND i.state IN ('placed', 'proved')", rotation)
	if login != uuid.Nil {
		q = q.Where("i.login_id = ?", login)
	}
	var rows []struct {
		RotationItem
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

// ChangeItemsByID changes columns of items.
func (s *Store) ChangeItemsByID(ctx context.Context, ids []uuid.UUID, columns map[string]any) error {
	if len(ids) == 0 {
		return nil
	}
	return plain(s.db.WithContext(ctx).Table("rotation_items").Where("id IN ?", ids).Updates(columns).Error)
}

// LastEntered returns when the key last opened the login; nil where it is not known to.
func (s *Store) LastEntered(ctx context.Context, login, key uuid.UUID) (*time.Time, error) {
	var at []struct{ EnteredAt *time.Time }
	err := s.db.WithContext(ctx).
		Raw("SELECT entered_at FROM sightings WHERE login_id = ? AND key_id = ?", login, key).
		Scan(&at).
		Error
	if err != nil || len(at) == 0 {
		return nil, plain(err)
	}
	return at[0].EnteredAt, nil
}

// BusyItems counts the items of a rotation on which a run is at work, up to limit.
func (s *Store) BusyItems(ctx context.Context, rotation uuid.UUID, limit int) (int, error) {
	var n int
	err := s.db.WithContext(ctx).
		Raw(
			"SELECT count(*) FROM (SELECT 1 FROM rotation_items WHERE rotation_id = ? AND state IN ('placing', 'removing') "+
				"LIMIT ?) b",
			rotation,
			limit,
		).
		Scan(&n).
		Error
	return n, plain(err)
}

// ChangeItem sets columns of an item.
func (s *Store) ChangeItem(ctx context.Context, id uuid.UUID, columns map[string]any) error {
	return plain(s.db.WithContext(ctx).Model(&RotationItem{}).Where("id = ?", id).Updates(columns).Error)
}

// ChangeItems sets columns of the items of a rotation that are in one of the states.
// login is one login's only, the zero one means all. It returns how many.
func (s *Store) ChangeItems(
	ctx context.Context,
	rotation, login uuid.UUID,
	states []string,
	columns map[string]any,
) (int, error) {
	q := s.db.WithContext(ctx).Model(&RotationItem{}).Where("rotation_id = ? AND state IN ?", rotation, states)
	if login != uuid.Nil {
		q = q.Where("login_id = ?", login)
	}
	done := q.Updates(columns)
	return int(done.RowsAffected), plain(done.Error)
}

// ChangeRotation sets columns of a rotation.
func (s *Store) ChangeRotation(ctx context.Context, id uuid.UUID, columns map[string]any) error {
	return plain(s.db.WithContext(ctx).Model(&Rotation{}).Where("id = ?", id).Updates(columns).Error)
}

// RotatingLogins returns those of the logins that a rotation other than the one is at
// work on, with that rotation's id.
func (s *Store) RotatingLogins(
	ctx context.Context,
	logins []uuid.UUID,
	but uuid.UUID,
) (map[uuid.UUID]uuid.UUID, error) {
	var rows []struct{ LoginID, RotationID uuid.UUID }
	err := s.db.WithContext(ctx).
		Raw(`SELECT DISTINCT t.login_id, t.rotation_id FROM rotation_items t JOIN rotations r ON r.id = t.rotation_id
			AND r.ended_at IS NULL
		WHERE t.login_id IN ? AND t.ended_at IS NULL AND t.rotation_id <> ?`, logins, but).
		Scan(&rows).
		Error
	of := map[uuid.UUID]uuid.UUID{}
	for _, r := range rows {
		of[r.LoginID] = r.RotationID
	}
	return of, plain(err)
}

// GrantedAmong tells which of the items have an old key that is granted in the login.
func (s *Store) GrantedAmong(ctx context.Context, items []uuid.UUID) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).
		Raw(`SELECT t.id FROM rotation_items t WHERE t.id IN ? AND EXISTS (SELECT 1 FROM grants g
			WHERE g.login_id = t.login_id AND g.key_id = t.old_key_id AND g.withdrawn_at IS NULL)`, items).
		Scan(&ids).
		Error
	granted := map[uuid.UUID]bool{}
	for _, id := range ids {
		granted[id] = true
	}
	return granted, plain(err)
}

// ItemOf returns the item of a login in a rotation that is in one of the states.
func (s *Store) ItemOf(ctx context.Context, rotation, login uuid.UUID, states []string) (RotationItem, error) {
	var i RotationItem
	done := s.rotationItems(ctx).
		Where(
			"rotation_items.rotation_id = ? AND rotation_items.login_id = ? AND rotation_items.state IN ?",
			rotation,
			login,
			states,
		).
		Limit(1).
		Scan(&i)
	if done.Error == nil && done.RowsAffected == 0 {
		return i, ErrNotFound
	}
	return i, plain(done.Error)
}

// KeysByID returns the keys with their keepers, in no order.
func (s *Store) KeysByID(ctx context.Context, ids []uuid.UUID) ([]Key, error) {
	var keys []Key
	err := s.db.WithContext(ctx).Preload("Keeper").Where("id IN ?", ids).Find(&keys).Error
	return keys, plain(err)
}

// NamesUnder returns the names of keys that are one of the stems, or one with a
// hyphen and more after it.
func (s *Store) NamesUnder(ctx context.Context, stems []string) ([]string, error) {
	var patterns []string
	for _, stem := range stems {
		patterns = append(patterns, strings.ReplaceAll(stem, "_", `\_`)+"-%") // names have no other letter that LIKE knows
	}
	rows, err := s.db.Statement.ConnPool.QueryContext(
		ctx,
		"SELECT name FROM keys WHERE name = ANY($1) OR name LIKE ANY($2)",
		stems,
		patterns,
	)
	if err != nil {
		return nil, plain(err)
	}
	defer rows.Close()
	var names []string
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			return nil, plain(err)
		}
		names = append(names, n)
	}
	return names, plain(rows.Err())
}

// InstancesOfKeys returns on how many instances each of the keys stands.
func (s *Store) InstancesOfKeys(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]int, error) {
	var rows []struct {
		KeyID uuid.UUID
		Count int
	}
	err := s.db.WithContext(ctx).
		Raw(`SELECT s.key_id, count(DISTINCT l.instance_id) AS count FROM sightings s JOIN logins l ON l.id = s.login_id
		JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL WHERE s.present AND s.key_id IN ?
			GROUP BY s.key_id`, ids).
		Scan(&rows).
		Error
	counts := map[uuid.UUID]int{}
	for _, r := range rows {
		counts[r.KeyID] = r.Count
	}
	return counts, plain(err)
}

// MoreToReplace reports whether a rotation has an item of the old key that has not ended.
func (s *Store) MoreToReplace(ctx context.Context, old uuid.UUID) (bool, error) {
	var n int
	err := s.db.WithContext(ctx).
		Raw("SELECT count(*) FROM (SELECT 1 FROM rotation_items WHERE old_key_id = ? AND ended_at IS NULL LIMIT 1) m", old).
		Scan(&n).
		Error
	return n > 0, plain(err)
}

// RetireUnused marks a key as retired where nothing grants it and it was seen
// nowhere at the last looks. It returns whether it did.
func (s *Store) RetireUnused(ctx context.Context, key uuid.UUID) (bool, error) {
	done := s.db.WithContext(ctx).Exec(`UPDATE keys SET state = 'retired' WHERE id = ? AND state = 'active'
		AND NOT EXISTS (SELECT 1 FROM grants WHERE key_id = keys.id AND withdrawn_at IS NULL)
		AND NOT EXISTS (SELECT 1 FROM sightings s JOIN logins l ON l.id = s.login_id
			JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL WHERE s.key_id = keys.id AND s.present)`, key)
	return done.RowsAffected > 0, plain(done.Error)
}

// InstancesOfLogins returns the instances of logins, by login.
func (s *Store) InstancesOfLogins(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID]Instance, error) {
	var rows []struct {
		Instance
		LoginID uuid.UUID
	}
	err := s.db.WithContext(ctx).
		Table("instances").
		Joins("JOIN logins l ON l.instance_id = instances.id").
		Where("l.id IN ?", logins).
		Select("instances.*, l.id AS login_id").
		Scan(&rows).
		Error
	of := map[uuid.UUID]Instance{}
	for _, r := range rows {
		of[r.LoginID] = r.Instance
	}
	return of, plain(err)
}

// KeptAmong tells of which of the keys the safe has the private half.
func (s *Store) KeptAmong(ctx context.Context, keys []uuid.UUID) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).Model(&KeptHalf{}).Where("key_id IN ?", keys).Pluck("key_id", &ids).Error
	kept := map[uuid.UUID]bool{}
	for _, id := range ids {
		kept[id] = true
	}
	return kept, plain(err)
}

// KeptHalf returns the sealed private half of a key; ErrNotFound where the safe has none.
func (s *Store) KeptHalf(ctx context.Context, key uuid.UUID) (KeptHalf, error) {
	var h KeptHalf
	err := s.db.WithContext(ctx).Where("key_id = ?", key).Take(&h).Error
	return h, plain(err)
}

// ReleaseHalf records that a kept half was handed over; false where it was before.
func (s *Store) ReleaseHalf(ctx context.Context, key uuid.UUID, to string, at time.Time) (bool, error) {
	done := s.db.WithContext(ctx).
		Model(&KeptHalf{}).
		Where("key_id = ? AND released_at IS NULL", key).
		Updates(map[string]any{"released_at": at, "released_to": to})
	return done.RowsAffected > 0, plain(done.Error)
}
