package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// AddKey keeps a new key. A *TakenError names keys_name or keys_sha256.
func (s *Store) AddKey(ctx context.Context, k *Key) error {
	return plain(s.db.WithContext(ctx).Omit("Keeper").Create(k).Error)
}

const insertListed = `INSERT INTO keys (id, name, type, algorithm, bits, blob, sha256, md5, spki_md5, comment,
	keeper_id, purpose, labels, custody, origin, state, created_at, created_by)
	SELECT u.*, $11, $12, $13, $14, $15, $16, $17, $18
	FROM unnest($1::uuid[], $2::text[], $3::text[], $4::text[], $5::int[], $6::bytea[], $7::bytea[], $8::bytea[],
		$9::bytea[], $10::text[])
		AS u (id, name, type, algorithm, bits, blob, sha256, md5, spki_md5, comment)
	ORDER BY u.sha256 -- in one order, so that two lists at once rarely wait for each other in a circle
`

// AddKeysOrSkip keeps those of the keys whose name and key are both new, and
// returns what is there afterwards under the keys' digests. The names and ids of the
// returned keys are filled in, nothing else. A *TakenError is returned where somebody
// else records one of them at the same time; again, it is known. The keys differ in what they are
// and share the rest: keeper, purpose, labels, custody, origin, state and making.
func (s *Store) AddKeysOrSkip(ctx context.Context, keys []Key) (map[string]Key, error) {
	if len(keys) == 0 {
		return nil, nil
	}
	// Asking first what is there is faster than having every row inserted on a condition.
	var digests [][]byte
	var names []string
	for _, k := range keys {
		digests, names = append(digests, k.SHA256), append(names, k.Name)
	}
	there, err := s.KeysIn(ctx, digests)
	if err != nil {
		return there, err
	}
	named := map[string]Key{}
	if err := s.collect(
		ctx,
		named,
		"SELECT id, name, convert_to(name, 'UTF8') FROM keys WHERE name = ANY($1)",
		names,
	); err != nil {
		return there, err
	}
	// One array for each column goes in far faster than a parameter for each column of each key.
	var ids [][16]byte
	var types, algorithms, comments []string
	var bits []int
	var blobs, md5s, spkis [][]byte
	digests, names = nil, nil
	for _, k := range keys {
		_, known := there[string(k.SHA256)]
		_, taken := named[k.Name]
		if known || taken {
			continue
		}
		there[string(k.SHA256)], named[k.Name] = k, k
		ids, names, types, algorithms, bits = append(
			ids,
			k.ID,
		), append(
			names,
			k.Name,
		), append(
			types,
			k.Type,
		), append(
			algorithms,
			k.Algorithm,
		), append(
			bits,
			k.Bits,
		)
		blobs, digests, md5s, spkis = append(
			blobs,
			k.Blob,
		), append(
			digests,
			k.SHA256,
		), append(
			md5s,
			k.MD5,
		), append(
			spkis,
			k.SPKIMD5,
		)
		comments = append(comments, k.Comment)
	}
	if len(ids) == 0 {
		return there, nil
	}
	labels, err := json.Marshal(keys[0].Labels)
	if err != nil {
		return there, err
	}
	k := keys[0]
	_, err = s.db.Statement.ConnPool.ExecContext(
		ctx,
		insertListed,
		ids,
		names,
		types,
		algorithms,
		bits,
		blobs,
		digests,
		md5s,
		spkis,
		comments,
		k.KeeperID,
		k.Purpose,
		string(labels),
		k.Custody,
		k.Origin,
		k.State,
		k.CreatedAt,
		k.CreatedBy,
	)
	return there, plain(err)
}

// collect puts the keys that a query returns in there, under their digests. It
// asks the connection itself, since GORM would write an array as a list of parameters.
func (s *Store) collect(ctx context.Context, there map[string]Key, query string, args ...any) error {
	rows, err := s.db.Statement.ConnPool.QueryContext(ctx, query, args...)
	if err != nil {
		return plain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var k Key
		if err := rows.Scan(&k.ID, &k.Name, &k.SHA256); err != nil {
			return plain(err)
		}
		there[string(k.SHA256)] = k
	}
	return plain(rows.Err())
}

