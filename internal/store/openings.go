package store

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/record"
)

const openingColumns = `k.name AS key_name, k.type AS key_type, k.bits AS key_bits, k.sha256 AS key_sha256,
	o.name AS holder_name,
	l.os_user, i.name AS instance_name, i.state AS instance_state, i.region,
	g.granted_at, g.until, g.granted_by, g.reason, s.seen_at, s.method, s.present, s.limits, s.expires_at, s.entered_at,
	k.proved_at,
	k.state AS key_state, k.steward_of IS NOT NULL AS steward`

// openings joins the pairs of key and login that a grant or a sighting names.
func (s *Store) openings(ctx context.Context, pairs string, id uuid.UUID) *gorm.DB {
	return s.db.WithContext(ctx).Table("("+pairs+") p", id, id).
		Joins("JOIN logins l ON l.id = p.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL").
		Joins("JOIN keys k ON k.id = p.key_id").
		Joins("LEFT JOIN holders o ON o.id = k.holder_id").
		Joins("LEFT JOIN grants g ON g.login_id = p.login_id AND g.key_id = p.key_id AND g.withdrawn_at IS NULL").
		Joins("LEFT JOIN sightings s ON s.login_id = p.login_id AND s.key_id = p.key_id").
		Session(&gorm.Session{})
}

// Opens returns one page of the logins that the key is granted or was seen in,
// by instance.
func (s *Store) Opens(ctx context.Context, key uuid.UUID, p record.Page) (record.List[record.Opening], error) {
	return pageOf(s.openings(ctx, `SELECT key_id, login_id FROM grants WHERE key_id = ? AND withdrawn_at IS NULL
		UNION SELECT key_id, login_id FROM sightings WHERE key_id = ?
			AND present`, key), order{columns: []string{"i.name", "l.os_user"}}, p,
		func(o record.Opening) []string { return []string{o.InstanceName, o.OSUser} })
}

// Openers returns one page of the keys that are granted or were seen in the
// logins of an instance, by login.
func (s *Store) Openers(ctx context.Context, instance uuid.UUID, p record.Page) (record.List[record.Opening], error) {
	return pageOf(
		s.openings(
			ctx,
			`SELECT key_id, login_id FROM grants WHERE withdrawn_at IS NULL AND login_id IN (SELECT id FROM logins
				WHERE instance_id = ?)
		UNION SELECT key_id, login_id FROM sightings WHERE present AND login_id IN (SELECT id FROM logins
			WHERE instance_id = ?)`,
			instance,
		),
		order{columns: []string{"l.os_user", "k.name"}},
		p,
		func(o record.Opening) []string { return []string{o.OSUser, o.KeyName} },
	)
}

func pageOf(
	q *gorm.DB, o order, p record.Page, cursor func(record.Opening) []string,
) (record.List[record.Opening], error) {
	page, err := seek(q, o, p)
	if err != nil {
		return record.List[record.Opening]{}, err
	}
	var items []record.Opening
	if err := page.Select(openingColumns).Scan(&items).Error; err != nil {
		return record.List[record.Opening]{}, plain(err)
	}
	l := cut(items, p, cursor)
	return l, count(q, p, &l.Total)
}
