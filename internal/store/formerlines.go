package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// FormerLinesKept is how many keys that went are kept of one login, the last that went: a machine whose files
// are others at each reading does not fill the database.
const FormerLinesKept = 2000

// PutFormerLines keeps keys that went from files; one that went before is kept as it went last.
// Raw, since GORM inserts no arrays.
func (s *Store) PutFormerLines(ctx context.Context, lines []record.FormerLine) error {
	type at struct {
		login        uuid.UUID
		path, sha256 string
	}
	var logins [][16]byte
	var paths, comments []string
	var sha256s, md5s [][]byte
	var seen, gone []time.Time
	known := map[at]bool{}
	for _, l := range lines {
		where := at{l.LoginID, l.Path, string(l.SHA256)}
		if known[where] {
			continue
		}
		known[where] = true
		logins, paths, comments = append(logins, l.LoginID), append(paths, l.Path), append(comments, l.Comment)
		sha256s, md5s = append(sha256s, l.SHA256), append(md5s, l.MD5)
		seen, gone = append(seen, l.SeenAt), append(gone, l.GoneBy)
	}
	if len(logins) == 0 {
		return nil
	}
	_, err := s.db.Statement.ConnPool.ExecContext(
		ctx,
		`INSERT INTO former_lines (login_id, path, sha256, md5, comment, seen_at, gone_by)
		SELECT * FROM unnest($1::uuid[], $2::text[], $3::bytea[], $4::bytea[], $5::text[], $6::timestamptz[],
			$7::timestamptz[])
		ON CONFLICT (login_id, path, sha256) DO UPDATE
			SET comment = excluded.comment, seen_at = excluded.seen_at, gone_by = excluded.gone_by`,
		logins, paths, sha256s, md5s, comments, seen, gone,
	)
	if err != nil {
		return plain(err)
	}
	_, err = s.db.Statement.ConnPool.ExecContext(
		ctx,
		`DELETE FROM former_lines f USING (SELECT login_id, path, sha256,
			row_number() OVER (PARTITION BY login_id ORDER BY gone_by DESC, path, sha256) AS place
			FROM former_lines WHERE login_id = ANY($1::uuid[])) o
		WHERE o.place > $2 AND f.login_id = o.login_id AND f.path = o.path AND f.sha256 = o.sha256`,
		logins, FormerLinesKept,
	)
	return plain(err)
}

// FormerLinesWith returns at most limit places where a key with the digest, of the kind sha256 or md5, once was
// and no longer is, also of instances that are gone.
func (s *Store) FormerLinesWith(ctx context.Context, kind string, sum []byte, limit int) (
	out []record.FormerLineIn, err error,
) {
	column := "f.sha256"
	if kind == "md5" {
		column = "f.md5"
	}
	err = s.db.WithContext(ctx).
		Table("former_lines f").
		Select("f.*, l.os_user, i.name AS instance_name, i.gone_at").
		Joins("JOIN logins l ON l.id = f.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id").
		Where(column+" = ?", sum).
		Where(`NOT EXISTS (SELECT 1 FROM strangers s WHERE s.login_id = f.login_id AND s.sha256 = f.sha256)
			AND NOT EXISTS (SELECT 1 FROM sightings s JOIN keys k ON k.id = s.key_id
				WHERE s.login_id = f.login_id AND s.present AND k.sha256 = f.sha256)`).
		Order("i.name, l.os_user, f.gone_by DESC").
		Limit(limit).
		Scan(&out).
		Error
	return out, plain(err)
}