// KeyFilter narrows a list of keys; empty fields do not.
type KeyFilter struct {
	Text, Type, Keeper   string
	LabelName, LabelText string
	Sort                 string
}

// Keys returns one page of keys.
func (s *Store) Keys(ctx context.Context, f KeyFilter, p Page) (List[Key], error) {
	q := s.db.WithContext(ctx).Model(&Key{})
	if f.Text != "" {
		q = q.Where("(keys.name || ' ' || keys.comment || ' ' || keys.purpose) ILIKE ?", like(f.Text))
	}
	if f.Type != "" {
		q = q.Where("keys.type = ?", f.Type)
	}
	if f.Keeper != "" {
		q = q.Where("keys.keeper_id = (SELECT id FROM keepers WHERE keepers.name = ?)", f.Keeper)
	}
	q = withLabel(q, "keys", f.LabelName, f.LabelText)
	q = q.Session(&gorm.Session{})
	o, ok := ordersOf("keys")[f.Sort]
	if !ok {
		return List[Key]{}, ErrSort
	}
	page, err := seek(q, o, p)
	if err != nil {
		return List[Key]{}, err
	}
	var items []Key
	err = page.Preload("Keeper").
		Select("keys.*, (SELECT count(*) FROM grants g WHERE g.key_id = keys.id AND g.withdrawn_at IS NULL) AS opens").
		Find(&items).Error
	if err != nil {
		return List[Key]{}, plain(err)
	}
	if err := s.withSharedPrimes(ctx, items); err != nil {
		return List[Key]{}, err
	}
	l := cut(items, p, func(k Key) []string {
		if len(o.columns) == 2 {
			return []string{stamp(k.CreatedAt), k.ID.String()}
		}
		return []string{k.Name}
	})
	return l, count(q, p, &l.Total)
}

func withLabel(q *gorm.DB, table, name, text string) *gorm.DB {
	if name == "" {
		return q
	}
	label, _ := json.Marshal(map[string]string{name: text}) // strings always encode
	return q.Where(table+".labels @> ?::jsonb", string(label))
}

func count(q *gorm.DB, p Page, total **int) error {
	if !p.Total {
		return nil
	}
	var n int64
	if err := q.Count(&n).Error; err != nil {
		return plain(err)
	}
	*total = new(int(n))
	return nil
}

func (s *Store) key(ctx context.Context, where string, value any) (Key, error) {
	var k Key
	err := s.db.WithContext(ctx).Preload("Keeper").
		Select("keys.*, (SELECT count(*) FROM grants g WHERE g.key_id = keys.id AND g.withdrawn_at IS NULL) AS opens").
		Where(where, value).Take(&k).Error
	if err != nil {
		return k, plain(err)
	}
	one := []Key{k}
	err = s.withSharedPrimes(ctx, one)
	return one[0], err
}

// KeyNamed returns the key of that name.
func (s *Store) KeyNamed(ctx context.Context, name string) (Key, error) {
	return s.key(ctx, "keys.name = ?", name)
}

// KeyWithSHA256 returns the key whose wire form has that digest.
func (s *Store) KeyWithSHA256(ctx context.Context, digest []byte) (Key, error) {
	return s.key(ctx, "keys.sha256 = ?", digest)
}

// KeysWithDigest returns the keys one of whose fingerprints of the kind, sha256,
// md5 or sha1, has the digest.
func (s *Store) KeysWithDigest(ctx context.Context, kind string, digest []byte) ([]Key, error) {
	where := map[string]string{
		"sha256": "keys.sha256 = @d",
		"md5":    "keys.md5 = @d OR keys.spki_md5 = @d",
		"sha1":   "keys.pkcs8_sha1 = @d",
	}[kind]
	var keys []Key
	err := s.db.WithContext(ctx).Preload("Keeper").
		Select("keys.*, (SELECT count(*) FROM grants g WHERE g.key_id = keys.id AND g.withdrawn_at IS NULL) AS opens").
		Where(where, map[string]any{"d": digest}).Order("keys.name").Find(&keys).Error
	if err != nil {
		return nil, plain(err)
	}
	return keys, s.withSharedPrimes(ctx, keys)
}

