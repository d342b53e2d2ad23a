package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"
)

// LoginToSweep is a login with what is needed to reach it.
type LoginToSweep struct {
	Login
	Instance Instance
	// Steward is the instance's steward key; nil where it has none.
	Steward *Key
	// Sealed is the steward's private half.
	Sealed []byte
}

// AddSweep keeps a new sweep of the logins.
func (s *Store) AddSweep(ctx context.Context, sweep Sweep, logins []uuid.UUID) error {
	db := s.db.WithContext(ctx)
	if err := db.Create(&sweep).Error; err != nil {
		return plain(err)
	}
	return plain(
		db.Exec(
			"INSERT INTO sweep_items (sweep_id, login_id, state, outcome) SELECT ?, id, 'waiting', '' FROM logins WHERE id IN ?",
			sweep.ID,
			logins,
		).Error,
	)
}

// SweepByID returns a sweep.
func (s *Store) SweepByID(ctx context.Context, id uuid.UUID) (Sweep, error) {
	var w Sweep
	err := s.db.WithContext(ctx).Where("id = ?", id).Take(&w).Error
	return w, plain(err)
}

// SweepCounts returns how many logins of the sweep are in which state.
func (s *Store) SweepCounts(ctx context.Context, id uuid.UUID) (map[string]int, error) {
	var rows []struct {
		State string
		Count int
	}
	err := s.db.WithContext(ctx).
		Raw("SELECT state, count(*) AS count FROM sweep_items WHERE sweep_id = ? GROUP BY state", id).
		Scan(&rows).
		Error
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.State] = r.Count
	}
	return counts, plain(err)
}

// SweepItems returns one page of the logins of a sweep, by instance. state ""
// means all.
func (s *Store) SweepItems(ctx context.Context, id uuid.UUID, state string, p Page) (List[SweepItem], error) {
	q := s.db.WithContext(ctx).
		Table("sweep_items").
		Joins("JOIN logins l ON l.id = sweep_items.login_id JOIN instances i ON i.id = l.instance_id").
		Where("sweep_items.sweep_id = ?", id)
	if state != "" {
		q = q.Where("sweep_items.state = ?", state)
	}
	page, err := seek(q, order{columns: []string{"i.name", "l.os_user"}}, p)
	if err != nil {
		return List[SweepItem]{}, err
	}
	var items []SweepItem
	if err := page.Select("sweep_items.*, l.os_user, i.name AS instance_name").Scan(&items).Error; err != nil {
		return List[SweepItem]{}, plain(err)
	}
	return cut(items, p, func(i SweepItem) []string { return []string{i.InstanceName, i.OSUser} }), nil
}

// TakeSweepItems returns logins that sweeps wait for, and counts that their reading begins.
// There are at most limits[0] of those whose reading begins for the first time; where there are
// none, at most limits[1] of those that it begins for the second time, and so on.
func (s *Store) TakeSweepItems(ctx context.Context, limits ...int) ([]SweepItem, error) {
	for tries, limit := range limits {
		var items []SweepItem
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
			Exec("UPDATE sweep_items SET tries = 0 WHERE state = 'waiting' AND login_id IN ?", logins).
			Error,
	)
}

// GiveUpSweepItems ends the waiting for logins whose reading was begun so often and never
// ended, and returns their ids.
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

// SweepEnd is what came of the attempt to read a login.
type SweepEnd struct {
	LoginID uuid.UUID
	// State and Outcome are for the sweeps that wait for the login.
	State, Outcome string
	// Method is how it was read, "" if it was not read now.
	Method  string
	Folders []Folder
	At      time.Time
}

