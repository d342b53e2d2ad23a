package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/grants"
	"plumlatch/internal/record"
)

// Grants returns one page of grants, by login and key, the older first.
func (s *Store) Grants(
	ctx context.Context, f record.GrantFilter, p record.Page,
) (record.List[record.GrantRecord], error) {
	q := s.db.WithContext(ctx).Table("grants g").
		Joins("JOIN logins l ON l.id = g.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL").
		Joins("JOIN keys k ON k.id = g.key_id").
		Joins("LEFT JOIN holders o ON o.id = k.holder_id").
		Joins("LEFT JOIN sightings s ON s.login_id = g.login_id AND s.key_id = g.key_id").
		Joins("LEFT JOIN public.charters c ON c.id = g.charter_id")
	if f.Ended {
		q = q.Where("g.withdrawn_at IS NOT NULL")
	} else {
		q = q.Where("g.withdrawn_at IS NULL")
	}
	if f.Own != nil {
		q = q.Where("(k.steward_of IS NOT NULL) = ?", *f.Own)
	}
	if f.WithEnd {
		q = q.Where("g.until IS NOT NULL")
	}
	if f.Overdue {
		q = q.Where("g.until <= ? AND (g.end_problem <> '' OR g.until <= ?)", f.At, f.At.Add(-grants.Patience))
	}
	for column, value := range map[string]string{
		"k.name":    f.Key,
		"o.name":    f.Holder,
		"i.name":    f.Instance,
		"l.os_user": f.OSUser,
	} {
		if value != "" {
			q = q.Where(column+" = ?", value)
		}
	}
	q = withLabel(q, "i", f.LabelName, f.LabelText).Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"i.name", "l.os_user", "k.name", "g.id::text"}}, p)
	if err != nil {
		return record.List[record.GrantRecord]{}, err
	}
	var items []record.GrantRecord
	page = page.Select(openingColumns + ", g.id, g.withdrawn_at, g.withdrawn_by, g.end_by, g.end_problem, " +
		"coalesce(c.name, '') AS charter, g.charter_at, g.limits AS grant_limits")
	if err := page.Scan(&items).Error; err != nil {
		return record.List[record.GrantRecord]{}, plain(err)
	}
	l := cut(items, p, func(g record.GrantRecord) []string {
		return []string{g.InstanceName, g.OSUser, g.KeyName, g.ID.String()}
	})
	return l, count(q, p, &l.Total)
}

// GrantedKeys returns the keys that are granted in a login, by name.
func (s *Store) GrantedKeys(ctx context.Context, login uuid.UUID) ([]record.Key, error) {
	var keys []record.Key
	err := s.db.WithContext(ctx).
		Select("keys.*").
		Joins("JOIN grants g ON g.key_id = keys.id AND g.withdrawn_at IS NULL AND g.login_id = ?", login).
		Order("keys.name").
		Find(&keys).
		Error
	return keys, plain(err)
}

// AddGrants records that keys should open logins.
func (s *Store) AddGrants(ctx context.Context, all []record.Grant) error {
	if len(all) == 0 {
		return nil
	}
	for n := range all {
		if all[n].EndBy == "" {
			all[n].EndBy = grants.ByService
		}
	}
	return plain(s.db.WithContext(ctx).CreateInBatches(all, 1000).Error)
}

// WithdrawGrantsOf ends all grants in the logins of an instance.
func (s *Store) WithdrawGrantsOf(ctx context.Context, instance uuid.UUID, at time.Time, by string) error {
	db := s.db.WithContext(ctx)
	logins := db.Model(&record.Login{}).Select("id").Where("instance_id = ?", instance)
	return plain(
		db.Model(&record.Grant{}).
			Where("withdrawn_at IS NULL AND login_id IN (?)", logins).
			Updates(map[string]any{"withdrawn_at": at, "withdrawn_by": by}).
			Error,
	)
}