// KeysIn returns those of the keys, told by their digests, that are recorded,
// under their digests. Only their ids and names are filled in.
func (s *Store) KeysIn(ctx context.Context, digests [][]byte) (map[string]Key, error) {
	there := map[string]Key{}
	return there, s.collect(ctx, there, "SELECT id, name, sha256 FROM keys WHERE sha256 = ANY($1)", digests)
}

// InstancesWithHostKey returns the instances that are there and have a pinned
// host key with the SHA-256 digest.
func (s *Store) InstancesWithHostKey(ctx context.Context, digest []byte) ([]Instance, error) {
	var instances []Instance
	err := s.db.WithContext(ctx).
		Where("gone_at IS NULL AND id IN (SELECT instance_id FROM host_keys WHERE sha256 = ?)", digest).
		Order("name").
		Find(&instances).
		Error
	return instances, plain(err)
}

// KeysNamed returns those of the named keys that are there, in no order.
func (s *Store) KeysNamed(ctx context.Context, names []string) ([]Key, error) {
	var keys []Key
	err := s.db.WithContext(ctx).Where("name IN ?", names).Find(&keys).Error
	if err != nil {
		return nil, plain(err)
	}
	return keys, s.withSharedPrimes(ctx, keys)
}

// LockKey returns the key of that name and keeps it from being granted or
// changed by others until the transaction ends.
func (s *Store) LockKey(ctx context.Context, name string) (Key, error) {
	var k Key
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", name).Take(&k).Error
	return k, plain(err)
}

// DeleteKey removes a key that no grant names any more, with what was seen of it.
func (s *Store) DeleteKey(ctx context.Context, id uuid.UUID) error {
	db := s.db.WithContext(ctx)
	for _, q := range []string{
		"DELETE FROM sightings WHERE key_id = ?",
		"DELETE FROM grants WHERE key_id = ? AND withdrawn_at IS NOT NULL",
		"DELETE FROM keys WHERE id = ?",
	} {
		if err := db.Exec(q, id).Error; err != nil {
			return plain(err)
		}
	}
	return nil
}

// Keepers returns all persons and teams by name.
func (s *Store) Keepers(ctx context.Context) ([]Keeper, error) {
	var keepers []Keeper
	err := withMembers(s.db.WithContext(ctx).Model(&Keeper{})).Order("name").Find(&keepers).Error
	return keepers, plain(err)
}

// KeeperNamed returns the keeper of that name.
func (s *Store) KeeperNamed(ctx context.Context, name string) (Keeper, error) {
	var k Keeper
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&k).Error
	return k, plain(err)
}

// KeeperOf returns the keeper that an operator is.
func (s *Store) KeeperOf(ctx context.Context, operator uuid.UUID) (Keeper, error) {
	var k Keeper
	err := s.db.WithContext(ctx).Where("operator_id = ?", operator).Take(&k).Error
	return k, plain(err)
}

// AddGrants records that keys should open logins.
func (s *Store) AddGrants(ctx context.Context, grants []Grant) error {
	if len(grants) == 0 {
		return nil
	}
	return plain(s.db.WithContext(ctx).CreateInBatches(grants, 1000).Error)
}

// WithdrawGrantsOf ends all grants in the logins of an instance.
func (s *Store) WithdrawGrantsOf(ctx context.Context, instance uuid.UUID, at time.Time, by string) error {
	return plain(s.db.WithContext(ctx).Exec(`UPDATE grants SET withdrawn_at = ?, withdrawn_by = ?
		WHERE withdrawn_at IS NULL AND login_id IN (SELECT id FROM logins WHERE instance_id = ?)`, at, by, instance).Error)
}