// EndSweepItems records what came of logins, for each and for every sweep that
// waits for it.
func (s *Store) EndSweepItems(ctx context.Context, ends []SweepEnd) error {
	ids, at := make([][16]byte, len(ends)), make([]time.Time, len(ends))
	states, outcomes, methods, folders := make(
		[]string,
		len(ends),
	), make(
		[]string,
		len(ends),
	), make(
		[]string,
		len(ends),
	), make(
		[]string,
		len(ends),
	)
	for n, e := range ends {
		text, err := json.Marshal(append([]Folder{}, e.Folders...))
		if err != nil {
			return err
		}
		folders[n] = string(text)
		ids[n], at[n], states[n], outcomes[n], methods[n] = e.LoginID, e.At, e.State, e.Outcome, e.Method
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

// EndSweeps ends those sweeps that wait for no login any more.
func (s *Store) EndSweeps(ctx context.Context, at time.Time) error {
	return plain(s.db.WithContext(ctx).Exec(`UPDATE sweeps SET ended_at = ? WHERE ended_at IS NULL
		AND NOT EXISTS (SELECT 1 FROM sweep_items WHERE sweep_id = sweeps.id AND state = 'waiting')`, at).Error)
}

// LoginsToSweep returns the logins with their instances and steward keys.
func (s *Store) LoginsToSweep(ctx context.Context, ids []uuid.UUID) ([]LoginToSweep, error) {
	db := s.db.WithContext(ctx)
	var logins []Login
	if err := db.Where("id IN ?", ids).Find(&logins).Error; err != nil {
		return nil, plain(err)
	}
	var instanceIDs []uuid.UUID
	for _, l := range logins {
		instanceIDs = append(instanceIDs, l.InstanceID)
	}
	var instances []Instance
	if err := db.Preload("HostKeys", byAlgorithm).Where("id IN ?", instanceIDs).Find(&instances).Error; err != nil {
		return nil, plain(err)
	}
	var stewards []struct {
		Key
		Sealed []byte
	}
	if err := db.Table("keys").Select("keys.*, h.sealed").Joins("JOIN kept_halves h ON h.key_id = keys.id").
		Where("keys.steward_of IN ? AND keys.state = 'active'", instanceIDs).Scan(&stewards).Error; err != nil {
		return nil, plain(err)
	}
	byInstance := map[uuid.UUID]*LoginToSweep{}
	for _, i := range instances {
		byInstance[i.ID] = &LoginToSweep{Instance: i}
	}
	for _, k := range stewards {
		byInstance[*k.StewardOf].Steward, byInstance[*k.StewardOf].Sealed = &k.Key, k.Sealed
	}
	out := make([]LoginToSweep, len(logins))
	for n, l := range logins {
		out[n] = *byInstance[l.InstanceID]
		out[n].Login = l
	}
	return out, nil
}

// LoginsOf returns the ids of the logins of the instances that are there: of all,
// of those with the label, or of those named.
func (s *Store) LoginsOf(
	ctx context.Context,
	all bool,
	labelName, labelText string,
	names []string,
) ([]uuid.UUID, error) {
	q := s.db.WithContext(ctx).
		Table("logins").
		Joins("JOIN instances ON instances.id = logins.instance_id AND instances.gone_at IS NULL AND instances.state <> " +
			"'launching'")
	if !all {
		q = withLabel(q, "instances", labelName, labelText)
		if len(names) > 0 {
			q = q.Where("instances.name IN ?", names)
		}
	}
	var ids []uuid.UUID
	err := q.Order("instances.name").Pluck("logins.id", &ids).Error
	return ids, plain(err)
}

// LoginsDue returns at most limit logins of running instances that the service can
// read by itself, with a steward key or the way that it last did, agentMethod, and
// that nobody has tried to read since before.
func (s *Store) LoginsDue(ctx context.Context, agentMethod string, before time.Time, limit int) ([]uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).Table("logins").
		Joins("JOIN instances i ON i.id = logins.instance_id AND i.gone_at IS NULL AND i.state = 'running'").
		Where(
			"(EXISTS (SELECT 1 FROM keys k WHERE k.steward_of = i.id AND k.state = 'active') OR logins.swept_by = ?)",
			agentMethod,
		).
		Where("logins.tried_at IS NULL OR logins.tried_at < ?", before).
		Order("logins.tried_at NULLS FIRST").Limit(limit).Pluck("logins.id", &ids).Error
	return ids, plain(err)
}

// CountSweepable returns how many logins LoginsDue is about.
func (s *Store) CountSweepable(ctx context.Context, agentMethod string) (int, error) {
	var n int64
	err := s.db.WithContext(ctx).Table("logins").
		Joins("JOIN instances i ON i.id = logins.instance_id AND i.gone_at IS NULL AND i.state = 'running'").
		Where(
			"EXISTS (SELECT 1 FROM keys k WHERE k.steward_of = i.id AND k.state = 'active') OR logins.swept_by = ?",
			agentMethod,
		).
		Count(&n).Error
	return int(n), plain(err)
}

// NoteSweepFailure records that a login could not be read, for it and for every
// sweep that waits for it. What was seen before stays.
func (s *Store) NoteSweepFailure(ctx context.Context, login uuid.UUID, state, why string, at time.Time) error {
	err := s.db.WithContext(ctx).
		Model(&Login{}).
		Where("id = ?", login).
		Updates(map[string]any{"tried_at": at, "sweep_error": why}).
		Error
	if err != nil {
		return plain(err)
	}
	return s.EndSweepItems(ctx, []SweepEnd{{LoginID: login, State: state, Outcome: why, At: at}})
}

// LockLogins keeps others from recording looks at the logins until the
// transaction ends. It returns them by their ids.
func (s *Store) LockLogins(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]Login, error) {
	var logins []Login
	err := s.db.WithContext(ctx).
		Clauses(clause.Locking{Strength: "UPDATE"}).
		Where("id IN ?", ids).
		Order("id").
		Find(&logins).
		Error
	byID := make(map[uuid.UUID]Login, len(logins))
	for _, l := range logins {
		byID[l.ID] = l
	}
	return byID, plain(err)
}

