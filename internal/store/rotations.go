package store

import (
	"context"
	"strings"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// AddRotation keeps a new rotation with its items.
func (s *Store) AddRotation(ctx context.Context, r record.Rotation, items []record.RotationItem) error {
	db := s.db.WithContext(ctx)
	if err := db.Create(&r).Error; err != nil {
		return plain(err)
	}
	return plain(db.CreateInBatches(items, 500).Error)
}

// RotationByID returns a rotation.
func (s *Store) RotationByID(ctx context.Context, id uuid.UUID) (record.Rotation, error) {
	var r record.Rotation
	err := s.db.WithContext(ctx).Where("id = ?", id).Take(&r).Error
	return r, plain(err)
}

// LockRotation returns a rotation and keeps others from changing it until the
// transaction ends.
func (s *Store) LockRotation(ctx context.Context, id uuid.UUID) (record.Rotation, error) {
	var r record.Rotation
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Take(&r).Error
	return r, plain(err)
}

// LiveRotations returns the ids of the rotations that have not ended.
func (s *Store) LiveRotations(ctx context.Context) ([]uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).
		Model(&record.Rotation{}).
		Where("ended_at IS NULL").
		Order("created_at").
		Pluck("id", &ids).
		Error
	return ids, plain(err)
}

// Rotations returns one page of rotations, the newest first, without what their plans
// left out. With meant, only those that begin with that id, or that work on the login, instance or key of that name.
func (s *Store) Rotations(ctx context.Context, meant string, p record.Page) (record.List[record.Rotation], error) {
	q := s.db.WithContext(ctx).Model(&record.Rotation{})
	if meant != "" {
		first, last, _ := idsFrom(meant)
		user, _, ok := strings.Cut(meant, "@")
		if !ok {
			user = ""
		}
		q = q.Where(
			"rotations.id BETWEEN ? AND ? OR rotations.id IN (SELECT t.rotation_id FROM rotation_items t JOIN logins l "+
				"ON l.id = t.login_id JOIN instances i ON i.id = l.instance_id WHERE i.name = ? AND (? = '' OR l.os_user = ?)) "+
				"OR rotations.id IN (SELECT t.rotation_id FROM rotation_items t JOIN keys k ON k.id = t.old_key_id WHERE "+
				"k.name = ?)",
			first, last, instanceMeant(meant), user, user, meant,
		)
	}
	q = q.Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"created_at", "id"}, down: true}, p)
	if err != nil {
		return record.List[record.Rotation]{}, err
	}
	var items []record.Rotation
	if err := page.Omit("left_out").Find(&items).Error; err != nil { // which may be long
		return record.List[record.Rotation]{}, plain(err)
	}
	l := cut(items, p, func(r record.Rotation) []string { return []string{stamp(r.CreatedAt), r.ID.String()} })
	return l, count(q, p, &l.Total)
}

// ChangeRotation changes a rotation.
func (s *Store) ChangeRotation(ctx context.Context, id uuid.UUID, c record.RotationChange) error {
	return plain(s.db.WithContext(ctx).Model(&record.Rotation{}).Where("id = ?", id).Updates(&c).Error)
}

// ReopenRotation has a rotation that has ended continue.
func (s *Store) ReopenRotation(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Model(&record.Rotation{}).Where("id = ?", id).Update("ended_at", nil).Error)
}
