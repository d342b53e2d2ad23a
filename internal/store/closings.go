package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// WriteClosing writes down what is going to be opened. One that is there stays.
func (s *Store) WriteClosing(ctx context.Context, c record.Closing) error {
	return plain(s.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&c).Error)
}

// ChangeClosing changes a closing.
func (s *Store) ChangeClosing(ctx context.Context, id uuid.UUID, c record.ClosingChange) error {
	return plain(s.db.WithContext(ctx).Model(&record.Closing{}).Where("id = ?", id).Updates(&c).Error)
}

func (s *Store) closings(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).
		Model(&record.Closing{}).
		Select("closings.*, instances.name AS instance_name, instances.in_cloud").
		Joins("JOIN instances ON instances.id = closings.instance_id")
}

// ClosingByID returns what was opened under the id.
func (s *Store) ClosingByID(ctx context.Context, id uuid.UUID) (record.Closing, error) {
	var c record.Closing
	err := s.closings(ctx).Where("closings.id = ?", id).Take(&c).Error
	return c, plain(err)
}

// ClosingsOf returns what the runs have opened, in the order in which it was.
func (s *Store) ClosingsOf(ctx context.Context, runs ...uuid.UUID) ([]record.Closing, error) {
	var list []record.Closing
	err := s.closings(ctx).Where("run_id IN ?", runs).Order("written_at, closings.id").Find(&list).Error
	return list, plain(err)
}

// OpenClosings returns what is not closed yet, those with the first deadline first.
func (s *Store) OpenClosings(ctx context.Context) ([]record.Closing, error) {
	var list []record.Closing
	err := s.closings(ctx).Where("closed_at IS NULL").Order("deadline, closings.id").Limit(500).Find(&list).Error
	return list, plain(err)
}

// ClosingsDue returns what is open beyond its deadline, and what was closed since the
// moment although its opening was never answered, or was answered only then.
func (s *Store) ClosingsDue(ctx context.Context, now, since time.Time) ([]record.Closing, error) {
	var list []record.Closing
	err := s.closings(ctx).
		Where(
			"closed_at IS NULL AND deadline <= ? OR (opened_at IS NULL OR opened_at >= closed_at) AND closed_at > ?",
			now, since,
		).
		Order("deadline, closings.id").
		Limit(500).
		Find(&list).
		Error
	return list, plain(err)
}