// NamedKeyIDs returns, by login, the ids of the keys that are granted or were seen there.
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

// PutStrangers records the strangers that stand in the logins now; others are forgotten.
func (s *Store) PutStrangers(ctx context.Context, logins []uuid.UUID, strangers []Stranger) error {
	in, of := plainIDs(logins), make([][16]byte, len(strangers))
	digests, blobs := make([][]byte, len(strangers)), make([][]byte, len(strangers))
	algorithms, comments, limits := make(
		[]string,
		len(strangers),
	), make(
		[]string,
		len(strangers),
	), make(
		[]string,
		len(strangers),
	)
	at := make([]time.Time, len(strangers))
	for n, g := range strangers {
		of[n], digests[n], blobs[n], algorithms[n] = g.LoginID, g.SHA256, g.Blob, g.Algorithm
		comments[n], limits[n], at[n] = g.Comment, g.Limits, g.SeenAt
	}
	pool := s.db.Statement.ConnPool
	if _, err := pool.ExecContext(ctx, `DELETE FROM strangers WHERE login_id = ANY($1)
		AND NOT EXISTS (SELECT 1 FROM unnest($2::uuid[], $3::bytea[]) AS now (login_id, sha256)
			WHERE now.login_id = strangers.login_id AND now.sha256 = strangers.sha256)`,
		in, of, digests); err != nil || len(strangers) == 0 {
		return plain(err)
	}
	_, err := pool.ExecContext(
		ctx,
		`INSERT INTO strangers (login_id, sha256, algorithm, blob, comment, limits, first_seen_at, seen_at)
		SELECT n.login_id, n.sha256, n.algorithm, n.blob, n.comment, n.limits, n.at, n.at
		FROM unnest($1::uuid[], $2::bytea[], $3::text[], $4::bytea[], $5::text[], $6::text[],
			$7::timestamptz[]) AS n (login_id, sha256, algorithm, blob, comment, limits, at)
		ON CONFLICT (login_id, sha256) DO UPDATE
			SET comment = excluded.comment, limits = excluded.limits, seen_at = excluded.seen_at`,
		of,
		digests,
		algorithms,
		blobs,
		comments,
		limits,
		at,
	)
	return plain(err)
}

// plainIDs are ids as PostgreSQL's driver takes an array of them.
func plainIDs(ids []uuid.UUID) [][16]byte {
	out := make([][16]byte, len(ids))
	for n, id := range ids {
		out[n] = id
	}
	return out
}

// ClaimStrangers makes sightings of the strangers that are recorded keys by now.
func (s *Store) ClaimStrangers(ctx context.Context) error {
	return plain(s.db.WithContext(ctx).Exec(`WITH known AS (
			DELETE FROM strangers g USING keys k WHERE k.sha256 = g.sha256
				RETURNING g.login_id, k.id AS key_id, g.seen_at, g.limits)
		INSERT INTO sightings (login_id, key_id, seen_at, method, present, limits)
		SELECT login_id, key_id, seen_at, 'seen as a stranger', true, limits FROM known ON CONFLICT DO NOTHING`).Error)
}

// StrangersOf returns at most limit strangers in the logins of an instance, the first seen first.
func (s *Store) StrangersOf(ctx context.Context, instance uuid.UUID, limit int) ([]Stranger, error) {
	var strangers []Stranger
	err := s.db.WithContext(ctx).
		Where("login_id IN (SELECT id FROM logins WHERE instance_id = ?)", instance).
		Order("first_seen_at, sha256").
		Limit(limit).
		Find(&strangers).
		Error
	return strangers, plain(err)
}

// LastVersions returns the newest version of each file of the logins, by login and path,
// without the contents.
func (s *Store) LastVersions(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID]map[string]FileVersion, error) {
	var versions []FileVersion
	err := s.db.WithContext(ctx).
		Raw(`SELECT DISTINCT ON (login_id, path) id, login_id, path, there, digest, bytes, mode, method, seen_at, seen_until,
			exposed
		FROM file_versions WHERE login_id IN ? ORDER BY login_id, path, seen_at DESC`, logins).
		Scan(&versions).
		Error
	last := map[uuid.UUID]map[string]FileVersion{}
	for _, v := range versions {
		if last[v.LoginID] == nil {
			last[v.LoginID] = map[string]FileVersion{}
		}
		last[v.LoginID][v.Path] = v
	}
	return last, plain(err)
}

