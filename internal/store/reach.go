package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
)

// Reach returns what the reach of the logins is computed from, in three queries
// whatever their number. The keys are those that the pairs name.
// Raw, since GORM would write an array as a list of parameters.
func (s *Store) Reach(
	ctx context.Context, now time.Time, f record.ReachFilter,
) (logins []record.ReachLogin, pairs []record.ReachPair, keys []record.ReachKey, err error) {
	where, args := conditionsOf(f)
	among := ""
	if len(args) > 0 {
		among = "WHERE login_id IN (SELECT l.id FROM logins l JOIN instances i ON i.id = l.instance_id WHERE " + where + ")"
	}
	group, both := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		logins, err = s.reachLogins(both, where, args)
		return err
	})
	group.Go(func() (err error) {
		pairs, err = s.reachPairs(both, now, among, args)
		return err
	})
	var authorities []record.ReachPair
	group.Go(func() (err error) {
		authorities, err = s.reachAuthorities(both, now, among, args)
		return err
	})
	if err := group.Wait(); err != nil {
		return nil, nil, nil, err
	}
	pairs = append(pairs, authorities...)
	var ids []uuid.UUID
	named := map[uuid.UUID]bool{}
	for _, p := range pairs {
		if !named[p.KeyID] {
			named[p.KeyID] = true
			ids = append(ids, p.KeyID)
		}
	}
	rows, err := s.pools.plainOf(ctx).
		Query(ctx, `SELECT k.id, k.name, CASE WHEN o.left_at IS NULL THEN k.holder_id END, k.state, k.steward_of IS NOT NULL,
			k.proved_at, k.proved_by, k.sha256, o.name
		FROM keys k LEFT JOIN holders o ON o.id = k.holder_id WHERE $2 OR k.id = ANY($1)`, ids, f.EveryKey)
	if err != nil {
		return nil, nil, nil, plain(err)
	}
	for rows.Next() {
		var k record.ReachKey
		var holder pgtype.UUID
		if err := rows.Scan(
			(*[16]byte)(&k.ID), &k.Name, &holder, &k.State, &k.Steward, &k.ProvedAt, &k.ProvedBy, &k.SHA256, &k.HolderName,
		); err != nil {
			return nil, nil, nil, plain(err)
		}
		if holder.Valid {
			k.Holder = new(uuid.UUID(holder.Bytes))
		}
		keys = append(keys, k)
	}
	return logins, pairs, keys, plain(rows.Err())
}

// Provers returns the people who have not left, with the holders that they are and their teams.
// Raw, for the list of teams.
func (s *Store) Provers(ctx context.Context) ([]record.Prover, error) {
	rows, err := s.pools.plainOf(ctx).Query(ctx, `SELECT o.name, h.id,
			ARRAY(SELECT m.team_id FROM team_members m WHERE m.operator_id = o.id)
		FROM operators o JOIN holders h ON h.operator_id = o.id WHERE h.left_at IS NULL`)
	if err != nil {
		return nil, plain(err)
	}
	defer rows.Close()
	var out []record.Prover
	for rows.Next() {
		var p record.Prover
		var teams [][16]byte
		if err := rows.Scan(&p.Name, (*[16]byte)(&p.Holder), &teams); err != nil {
			return nil, plain(err)
		}
		for _, t := range teams {
			p.Teams = append(p.Teams, t)
		}
		out = append(out, p)
	}
	return out, plain(rows.Err())
}

// reachLogins reads the logins. Raw, since GORM converts each value of a hundred thousand rows.
func (s *Store) reachLogins(ctx context.Context, where string, args []any) ([]record.ReachLogin, error) {
	rows, err := s.pools.plainOf(ctx).
		Query(ctx, `SELECT l.id, l.os_user, i.name, i.region, l.swept_at, l.swept_by, l.sweep_error, l.found_at,
			coalesce(g.count, 0), i.state, i.image, i.temporary_gib, i.static_address, i.adopted, i.in_cloud
		FROM logins l JOIN instances i ON i.id = l.instance_id
		LEFT JOIN (SELECT login_id, count(*) AS count FROM strangers GROUP BY login_id) g ON g.login_id = l.id
		WHERE `+where+` ORDER BY i.name, l.os_user`, args...)
	if err != nil {
		return nil, plain(err)
	}
	defer rows.Close()
	var logins []record.ReachLogin
	for rows.Next() {
		var l record.ReachLogin
		var in *[16]byte
		// An array of bytes is not decoded; a uuid.UUID would be converted from text.
		if err := rows.Scan(
			(*[16]byte)(&l.ID), &l.OSUser, &l.Instance, &l.Region, &l.SweptAt, &l.SweptBy, &l.SweepError, &l.FoundAt,
			&l.Strangers,
			&l.State, &l.Image, &l.TemporaryGiB, &l.Static, &l.Adopted, &in,
		); err != nil {
			return nil, plain(err)
		}
		l.InCloud = (*uuid.UUID)(in)
		logins = append(logins, l)
	}
	return logins, plain(rows.Err())
}

