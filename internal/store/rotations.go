package store

import (
	"context"
	"plumlatch/internal/core/rotation"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Rotation replaces keys on logins.
type Rotation struct {
	ID          uuid.UUID
	State       rotation.State
	RequestedBy string
	Reason      string
	Settings    RotationSettings `gorm:"serializer:json"`
	CreatedAt   time.Time
	EndedAt     *time.Time
	PausedWhy   string
	// Urgent is for lost keys, with no grace.
	Urgent bool
	// Rule is the name of the standing rule that began it, "" for a person.
	Rule    string
	LeftOut []LeftOut `gorm:"serializer:json;default:'[]'"`
}

// LeftOut is what a rotation's plan left out, and why.
type LeftOut struct {
	Login  string `json:"login"`
	Old    string `json:"old"`
	Why    string `json:"why"`
	Remedy string `json:"remedy"`
}

// RotationSettings say how a rotation goes about it.
type RotationSettings struct {
	// First is the size of the first group, 0 for none; AtOnce how many logins are
	// worked on at once; StopAfter how many failures pause it, 0 for no number.
	First     int `json:"first"`
	AtOnce    int `json:"at_once"`
	StopAfter int `json:"stop_after"`
	// Between are hours such as 22:00-04:00 in Zone; "" for all.
	Between string `json:"between"`
	Zone    string `json:"zone"`
	// GraceSeconds is how long old and new stand beside each other.
	GraceSeconds int `json:"grace_seconds"`
}

// AddRotation keeps a new rotation with its items.
func (s *Store) AddRotation(ctx context.Context, r Rotation, items []RotationItem) error {
	db := s.db.WithContext(ctx)
	if err := db.Create(&r).Error; err != nil {
		return plain(err)
	}
	return plain(db.CreateInBatches(items, 500).Error)
}

// RotationByID returns a rotation.
func (s *Store) RotationByID(ctx context.Context, id uuid.UUID) (Rotation, error) {
	var r Rotation
	err := s.db.WithContext(ctx).Where("id = ?", id).Take(&r).Error
	return r, plain(err)
}

// LockRotation returns a rotation and keeps others from changing it until the
// transaction ends.
func (s *Store) LockRotation(ctx context.Context, id uuid.UUID) (Rotation, error) {
	var r Rotation
	err := s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Take(&r).Error
	return r, plain(err)
}

// LiveRotations returns the ids of the rotations that have not ended.
func (s *Store) LiveRotations(ctx context.Context) ([]uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).Model(&Rotation{}).Where("ended_at IS NULL").Order("created_at").Pluck("id", &ids).Error
	return ids, plain(err)
}

// Rotations returns one page of rotations, the newest first, without what their plans
// left out.
func (s *Store) Rotations(ctx context.Context, p Page) (List[Rotation], error) {
	q := s.db.WithContext(ctx).Model(&Rotation{}).Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"created_at", "id"}, down: true}, p)
	if err != nil {
		return List[Rotation]{}, err
	}
	var items []Rotation
	if err := page.Omit("left_out").Find(&items).Error; err != nil { // which may be long
		return List[Rotation]{}, plain(err)
	}
	l := cut(items, p, func(r Rotation) []string { return []string{stamp(r.CreatedAt), r.ID.String()} })
	return l, count(q, p, &l.Total)
}

// ChangeRotation sets columns of a rotation.
func (s *Store) ChangeRotation(ctx context.Context, id uuid.UUID, columns map[string]any) error {
	return plain(s.db.WithContext(ctx).Model(&Rotation{}).Where("id = ?", id).Updates(columns).Error)
}
