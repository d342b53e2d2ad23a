package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/record"
)

// mostServerVersions is how many versions of its server's settings are kept of a login.
const mostServerVersions = 500

// PutServers keeps what the SSH servers of logins let in, as of readings; none that is older than
// what is kept. What they let in before is kept as a version where it differs.
// Raw, since GORM puts no list of rows in from arrays.
func (s *Store) PutServers(ctx context.Context, all []record.LoginServer) error {
	if len(all) == 0 {
		return nil
	}
	ids, at, servers := make([][16]byte, len(all)), make([]time.Time, len(all)), make([]string, len(all))
	for n, l := range all {
		data, err := json.Marshal(l.Server)
		if err != nil {
			return err
		}
		ids[n], at[n], servers[n] = l.LoginID, l.ReadAt, string(data)
	}
	const read = "unnest($1::uuid[], $2::text[], $3::timestamptz[]) AS n (id, server, at)"
	to := s.db.Statement.ConnPool
	done, err := to.ExecContext(ctx, `INSERT INTO server_versions (login_id, server, since, read_at)
		SELECT s.login_id, s.server, s.since, s.read_at FROM `+read+` JOIN login_servers s ON s.login_id = n.id
		WHERE s.read_at < n.at AND s.server <> n.server::jsonb`, ids, servers, at)
	if err != nil {
		return plain(err)
	}
	if changed, err := done.RowsAffected(); err != nil || changed > 0 {
		if err == nil {
			_, err = to.ExecContext(ctx, `DELETE FROM server_versions WHERE id IN (SELECT id FROM
				(SELECT id, row_number() OVER (PARTITION BY login_id ORDER BY id DESC) AS place FROM server_versions
				WHERE login_id = ANY($1)) v WHERE place > $2)`, ids, mostServerVersions)
		}
		if err != nil {
			return plain(err)
		}
	}
	_, err = to.ExecContext(ctx, `INSERT INTO login_servers (login_id, server, read_at, since)
		SELECT id, server::jsonb, at, at FROM `+read+`
		ON CONFLICT (login_id) DO UPDATE SET server = excluded.server, read_at = excluded.read_at,
			since = CASE WHEN login_servers.server = excluded.server THEN login_servers.since ELSE excluded.since END
			WHERE login_servers.read_at <= excluded.read_at`, ids, servers, at)
	return plain(err)
}

// AllServers returns what the SSH servers of logins let in over time, by login, the older first.
func (s *Store) AllServers(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID][]record.LoginServer, error) {
	var rows []record.LoginServer
	db := s.db.WithContext(ctx)
	before := db.Table("server_versions").Select("login_id, server, since, read_at").Where("login_id IN ?", logins)
	last := db.Table("login_servers").Select("login_id, server, since, read_at").Where("login_id IN ?", logins)
	err := db.Table("(? UNION ALL ?) AS v", before, last).Order("login_id, since").Find(&rows).Error
	out := map[uuid.UUID][]record.LoginServer{}
	for _, r := range rows {
		out[r.LoginID] = append(out[r.LoginID], r)
	}
	return out, plain(err)
}

// Servers returns what the SSH servers of logins let in, by the login; those of which nobody has read
// it are missing.
func (s *Store) Servers(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID]record.LoginServer, error) {
	var rows []record.LoginServer
	if len(logins) > 0 {
		if err := s.db.WithContext(ctx).Where("login_id IN ?", logins).Find(&rows).Error; err != nil {
			return nil, plain(err)
		}
	}
	out := make(map[uuid.UUID]record.LoginServer, len(rows))
	for _, r := range rows {
		out[r.LoginID] = r
	}
	return out, nil
}

// LoginsOfAuthority returns at most limit logins whose server takes, or took, certificates of the authority with the
// fingerprint; those that do first.
func (s *Store) LoginsOfAuthority(ctx context.Context, fingerprint string, limit int) ([]record.LoginSetting, error) {
	return s.loginsWith(ctx, "authorities", fingerprint, limit)
}

// LoginsOfNamedKey is LoginsOfAuthority for a key that a program names.
func (s *Store) LoginsOfNamedKey(ctx context.Context, fingerprint string, limit int) ([]record.LoginSetting, error) {
	return s.loginsWith(ctx, "named_keys", fingerprint, limit)
}

// loginsWith looks into the settings of logins. Raw in its condition, since GORM asks nothing of JSON.
func (s *Store) loginsWith(
	ctx context.Context, field, fingerprint string, limit int,
) (out []record.LoginSetting, err error) {
	what, err := json.Marshal(map[string]any{field: []map[string]string{{"fingerprint": fingerprint}}})
	if err != nil {
		return nil, err
	}
	db := s.db.WithContext(ctx)
	of := func(table, former string) *gorm.DB {
		return db.Table(table).Select("login_id, since, read_at, "+former+" AS former").
			Where("server @> ?::jsonb", string(what))
	}
	err = db.Table("(? UNION ALL ?) AS s", of("login_servers", "false"), of("server_versions", "true")).
		Select("l.os_user || '@' || i.name AS name, s.since, s.read_at, s.former").
		Joins("JOIN logins l ON l.id = s.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL").
		Order("s.former, i.name, l.os_user, s.since").
		Limit(limit).
		Scan(&out).
		Error
	return out, plain(err)
}
