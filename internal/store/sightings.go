package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// PutSightings records looks; a later look replaces an earlier one. A login and
// a key are named at most once.
// Raw, since GORM inserts no arrays.
func (s *Store) PutSightings(ctx context.Context, sightings []record.Sighting) error {
	if len(sightings) == 0 {
		return nil
	}
	var logins, keys [][16]byte
	var at []time.Time
	var methods, limits []string
	var present, opens []bool
	var expires []*time.Time
	var options []*string
	for _, g := range sightings {
		logins, keys, at = append(logins, g.LoginID), append(keys, g.KeyID), append(at, g.SeenAt)
		methods, limits, present, opens = append(
			methods, g.Method,
		), append(
			limits, g.Limits,
		), append(
			present, g.Present,
		), append(
			opens, g.Opens,
		)
		expires, options = append(expires, g.ExpiresAt), append(options, g.Options)
	}
	_, err := s.db.Statement.ConnPool.ExecContext(
		ctx,
		`INSERT INTO sightings (login_id, key_id, seen_at, method, present, limits, opens, expires_at, options)
		SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::timestamptz[], $4::text[], $5::bool[], $6::text[], $7::bool[],
			$8::timestamptz[], $9::text[])
		ON CONFLICT (login_id, key_id) DO UPDATE
			SET seen_at = excluded.seen_at, method = excluded.method, present = excluded.present,
			limits = excluded.limits, opens = excluded.opens, expires_at = excluded.expires_at,
			options = coalesce(excluded.options, sightings.options)
		WHERE sightings.seen_at <= excluded.seen_at`,
		logins,
		keys,
		at,
		methods,
		present,
		limits,
		opens,
		expires,
		options,
	)
	return plain(err)
}

// SeeEntry records that a key was seen to open a login. What limits its line stays as it was read; one that
// runs a command and gives no shell is not a way in by that.
// Raw, since GORM's upsert knows no condition on what is there.
func (s *Store) SeeEntry(ctx context.Context, login, key uuid.UUID, at time.Time, method string) error {
	return plain(s.db.WithContext(ctx).Exec(
		`INSERT INTO sightings (login_id, key_id, seen_at, method, present, opens)
			VALUES (@login, @key, @at, @method, true, NOT EXISTS (SELECT FROM grants g
				WHERE g.login_id = @login AND g.key_id = @key AND g.withdrawn_at IS NULL AND g.forced))
		ON CONFLICT (login_id, key_id) DO UPDATE SET seen_at = excluded.seen_at, method = excluded.method, present = true,
			opens = sightings.opens OR coalesce(sightings.options, '') !~ '(^|,)command=',
			expires_at = CASE WHEN sightings.expires_at > excluded.seen_at THEN sightings.expires_at END
		WHERE sightings.seen_at <= excluded.seen_at`,
		map[string]any{"login": login, "key": key, "at": at, "method": method},
	).
		Error)
}

// StandsOf returns the logins of instances that are there in which the keys are.
func (s *Store) StandsOf(ctx context.Context, keys []uuid.UUID) ([]record.KeyStand, error) {
	var stands []record.KeyStand
	err := s.db.WithContext(ctx).
		Table("sightings s").
		Select("k.name AS key_name, i.name AS instance_name, l.os_user, s.seen_at").
		Joins("JOIN keys k ON k.id = s.key_id").
		Joins("JOIN logins l ON l.id = s.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL").
		Where("s.present AND s.key_id IN ?", keys).
		Order("k.name, i.name, l.os_user").
		Scan(&stands).
		Error
	return stands, plain(err)
}

// NamedKeyIDs returns, by login, the ids of the keys that are granted or were seen there.
// Raw, since GORM joins no questions by UNION.
func (s *Store) NamedKeyIDs(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
	var rows []struct{ LoginID, KeyID uuid.UUID }
	err := s.db.WithContext(ctx).Raw(`SELECT login_id, key_id FROM grants WHERE login_id IN ? AND withdrawn_at IS NULL
		UNION SELECT login_id, key_id FROM sightings WHERE login_id IN ?`, logins, logins).Scan(&rows).Error
	named := map[uuid.UUID][]uuid.UUID{}
	for _, r := range rows {
		named[r.LoginID] = append(named[r.LoginID], r.KeyID)
	}
	return named, plain(err)
}
