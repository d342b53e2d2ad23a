package store

import (
	"context"
	"encoding/json"
	"strings"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
)

// AddKey keeps a new key. A *TakenError names keys_name or keys_sha256.
func (s *Store) AddKey(ctx context.Context, k *record.Key) error {
	return plain(s.db.WithContext(ctx).Omit("Holder").Create(k).Error)
}

const insertListed = `INSERT INTO keys (id, name, type, algorithm, bits, blob, sha256, md5, spki_md5, comment,
	holder_id, purpose, labels, custody, origin, state, created_at, created_by)
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
// and share the rest: holder, purpose, labels, custody, origin, state and making.
// Raw, since GORM inserts no arrays.
func (s *Store) AddKeysOrSkip(ctx context.Context, keys []record.Key) (map[string]record.Key, error) {
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
	named := map[string]record.Key{}
	if err := s.collect(
		ctx, named, "SELECT id, name, convert_to(name, 'UTF8') FROM keys WHERE name = ANY($1)", names,
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
			ids, k.ID,
		), append(
			names, k.Name,
		), append(
			types, k.Type,
		), append(
			algorithms, k.Algorithm,
		), append(
			bits, k.Bits,
		)
		blobs, digests, md5s, spkis = append(
			blobs, k.Blob,
		), append(
			digests, k.SHA256,
		), append(
			md5s, k.MD5,
		), append(
			spkis, k.SPKIMD5,
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
		ctx, insertListed, ids, names, types, algorithms, bits, blobs, digests, md5s, spkis, comments, k.HolderID,
		k.Purpose, string(labels), k.Custody, k.Origin, k.State, k.CreatedAt, k.CreatedBy,
	)
	return there, plain(err)
}

// collect puts the keys that a query returns in there, under their digests. Raw, since
// GORM would write an array as a list of parameters.
func (s *Store) collect(ctx context.Context, there map[string]record.Key, query string, args ...any) error {
	rows, err := s.db.Statement.ConnPool.QueryContext(ctx, query, args...)
	if err != nil {
		return plain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var k record.Key
		if err := rows.Scan(&k.ID, &k.Name, &k.SHA256); err != nil {
			return plain(err)
		}
		there[string(k.SHA256)] = k
	}
	return plain(rows.Err())
}

// Keys returns one page of keys.
func (s *Store) Keys(ctx context.Context, f record.KeyFilter, p record.Page) (record.List[record.Key], error) {
	q := s.db.WithContext(ctx).Model(&record.Key{})
	if f.Text != "" {
		q = q.Where("(keys.name || ' ' || keys.comment || ' ' || keys.purpose) ILIKE ?", like(f.Text))
	}
	if f.Type != "" {
		q = q.Where("keys.type = ?", f.Type)
	}
	if f.Holder != "" {
		q = q.Where("keys.holder_id = (SELECT id FROM holders WHERE holders.name = ?)", f.Holder)
	}
	if f.Own != nil {
		const own = "(keys.steward_of IS NOT NULL OR EXISTS " +
			"(SELECT FROM visits v WHERE v.key_id = keys.id AND v.way = 'visit-key'))"
		if *f.Own {
			q = q.Where(own)
		} else {
			q = q.Where("NOT " + own)
		}
	}
	q = withLabel(q, "keys", f.LabelName, f.LabelText)
	q = q.Session(&gorm.Session{})
	o, ok := ordersOf("keys")[f.Sort]
	if !ok {
		return record.List[record.Key]{}, ErrSort
	}
	page, err := seek(q, o, p)
	if err != nil {
		return record.List[record.Key]{}, err
	}
	var items []record.Key
	err = page.Preload("Holder").
		Select("keys.*, (SELECT count(*) FROM grants g WHERE g.key_id = keys.id AND g.withdrawn_at IS NULL) AS opens").
		Find(&items).Error
	if err != nil {
		return record.List[record.Key]{}, plain(err)
	}
	if err := s.withSharedPrimes(ctx, items); err != nil {
		return record.List[record.Key]{}, err
	}
	l := cut(items, p, func(k record.Key) []string {
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

func count(q *gorm.DB, p record.Page, total **int) error {
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

func (s *Store) key(ctx context.Context, where string, value any) (record.Key, error) {
	var k record.Key
	err := s.db.WithContext(ctx).Preload("Holder").
		Select("keys.*, (SELECT count(*) FROM grants g WHERE g.key_id = keys.id AND g.withdrawn_at IS NULL) AS opens").
		Where(where, value).Take(&k).Error
	if err != nil {
		return k, plain(err)
	}
	one := []record.Key{k}
	err = s.withSharedPrimes(ctx, one)
	return one[0], err
}

// KeyNamed returns the key of that name.
func (s *Store) KeyNamed(ctx context.Context, name string) (record.Key, error) {
	return s.key(ctx, "keys.name = ?", name)
}

// KeyWithSHA256 returns the key whose wire form has that digest.
func (s *Store) KeyWithSHA256(ctx context.Context, digest []byte) (record.Key, error) {
	return s.key(ctx, "keys.sha256 = ?", digest)
}

// KeysWithDigest returns the keys one of whose fingerprints of the kind, sha256,
// md5 or sha1, has the digest.
func (s *Store) KeysWithDigest(ctx context.Context, kind string, digest []byte) ([]record.Key, error) {
	where := map[string]string{
		"sha256": "keys.sha256 = @d",
		"md5":    "keys.md5 = @d OR keys.spki_md5 = @d",
		"sha1":   "keys.pkcs8_sha1 = @d",
	}[kind]
	var keys []record.Key
	err := s.db.WithContext(ctx).Preload("Holder").
		Select("keys.*, (SELECT count(*) FROM grants g WHERE g.key_id = keys.id AND g.withdrawn_at IS NULL) AS opens").
		Where(where, map[string]any{"d": digest}).Order("keys.name").Find(&keys).Error
	if err != nil {
		return nil, plain(err)
	}
	return keys, s.withSharedPrimes(ctx, keys)
}

// KeysWithDigests returns the keys that have one of the digests, in whichever notation, by name.
func (s *Store) KeysWithDigests(ctx context.Context, digests []keypair.Digest) (keys []record.Key, err error) {
	of := map[string][][]byte{"sha256": {{}}, "md5": {{}}, "sha1": {{}}}
	for _, d := range digests {
		of[d.Kind] = append(of[d.Kind], d.Sum)
	}
	err = s.db.WithContext(ctx).
		Where("sha256 IN ? OR md5 IN ? OR spki_md5 IN ? OR pkcs8_sha1 IN ?", of["sha256"], of["md5"], of["md5"], of["sha1"]).
		Order("name").
		Find(&keys).
		Error
	return keys, plain(err)
}

// KeysIn returns those of the keys, told by their digests, that are recorded,
// under their digests. Only their ids and names are filled in.
func (s *Store) KeysIn(ctx context.Context, digests [][]byte) (map[string]record.Key, error) {
	there := map[string]record.Key{}
	return there, s.collect(ctx, there, "SELECT id, name, sha256 FROM keys WHERE sha256 = ANY($1)", digests)
}

// KeysNamed returns those of the named keys that are there, in no order.
func (s *Store) KeysNamed(ctx context.Context, names []string) ([]record.Key, error) {
	var keys []record.Key
	err := s.db.WithContext(ctx).Where("name IN ?", names).Find(&keys).Error
	if err != nil {
		return nil, plain(err)
	}
	return keys, s.withSharedPrimes(ctx, keys)
}

// LockKey returns the key of that name and keeps it from being granted or
// changed by others until the transaction ends.
func (s *Store) LockKey(ctx context.Context, name string) (record.Key, error) {
	var k record.Key
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", name).Take(&k).Error
	return k, plain(err)
}

// DeleteKey removes a key that no grant names now, with what was seen of it.
func (s *Store) DeleteKey(ctx context.Context, id uuid.UUID) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("key_id = ?", id).Delete(&record.Sighting{}).Error; err != nil {
		return plain(err)
	}
	if err := db.Where("key_id = ? AND withdrawn_at IS NOT NULL", id).Delete(&record.Grant{}).Error; err != nil {
		return plain(err)
	}
	return plain(db.Where("id = ?", id).Delete(&record.Key{}).Error)
}

// KeyByID returns the key.
func (s *Store) KeyByID(ctx context.Context, id uuid.UUID) (record.Key, error) {
	return s.key(ctx, "keys.id = ?", id)
}

// SetKeyState marks a key as active, retired or lost.
func (s *Store) SetKeyState(ctx context.Context, key uuid.UUID, state custody.State) error {
	return plain(s.db.WithContext(ctx).Model(&record.Key{}).Where("id = ?", key).Update("state", state).Error)
}

// ChangeKey changes the record of a key. A *TakenError names keys_name.
func (s *Store) ChangeKey(ctx context.Context, key uuid.UUID, c record.KeyChange) error {
	return plain(s.db.WithContext(ctx).Model(&record.Key{}).Where("id = ?", key).Updates(c).Error)
}

// KeysByID returns the keys with their holders, in no order.
func (s *Store) KeysByID(ctx context.Context, ids []uuid.UUID) ([]record.Key, error) {
	var keys []record.Key
	err := s.db.WithContext(ctx).Preload("Holder").Where("id IN ?", ids).Find(&keys).Error
	return keys, plain(err)
}

// NamesUnder returns the names of keys that are one of the stems, or one with a
// hyphen and more after it.
// Raw, since GORM would write an array as a list of parameters.
func (s *Store) NamesUnder(ctx context.Context, stems []string) ([]string, error) {
	var patterns []string
	for _, stem := range stems {
		patterns = append(patterns, strings.ReplaceAll(stem, "_", `\_`)+"-%") // names have no other letter that LIKE knows
	}
	rows, err := s.db.Statement.ConnPool.QueryContext(
		ctx, "SELECT name FROM keys WHERE name = ANY($1) OR name LIKE ANY($2)", stems, patterns,
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

// MoreToReplace reports whether a rotation has an item of the old key that has not ended.
func (s *Store) MoreToReplace(ctx context.Context, old uuid.UUID) (bool, error) {
	var some []uuid.UUID
	err := s.db.WithContext(ctx).
		Model(&record.RotationItem{}).
		Where("old_key_id = ? AND ended_at IS NULL", old).
		Limit(1).
		Pluck("id", &some).
		Error
	return len(some) > 0, plain(err)
}

// RetireUnused marks a key as retired where nothing grants it and it was seen
// nowhere at the last looks. It returns whether it did.
// Raw, since GORM tells of an update only how it went, and the conditions span tables.
func (s *Store) RetireUnused(ctx context.Context, key uuid.UUID) (bool, error) {
	done := s.db.WithContext(ctx).Exec(`UPDATE keys SET state = 'retired' WHERE id = ? AND state = 'active'
		AND NOT EXISTS (SELECT 1 FROM grants WHERE key_id = keys.id AND withdrawn_at IS NULL)
		AND NOT EXISTS (SELECT 1 FROM sightings s JOIN logins l ON l.id = s.login_id
			JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL WHERE s.key_id = keys.id AND s.present)`, key)
	return done.RowsAffected > 0, plain(done.Error)
}
