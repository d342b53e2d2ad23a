package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// plainIDs are ids as PostgreSQL's driver takes an array of them.
func plainIDs(ids []uuid.UUID) [][16]byte {
	out := make([][16]byte, len(ids))
	for n, id := range ids {
		out[n] = id
	}
	return out
}

// LastVersions returns the newest version of each file of the logins, by login and path,
// without the contents.
func (s *Store) LastVersions(
	ctx context.Context, logins []uuid.UUID,
) (map[uuid.UUID]map[string]record.FileVersion, error) {
	var versions []record.FileVersion
	err := s.db.WithContext(ctx).
		Select("DISTINCT ON (login_id, path) id, login_id, path, there, digest, bytes, mode, method, seen_at, seen_until, "+
			"exposed").
		Where("login_id IN ?", logins).
		Order("login_id, path, seen_at DESC").
		Find(&versions).
		Error
	last := map[uuid.UUID]map[string]record.FileVersion{}
	for _, v := range versions {
		if last[v.LoginID] == nil {
			last[v.LoginID] = map[string]record.FileVersion{}
		}
		last[v.LoginID][v.Path] = v
	}
	return last, plain(err)
}

// SeenAgain records until when files were seen with the contents.
// Raw, since GORM updates no table from arrays.
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

// AddVersions records new contents of files.
// Raw where old ones go, since GORM numbers no rows.
func (s *Store) AddVersions(ctx context.Context, versions []record.FileVersion) error {
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

// ForgetReadings deletes at most limit versions of files that were last seen before a time and that a later version has
// replaced, and the keys that were gone from files and the settings that were over by then. It returns how many
// versions went.
// Raw, since GORM deletes nothing by its place.
func (s *Store) ForgetReadings(ctx context.Context, before time.Time, limit int) (int64, error) {
	db := s.db.WithContext(ctx)
	if err := db.Table("former_lines").Where("gone_by < ?", before).Delete(nil).Error; err != nil {
		return 0, plain(err)
	}
	if err := db.Table("server_versions").Where("read_at < ?", before).Delete(nil).Error; err != nil {
		return 0, plain(err)
	}
	done := db.Exec(`DELETE FROM file_versions WHERE id IN (SELECT v.id FROM file_versions v
		WHERE v.seen_at < ? AND v.seen_until < ?
		AND EXISTS (SELECT 1 FROM file_versions w WHERE w.login_id = v.login_id AND w.path = v.path
			AND w.seen_at > v.seen_at) LIMIT ?)`, before, before, limit)
	return done.RowsAffected, plain(done.Error)
}

// NewestVersions returns the newest version of each file of a login, by path.
func (s *Store) NewestVersions(ctx context.Context, login uuid.UUID) ([]record.FileVersion, error) {
	var versions []record.FileVersion
	err := s.db.WithContext(ctx).
		Select("DISTINCT ON (path) *").
		Where("login_id = ?", login).
		Order("path, seen_at DESC").
		Find(&versions).
		Error
	return versions, plain(err)
}

// ContentsOf returns what is kept of the versions, by their ids.
func (s *Store) ContentsOf(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID][]byte, error) {
	var versions []record.FileVersion
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
func (s *Store) Versions(ctx context.Context, login uuid.UUID, limit int) ([]record.FileVersion, error) {
	var versions []record.FileVersion
	err := s.db.WithContext(ctx).
		Where("login_id = ?", login).
		Order("seen_at DESC, path").
		Limit(limit).
		Find(&versions).
		Error
	return versions, plain(err)
}

// VersionsByID returns those of the versions that are of the login, the older first.
func (s *Store) VersionsByID(ctx context.Context, login uuid.UUID, ids ...uuid.UUID) ([]record.FileVersion, error) {
	var versions []record.FileVersion
	err := s.db.WithContext(ctx).Where("login_id = ? AND id IN ?", login, ids).Order("seen_at").Find(&versions).Error
	return versions, plain(err)
}