// AddOrKeepGrant records a grant; one that is live already is kept, with the
// new end, limits and reason. added is whether it is new.
func (s *Store) AddOrKeepGrant(ctx context.Context, g record.Grant) (added bool, err error) {
	if g.EndBy == "" {
		g.EndBy = grants.ByService
	}
	db := s.db.WithContext(ctx)
	kept := db.Model(&record.Grant{}).Where("key_id = ? AND login_id = ? AND withdrawn_at IS NULL", g.KeyID, g.LoginID).
		Updates(map[string]any{
			"until": g.Until, "reason": g.Reason, "end_by": g.EndBy, "end_problem": "", "end_told_at": nil,
			"limits": g.Limits, "forced": g.Forced,
		})
	if kept.Error != nil || kept.RowsAffected > 0 {
		return false, plain(kept.Error)
	}
	return true, plain(db.Create(&g).Error)
}

// ReplaceGrant grants the login to a key in the place of another, until when that was
// granted, and ends the other's grant where withdraw is set.
// Raw, since GORM has no statement that changes two rows in different ways.
func (s *Store) ReplaceGrant(ctx context.Context, g record.Grant, old uuid.UUID, withdraw bool) error {
	return plain(
		s.db.WithContext(ctx).
			Exec(`WITH replaced AS (SELECT until, end_by, charter_id, charter_at, limits, forced FROM grants
			WHERE login_id = @login AND key_id = @old AND withdrawn_at IS NULL),
		withdrawn AS (UPDATE grants SET withdrawn_at = @at, withdrawn_by = @by WHERE @withdraw AND login_id = @login
			AND key_id = @old AND withdrawn_at IS NULL)
		INSERT INTO grants (id, key_id, login_id, granted_at, granted_by, reason, until, end_by, charter_id, charter_at,
				limits, forced)
			SELECT @id, @key, @login, @at, @by, @reason, (SELECT until FROM replaced),
				coalesce((SELECT end_by FROM replaced), 'service'), (SELECT charter_id FROM replaced),
				coalesce((SELECT charter_at FROM replaced), ''), coalesce((SELECT limits FROM replaced), ''),
				coalesce((SELECT forced FROM replaced), false)
		ON CONFLICT (login_id, key_id) WHERE withdrawn_at IS NULL DO UPDATE
			SET until = excluded.until, reason = excluded.reason, end_by = excluded.end_by, end_problem = '',
				end_told_at = NULL, limits = excluded.limits, forced = excluded.forced`,
				map[string]any{
					"id":       g.ID,
					"key":      g.KeyID,
					"login":    g.LoginID,
					"old":      old,
					"at":       g.GrantedAt,
					"by":       g.GrantedBy,
					"reason":   g.Reason,
					"withdraw": withdraw,
				}).
			Error,
	)
}

// WithdrawGrant ends the live grant of the key in the login, if there is one.
func (s *Store) WithdrawGrant(ctx context.Context, login, key uuid.UUID, at time.Time, by string) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.Grant{}).
			Where("key_id = ? AND login_id = ? AND withdrawn_at IS NULL", key, login).
			Updates(map[string]any{"withdrawn_at": at, "withdrawn_by": by}).
			Error,
	)
}

// CountOverdue counts the grants that are in force at that time though their time is over.
func (s *Store) CountOverdue(ctx context.Context, now time.Time) (int, error) {
	l, err := s.Grants(ctx, record.GrantFilter{Overdue: true, At: now}, record.Page{Limit: 1, Total: true})
	if err != nil || l.Total == nil {
		return 0, err
	}
	return *l.Total, nil
}

// LiveGrant returns the grant in force of the key in the login; ErrNotFound where there is none.
func (s *Store) LiveGrant(ctx context.Context, login, key uuid.UUID) (g record.Grant, err error) {
	err = s.db.WithContext(ctx).Where("login_id = ? AND key_id = ? AND withdrawn_at IS NULL", login, key).Take(&g).Error
	return g, plain(err)
}