// SeenAgain records until when files were seen with the contents.
func (s *Store) SeenAgain(ctx context.Context, until map[uuid.UUID]time.Time) error {
	if len(until) == 0 {
		return nil
	}
	ids, at := make([][16]byte, 0, len(until)), make([]time.Time, 0, len(until))
	for id, t := range until {
		ids, at = append(ids, id), append(at, t)
	}
	_, err := s.db.Statement.ConnPool.ExecContext(ctx, `UPDATE file_versions v SET seen_until = n.at
		FROM unnest($1::uuid[], $2::timestamptz[]) AS n (id, at) WHERE v.id = n.id`, ids, at)
	return plain(err)
}

// versionsKept is how many contents of one file are kept; the oldest go.
const versionsKept = 50

// AddVersions records new contents of files.
func (s *Store) AddVersions(ctx context.Context, versions []FileVersion) error {
	if len(versions) == 0 {
		return nil
	}
	db := s.db.WithContext(ctx)
	if err := db.CreateInBatches(versions, 100).Error; err != nil {
		return plain(err)
	}
	logins := make([]uuid.UUID, len(versions))
	for n, v := range versions {
		logins[n] = v.LoginID
	}
	return plain(db.Exec(`DELETE FROM file_versions WHERE id IN (SELECT id FROM
		(SELECT id, row_number() OVER (PARTITION BY login_id, path ORDER BY seen_at DESC) AS place FROM file_versions
			WHERE login_id IN ?) v WHERE place > ?)`,
		logins, versionsKept).Error)
}

// NewestVersions returns the newest version of each file of a login, by path.
func (s *Store) NewestVersions(ctx context.Context, login uuid.UUID) ([]FileVersion, error) {
	var versions []FileVersion
	err := s.db.WithContext(ctx).
		Raw("SELECT DISTINCT ON (path) * FROM file_versions WHERE login_id = ? ORDER BY path, seen_at DESC", login).
		Scan(&versions).
		Error
	return versions, plain(err)
}

// ContentsOf returns what is kept of the versions, by their ids.
func (s *Store) ContentsOf(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID][]byte, error) {
	var versions []FileVersion
	out := map[uuid.UUID][]byte{}
	if len(ids) == 0 {
		return out, nil
	}
	err := s.db.WithContext(ctx).Select("id", "content").Where("id IN ?", ids).Find(&versions).Error
	for _, v := range versions {
		out[v.ID] = v.Content
	}
	return out, plain(err)
}

// Versions returns the newest contents of a login's files, at most limit.
func (s *Store) Versions(ctx context.Context, login uuid.UUID, limit int) ([]FileVersion, error) {
	var versions []FileVersion
	err := s.db.WithContext(ctx).
		Where("login_id = ?", login).
		Order("seen_at DESC, path").
		Limit(limit).
		Find(&versions).
		Error
	return versions, plain(err)
}

// VersionsByID returns those of the versions that are of the login, the older first.
func (s *Store) VersionsByID(ctx context.Context, login uuid.UUID, ids ...uuid.UUID) ([]FileVersion, error) {
	var versions []FileVersion
	err := s.db.WithContext(ctx).Where("login_id = ? AND id IN ?", login, ids).Order("seen_at").Find(&versions).Error
	return versions, plain(err)
}

// KeepHalf keeps the sealed private half of a key.
func (s *Store) KeepHalf(ctx context.Context, key uuid.UUID, private Secret, at time.Time) error {
	if err := s.underMark(ctx, private); err != nil {
		return err
	}
	return plain(
		s.db.WithContext(ctx).
			Exec("INSERT INTO kept_halves (key_id, sealed, kept_at) VALUES (?, ?, ?)", key, private.Sealed, at).
			Error,
	)
}

// CountHalves returns the number of kept private halves.
func (s *Store) CountHalves(ctx context.Context) (n int64, err error) {
	err = s.db.WithContext(ctx).Model(&KeptHalf{}).Count(&n).Error
	return n, plain(err)
}

// RetireSteward ends the steward key of an instance and destroys its private half.
func (s *Store) RetireSteward(ctx context.Context, instance uuid.UUID) error {
	db := s.db.WithContext(ctx)
	if err := db.Exec(
		"DELETE FROM kept_halves WHERE key_id IN (SELECT id FROM keys WHERE steward_of = ?)",
		instance,
	).Error; err != nil {
		return plain(err)
	}
	return plain(db.Model(&Key{}).Where("steward_of = ?", instance).Update("state", "retired").Error)
}
