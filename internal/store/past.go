package store

import (
	"context"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// PastLogins returns one page of logins that a question about the past is about, also of instances that are
// gone, by instance and user.
func (s *Store) PastLogins(
	ctx context.Context, f record.PastFilter, p record.Page,
) (record.List[record.PastLogin], error) {
	q := s.db.WithContext(ctx).
		Table("logins l").
		Joins("JOIN instances i ON i.id = l.instance_id").
		Where("i.created_at <= ?", f.Until)
	if f.Instance != "" {
		q = q.Where("i.name = ?", f.Instance)
	}
	if f.OSUser != "" {
		q = q.Where("l.os_user = ?", f.OSUser)
	}
	if f.Keys != nil {
		q = q.Where(
			"l.id IN (SELECT login_id FROM sightings WHERE key_id IN ? UNION SELECT login_id FROM grants WHERE key_id IN ?)",
			f.Keys, f.Keys,
		)
	}
	q = withLabel(q, "i", f.LabelName, f.LabelText)
	page, err := seek(q, order{columns: []string{"i.name", "l.os_user", "l.id::text"}}, p)
	if err != nil {
		return record.List[record.PastLogin]{}, err
	}
	var items []record.PastLogin
	err = page.Select("l.id, l.os_user, i.name AS instance_name, i.gone_at").Scan(&items).Error
	if err != nil {
		return record.List[record.PastLogin]{}, plain(err)
	}
	return cut(items, p, func(l record.PastLogin) []string {
		return []string{l.InstanceName, l.OSUser, l.ID.String()}
	}), nil
}

// AllVersions returns all contents that are kept of the files of logins, by login, in the order in which they were
// seen.
func (s *Store) AllVersions(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID][]record.FileVersion, error) {
	var rows []record.FileVersion
	err := s.db.WithContext(ctx).
		Where("login_id IN ?", logins).
		Order("login_id, path, seen_at").
		Find(&rows).
		Error
	out := map[uuid.UUID][]record.FileVersion{}
	for _, v := range rows {
		out[v.LoginID] = append(out[v.LoginID], v)
	}
	return out, plain(err)
}

// AllGrants returns all grants that there ever were in logins, the older first.
func (s *Store) AllGrants(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID][]record.Grant, error) {
	var rows []record.Grant
	err := s.db.WithContext(ctx).Where("login_id IN ?", logins).Order("granted_at").Find(&rows).Error
	out := map[uuid.UUID][]record.Grant{}
	for _, g := range rows {
		out[g.LoginID] = append(out[g.LoginID], g)
	}
	return out, plain(err)
}

// HandoversDone returns the completed hand-overs of keys, with the names of the holders.
func (s *Store) HandoversDone(ctx context.Context, keys []uuid.UUID) ([]record.Handover, error) {
	var rows []record.Handover
	err := s.db.WithContext(ctx).
		Table("handovers h").
		Select("h.*, f.name AS from_name, t.name AS to_name").
		Joins("LEFT JOIN holders f ON f.id = h.from_holder").
		Joins("JOIN holders t ON t.id = h.to_holder").
		Where("h.key_id IN ? AND h.outcome = 'proved'", keys).
		Scan(&rows).
		Error
	return rows, plain(err)
}

// KeysEverHeldBy returns the keys of a holder, also those that were handed over since.
func (s *Store) KeysEverHeldBy(ctx context.Context, holder uuid.UUID) (ids []uuid.UUID, err error) {
	err = s.db.WithContext(ctx).
		Table("keys").
		Distinct("keys.id").
		Joins("LEFT JOIN handovers h ON h.key_id = keys.id AND h.outcome = 'proved'").
		Where("keys.holder_id = ? OR h.from_holder = ? OR h.to_holder = ?", holder, holder, holder).
		Pluck("keys.id", &ids).
		Error
	return ids, plain(err)
}
