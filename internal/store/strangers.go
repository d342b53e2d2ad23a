package store

import (
	"context"
	"encoding/hex"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// TakeStrangers returns the strangers that were not noted, and marks them as noted.
// Raw, since GORM asks nothing of what it changes.
func (s *Store) TakeStrangers(ctx context.Context) ([]record.NewStranger, error) {
	var out []record.NewStranger
	err := s.db.WithContext(ctx).
		Raw(`WITH taken AS (UPDATE strangers SET noted = true WHERE NOT noted RETURNING login_id, sha256, comment)
		SELECT t.sha256, t.comment, l.os_user, i.name AS instance_name FROM taken t JOIN logins l ON l.id = t.login_id
			JOIN instances i ON i.id = l.instance_id WHERE i.gone_at IS NULL ORDER BY i.name, l.os_user LIMIT 500`).
		Scan(&out).
		Error
	return out, plain(err)
}

// PutStrangers records the strangers that are in the logins now; others are forgotten.
// Raw, since GORM inserts no arrays.
func (s *Store) PutStrangers(ctx context.Context, logins []uuid.UUID, strangers []record.Stranger) error {
	in, of := plainIDs(logins), make([][16]byte, len(strangers))
	digests, blobs := make([][]byte, len(strangers)), make([][]byte, len(strangers))
	algorithms, comments, limits := make(
		[]string, len(strangers),
	), make(
		[]string, len(strangers),
	), make(
		[]string, len(strangers),
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

// ClaimStrangers makes sightings of the strangers that are recorded keys by now.
// Raw, since GORM has no statement that changes two tables.
func (s *Store) ClaimStrangers(ctx context.Context) error {
	return plain(s.db.WithContext(ctx).Exec(`WITH known AS (
			DELETE FROM strangers g USING keys k WHERE k.sha256 = g.sha256
				RETURNING g.login_id, k.id AS key_id, g.seen_at, g.limits)
		INSERT INTO sightings (login_id, key_id, seen_at, method, present, limits)
		SELECT login_id, key_id, seen_at, 'seen as a stranger', true, limits FROM known ON CONFLICT DO NOTHING`).Error)
}

// StrangersOf returns at most limit strangers in the logins of an instance, the first seen first.
func (s *Store) StrangersOf(ctx context.Context, instance uuid.UUID, limit int) ([]record.Stranger, error) {
	var strangers []record.Stranger
	err := s.db.WithContext(ctx).
		Where("login_id IN (SELECT id FROM logins WHERE instance_id = ?)", instance).
		Order("first_seen_at, sha256").
		Limit(limit).
		Find(&strangers).
		Error
	return strangers, plain(err)
}

// StrangersWith returns at most limit strangers whose key has the digest of the kind: sha256 or md5, both of the
// wire form.
// Raw in its condition, since GORM has no digests.
func (s *Store) StrangersWith(ctx context.Context, kind string, sum []byte, limit int) ([]record.StrangerIn, error) {
	condition, value := "strangers.sha256 = ?", any(sum)
	if kind == "md5" {
		condition, value = "md5(strangers.blob) = ?", hex.EncodeToString(sum)
	}
	var out []record.StrangerIn
	err := s.db.WithContext(ctx).
		Model(&record.Stranger{}).
		Select("strangers.*, l.os_user, i.name AS instance_name").
		Joins("JOIN logins l ON l.id = strangers.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL").
		Where(condition, value).
		Order("i.name, l.os_user").
		Limit(limit).
		Find(&out).
		Error
	return out, plain(err)
}