// PutSightings records looks; a later look replaces an earlier one. A login and
// a key are named at most once.
func (s *Store) PutSightings(ctx context.Context, sightings []Sighting) error {
	if len(sightings) == 0 {
		return nil
	}
	var logins, keys [][16]byte
	var at []time.Time
	var methods, limits []string
	var present, opens []bool
	for _, g := range sightings {
		logins, keys, at = append(logins, g.LoginID), append(keys, g.KeyID), append(at, g.SeenAt)
		methods, limits, present, opens = append(
			methods,
			g.Method,
		), append(
			limits,
			g.Limits,
		), append(
			present,
			g.Present,
		), append(
			opens,
			g.Opens,
		)
	}
	_, err := s.db.Statement.ConnPool.ExecContext(
		ctx,
		`INSERT INTO sightings (login_id, key_id, seen_at, method, present, limits, opens)
		SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::timestamptz[], $4::text[], $5::bool[], $6::text[], $7::bool[])
		ON CONFLICT (login_id, key_id) DO UPDATE
			SET seen_at = excluded.seen_at, method = excluded.method, present = excluded.present,
			limits = excluded.limits, opens = excluded.opens
		WHERE sightings.seen_at <= excluded.seen_at`,
		logins,
		keys,
		at,
		methods,
		present,
		limits,
		opens,
	)
	return plain(err)
}

// KeyByID returns the key.
func (s *Store) KeyByID(ctx context.Context, id uuid.UUID) (Key, error) {
	return s.key(ctx, "keys.id = ?", id)
}

// AddOrKeepGrant records a grant; one that is live already is kept, with the
// later end and the new reason. added is whether it is new.
func (s *Store) AddOrKeepGrant(ctx context.Context, g Grant) (added bool, err error) {
	db := s.db.WithContext(ctx)
	kept := db.Model(&Grant{}).Where("key_id = ? AND login_id = ? AND withdrawn_at IS NULL", g.KeyID, g.LoginID).
		Updates(map[string]any{"until": g.Until, "reason": g.Reason, "end_refused": false})
	if kept.Error != nil || kept.RowsAffected > 0 {
		return false, plain(kept.Error)
	}
	return true, plain(db.Omit("EndRefused").Create(&g).Error)
}

// ReplaceGrant grants the login to a key in the place of another, until when that was
// granted, and ends the other's grant where withdraw is set.
func (s *Store) ReplaceGrant(ctx context.Context, g Grant, old uuid.UUID, withdraw bool) error {
	return plain(
		s.db.WithContext(ctx).
			Exec(`WITH replaced AS (SELECT until FROM grants WHERE login_id = @login AND key_id = @old AND withdrawn_at IS NULL),
		withdrawn AS (UPDATE grants SET withdrawn_at = @at, withdrawn_by = @by WHERE @withdraw AND login_id = @login
			AND key_id = @old AND withdrawn_at IS NULL)
		INSERT INTO grants (id, key_id, login_id, granted_at, granted_by, reason, until)
			SELECT @id, @key, @login, @at, @by, @reason, (SELECT until FROM replaced)
		ON CONFLICT (login_id, key_id) WHERE withdrawn_at IS NULL DO UPDATE
			SET until = excluded.until, reason = excluded.reason, end_refused = false`,
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
		s.db.WithContext(ctx).Model(&Grant{}).Where("key_id = ? AND login_id = ? AND withdrawn_at IS NULL", key, login).
			Updates(map[string]any{"withdrawn_at": at, "withdrawn_by": by}).Error,
	)
}

// GrantOver is a grant whose time is over.
type GrantOver struct {
	ID                    uuid.UUID
	KeyName, InstanceName string
	OSUser                string `gorm:"column:os_user"`
	EndRefused            bool
}

// GrantsOver returns at most limit live grants whose time is over, the oldest first.
func (s *Store) GrantsOver(ctx context.Context, now time.Time, limit int) ([]GrantOver, error) {
	var over []GrantOver
	err := s.db.WithContext(ctx).Raw(`SELECT g.id, k.name AS key_name, i.name AS instance_name, l.os_user, g.end_refused
		FROM grants g JOIN keys k ON k.id = g.key_id JOIN logins l ON l.id = g.login_id
			JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL
		WHERE g.withdrawn_at IS NULL AND g.until <= ? ORDER BY g.end_refused, g.until LIMIT ?`, now, limit).Scan(&over).Error
	return over, plain(err)
}

// NoteEndRefused records that a grant could not be withdrawn when its time was over.
func (s *Store) NoteEndRefused(ctx context.Context, grant uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Model(&Grant{}).Where("id = ?", grant).Update("end_refused", true).Error)
}