// reachPairs reads the pairs. There can be half a million, so the columns are
// taken as they come in PostgreSQL's binary format, without a conversion for each.
// Raw, since GORM converts each value of half a million rows.
func (s *Store) reachPairs(
	ctx context.Context, now time.Time, among string, args []any,
) ([]record.ReachPair, error) {
	var pairs []record.ReachPair
	opens := fmt.Sprintf(
		"coalesce(s.opens AND (s.expires_at IS NULL OR s.expires_at > $%d), NOT g.forced, true)",
		len(args)+1,
	)
	err := pgx.BeginFunc(ctx, s.pools.plainOf(ctx), func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL work_mem = '64MB'"); err != nil { // so that the join stays in memory
			return err
		}
		rows, err := tx.Query(
			ctx,
			`SELECT key_id, login_id, g.key_id IS NOT NULL, s.present, `+opens+`, s.entered_at, coalesce(s.entered_by, '')
			FROM (SELECT key_id, login_id, forced FROM grants WHERE withdrawn_at IS NULL) g
			FULL JOIN sightings s USING (key_id, login_id) `+among,
			append(slices.Clone(args), now)...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			v := rows.RawValues()
			var p record.ReachPair
			copy(p.KeyID[:], v[0])
			copy(p.LoginID[:], v[1])
			p.Granted, p.Opens = v[2][0] == 1, v[4][0] == 1
			if v[3] != nil {
				p.Present = &no
				if v[3][0] == 1 {
					p.Present = &yes
				}
			}
			if v[5] != nil {
				p.EnteredAt = new(postgresEpoch.Add(time.Duration(binary.BigEndian.Uint64(v[5])) * time.Microsecond))
				p.EnteredBy = string(v[6])
			}
			pairs = append(pairs, p)
		}
		return rows.Err()
	})
	return pairs, plain(err)
}

// reachAuthorities returns the recorded keys whose certificates open logins: those of TrustedUserCAKeys where the
// settings depend on nothing that is not known, and lines that are cert-authority without any other limit.
// Raw, since it looks into what was read.
func (s *Store) reachAuthorities(
	ctx context.Context, now time.Time, among string, args []any,
) (out []record.ReachPair, err error) {
	pool := s.pools.plainOf(ctx)
	rows, err := pool.Query(ctx, `SELECT login_id, a->>'fingerprint'
		FROM (SELECT login_id, server FROM login_servers `+among+`) r, jsonb_array_elements(r.server->'authorities') a
		WHERE jsonb_exists(r.server, 'authorities')
			AND NOT jsonb_exists_any(r.server, '{refused,doubt,unread,keys_off,conditional}')`, args...)
	if err != nil {
		return nil, plain(err)
	}
	at := map[string][]uuid.UUID{}
	var digests [][]byte
	var login pgtype.UUID
	var fingerprint string
	if _, err := pgx.ForEachRow(rows, []any{&login, &fingerprint}, func() error {
		d, ok := keypair.ReadFingerprint(fingerprint)
		if !ok || d.Kind != "sha256" {
			return nil // whatever somebody reported
		}
		if at[string(d.Sum)] == nil {
			digests = append(digests, d.Sum)
		}
		at[string(d.Sum)] = append(at[string(d.Sum)], login.Bytes)
		return nil
	}); err != nil {
		return nil, plain(err)
	}
	known, err := s.KeysIn(ctx, digests)
	if err != nil {
		return nil, err
	}
	for sum, k := range known {
		for _, login := range at[sum] {
			out = append(out, record.ReachPair{KeyID: k.ID, LoginID: login, Authority: true})
		}
	}
	condition := strings.Replace(among, "WHERE", "AND", 1)
	// The limit is in the text of the question, so that the index of such lines is used.
	rows, err = pool.Query(ctx, fmt.Sprintf(
		`SELECT key_id, login_id FROM sightings WHERE present AND limits = '%s'
			AND (expires_at IS NULL OR expires_at > $%d) `, authorizedkeys.AuthorityLimit, len(args)+1,
	)+condition, append(slices.Clone(args), now)...)
	if err != nil {
		return nil, plain(err)
	}
	var key pgtype.UUID
	_, err = pgx.ForEachRow(rows, []any{&key, &login}, func() error {
		out = append(out, record.ReachPair{KeyID: key.Bytes, LoginID: login.Bytes, Authority: true})
		return nil
	})
	if err != nil {
		return out, plain(err)
	}
	groups, err := s.reachGroups(ctx, among, args)
	return append(out, groups...), err
}