// LiveGrants returns the grants in force of some keys in the login, by key.
func (s *Store) LiveGrants(ctx context.Context, login uuid.UUID, keys []uuid.UUID) (map[uuid.UUID]record.Grant, error) {
	var found []record.Grant
	err := s.db.WithContext(ctx).
		Where("login_id = ? AND key_id IN ? AND withdrawn_at IS NULL", login, keys).
		Find(&found).
		Error
	out := make(map[uuid.UUID]record.Grant, len(found))
	for _, g := range found {
		out[g.KeyID] = g
	}
	return out, plain(err)
}

// GrantsOver returns at most limit live grants whose time is over by then; first those that nobody was
// told of, then the oldest.
func (s *Store) GrantsOver(ctx context.Context, now time.Time, limit int) ([]record.GrantOver, error) {
	return s.grantsOver(s.db.WithContext(ctx).Where("g.until <= ?", now), limit)
}

// GrantsEnding returns at most limit live grants that end between two times, and whose lines end by
// themselves as well.
func (s *Store) GrantsEnding(ctx context.Context, from, until time.Time, limit int) ([]record.GrantOver, error) {
	return s.grantsOver(
		s.db.WithContext(ctx).Where("g.until > ? AND g.until <= ? AND g.end_by <> ?", from, until, grants.ByService), limit,
	)
}

func (s *Store) grantsOver(q *gorm.DB, limit int) ([]record.GrantOver, error) {
	var over []record.GrantOver
	err := q.
		Table("grants g").
		Select(`g.id, g.login_id, g.key_id, k.name AS key_name, i.name AS instance_name, l.os_user, g.until, g.end_by,
			g.end_problem, g.end_told_at, g.limits`).
		Joins("JOIN keys k ON k.id = g.key_id").
		Joins("JOIN logins l ON l.id = g.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL").
		Where("g.withdrawn_at IS NULL").
		Order("g.end_told_at NULLS FIRST, g.until").
		Limit(limit).
		Scan(&over).
		Error
	return over, plain(err)
}

// NoteEndProblem records why a grant could not be withdrawn when its time was over, and that it was told.
func (s *Store) NoteEndProblem(ctx context.Context, grant uuid.UUID, why string, told time.Time) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.Grant{}).
			Where("id = ?", grant).
			Updates(map[string]any{"end_problem": why, "end_told_at": told}).
			Error,
	)
}

// SetEndBy records by what a grant ends.
func (s *Store) SetEndBy(ctx context.Context, login, key uuid.UUID, by grants.EndBy) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.Grant{}).
			Where("login_id = ? AND key_id = ? AND withdrawn_at IS NULL", login, key).
			Update("end_by", by).
			Error,
	)
}

// GrantedAmong tells which of the items have an old key that is granted in the login.
func (s *Store) GrantedAmong(ctx context.Context, items []uuid.UUID) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).
		Table("rotation_items t").
		Joins("JOIN grants g ON g.login_id = t.login_id AND g.key_id = t.old_key_id AND g.withdrawn_at IS NULL").
		Where("t.id IN ?", items).
		Pluck("t.id", &ids).
		Error
	granted := map[uuid.UUID]bool{}
	for _, id := range ids {
		granted[id] = true
	}
	return granted, plain(err)
}

// LimitAsSeen gives the grant in force of the key in the login the limits that its line was seen to have.
func (s *Store) LimitAsSeen(ctx context.Context, login, key uuid.UUID) error {
	var seen []record.Sighting
	db := s.db.WithContext(ctx)
	err := db.Where("login_id = ? AND key_id = ? AND present AND options IS NOT NULL", login, key).Find(&seen).Error
	if err != nil || len(seen) == 0 {
		return plain(err)
	}
	limits := *seen[0].Options
	return plain(
		db.Model(&record.Grant{}).
			Where("login_id = ? AND key_id = ? AND withdrawn_at IS NULL", login, key).
			Updates(map[string]any{"limits": limits, "forced": !authorizedkeys.OpensWith(limits)}).
			Error,
	)
}
