package store

import (
	"context"
	"encoding/hex"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/record"
)

// Differences returns one page of differences, by login, and there by status and key. Lines by which nobody gets in are
// none.
func (s *Store) Differences(
	ctx context.Context, f record.DifferenceFilter, p record.Page,
) (record.List[record.Difference], error) {
	q := s.db.WithContext(ctx).Table(`(
			SELECT g.login_id, 'missing' AS status, g.key_id, k.name, k.holder_id, k.sha256, k.steward_of IS NOT NULL AS steward,
				g.granted_at AS since, s.seen_at
			FROM grants g JOIN sightings s ON s.login_id = g.login_id AND s.key_id = g.key_id AND NOT s.present
				JOIN keys k ON k.id = g.key_id
			WHERE g.withdrawn_at IS NULL
		UNION ALL
			SELECT s.login_id, 'ungranted', s.key_id, k.name, k.holder_id, k.sha256, k.steward_of IS NOT NULL, NULL, s.seen_at
			FROM sightings s JOIN keys k ON k.id = s.key_id
			WHERE s.present AND coalesce(s.options, '') !~ ? AND NOT EXISTS (SELECT 1 FROM grants g
				WHERE g.login_id = s.login_id AND g.key_id = s.key_id AND g.withdrawn_at IS NULL)
		UNION ALL
			SELECT login_id, 'stranger', NULL, comment, NULL, sha256, false, first_seen_at, seen_at FROM strangers
		) d`, authorizedkeys.SentAway).
		Joins("JOIN logins l ON l.id = d.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL").
		Joins("LEFT JOIN holders o ON o.id = d.holder_id")
	for column, value := range map[string]string{
		"i.name": f.Instance, "l.os_user": f.OSUser, "d.status": string(f.Status),
	} {
		if value != "" {
			q = q.Where(column+" = ?", value)
		}
	}
	if len(f.Logins) > 0 {
		q = q.Where("d.login_id IN ?", f.Logins)
	}
	if len(f.Digests) > 0 {
		q = q.Where("d.sha256 IN ?", f.Digests)
	}
	q = withLabel(q, "i", f.LabelName, f.LabelText)
	page, err := seek(
		q, order{columns: []string{"i.name", "l.os_user", "d.status", `d.name COLLATE "C"`, "encode(d.sha256, 'hex')"}},
		p,
	)
	if err != nil {
		return record.List[record.Difference]{}, err
	}
	var items []record.Difference
	err = page.Select("d.login_id, l.os_user, i.name AS instance_name, d.status, d.key_id, d.name, " +
		"o.name AS holder_name, d.sha256, d.steward, d.since, d.seen_at").
		Scan(&items).
		Error
	if err != nil {
		return record.List[record.Difference]{}, plain(err)
	}
	return cut(items, p, func(d record.Difference) []string {
		return []string{d.InstanceName, d.OSUser, string(d.Status), d.Name, hex.EncodeToString(d.SHA256)}
	}), nil
}