// reachGroups returns the recorded keys that clouds hand to the groups in which instances are. They open logins whether
// their lines are there or not, and so count as authorities do.
// Raw, as those are.
func (s *Store) reachGroups(ctx context.Context, among string, args []any) (out []record.ReachPair, err error) {
	rows, err := s.pools.plainOf(ctx).Query(ctx, `SELECT DISTINCT key_id, login_id FROM (SELECT n.id AS key_id,
			l.id AS login_id FROM group_keys k JOIN keys n ON n.sha256 = k.sha256 `+openedByGroups+`) AS o `+among, args...)
	if err != nil {
		return nil, plain(err)
	}
	var key, login pgtype.UUID
	_, err = pgx.ForEachRow(rows, []any{&key, &login}, func() error {
		out = append(out, record.ReachPair{KeyID: key.Bytes, LoginID: login.Bytes, Authority: true})
		return nil
	})
	return out, plain(err)
}

var (
	yes, no       = true, false
	postgresEpoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
)

// conditionsOf returns the condition on logins l and instances i.
func conditionsOf(f record.ReachFilter) (string, []any) {
	conditions := []string{"i.gone_at IS NULL"}
	var args []any
	add := func(condition string, values ...any) {
		for _, v := range values {
			args = append(args, v)
			condition = strings.Replace(condition, "?", "$"+strconv.Itoa(len(args)), 1)
		}
		conditions = append(conditions, condition)
	}
	if f.Instance != uuid.Nil {
		add("i.id = ?", f.Instance)
	} else { // accounts of the service's own, that no other key opens, are nobody's way in
		conditions = append(conditions, `l.id NOT IN (SELECT o.id FROM keys k
			JOIN logins o ON o.instance_id = k.steward_of AND o.os_user = k.steward_user
			WHERE k.steward_user <> '' AND NOT EXISTS (SELECT 1 FROM strangers s WHERE s.login_id = o.id)
				AND NOT EXISTS (SELECT 1 FROM sightings s JOIN keys b ON b.id = s.key_id
					WHERE s.login_id = o.id AND s.present AND b.steward_of IS NULL)
				AND NOT EXISTS (SELECT 1 FROM grants g JOIN keys b ON b.id = g.key_id
					WHERE g.login_id = o.id AND g.withdrawn_at IS NULL AND b.steward_of IS NULL))`)
	}
	if f.Text != "" {
		add("(l.os_user || '@' || i.name) ILIKE ?", like(f.Text))
	}
	if f.Region != "" {
		add("i.region = ?", f.Region)
	}
	if f.LabelName != "" {
		add("i.labels @> jsonb_build_object(?::text, ?::text)", f.LabelName, f.LabelText)
	}
	opened := func(of string) string {
		return "l.id IN (SELECT login_id FROM grants WHERE withdrawn_at IS NULL AND key_id IN (" + of + ")" +
			" UNION SELECT login_id FROM sightings WHERE present AND key_id IN (" + of + ")" +
			" UNION SELECT r.login_id FROM login_servers r JOIN keys a ON r.server @> jsonb_build_object('authorities'," +
			" jsonb_build_array(jsonb_build_object('fingerprint', 'SHA256:' || rtrim(encode(a.sha256, 'base64'), '='))))" +
			" WHERE a.id IN (" + of + ") UNION SELECT o.login_id FROM (SELECT l.id AS login_id, n.id AS key_id" +
			" FROM group_keys k JOIN keys n ON n.sha256 = k.sha256 " + openedByGroups + ") o WHERE o.key_id IN (" + of + "))"
	}
	if len(f.Keys) > 0 {
		add(opened("SELECT id FROM keys WHERE name = ANY(?)"), f.Keys, f.Keys, f.Keys, f.Keys)
	}
	if f.Holder != "" {
		add(
			opened("SELECT k.id FROM keys k JOIN holders o ON o.id = k.holder_id WHERE o.name = ?"),
			f.Holder,
			f.Holder,
			f.Holder,
			f.Holder,
		)
	}
	return strings.Join(conditions, " AND "), args
}
