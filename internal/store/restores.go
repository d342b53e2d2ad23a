package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Closing is something that a run opens for a while and that is to be closed again.
type Closing struct {
	ID         uuid.UUID
	RunID      uuid.UUID
	InstanceID uuid.UUID
	Kind       string
	What       string
	Details    map[string]string `gorm:"serializer:json"`
	WrittenAt  time.Time
	Deadline   time.Time
	OpenedAt   *time.Time
	ClosedAt   *time.Time
	Note       string
	// Of the instance.
	InstanceName string `gorm:"->;-:migration"`
}

// PasswordReading is that somebody asked for an administrator's password, or opened it.
type PasswordReading struct {
	ID         uuid.UUID
	InstanceID uuid.UUID
	Person     string
	What       string // asked or opened
	At         time.Time
}

// WriteClosing writes down what is going to be opened. One that is there stays.
func (s *Store) WriteClosing(ctx context.Context, c Closing) error {
	return plain(s.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&c).Error)
}

// ChangeClosing sets columns of a closing.
func (s *Store) ChangeClosing(ctx context.Context, id uuid.UUID, columns map[string]any) error {
	return plain(s.db.WithContext(ctx).Model(&Closing{}).Where("id = ?", id).Updates(columns).Error)
}

func (s *Store) closings(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).
		Model(&Closing{}).
		Select("closings.*, instances.name AS instance_name").
		Joins("JOIN instances ON instances.id = closings.instance_id")
}

// ClosingByID returns what was opened under the id.
func (s *Store) ClosingByID(ctx context.Context, id uuid.UUID) (Closing, error) {
	var c Closing
	err := s.closings(ctx).Where("closings.id = ?", id).Take(&c).Error
	return c, plain(err)
}

// ClosingsOf returns what the runs have opened, in the order in which it was.
func (s *Store) ClosingsOf(ctx context.Context, runs ...uuid.UUID) ([]Closing, error) {
	var list []Closing
	err := s.closings(ctx).Where("run_id IN ?", runs).Order("written_at, closings.id").Find(&list).Error
	return list, plain(err)
}

// OpenClosings returns what is not closed yet, those with the first deadline first.
func (s *Store) OpenClosings(ctx context.Context) ([]Closing, error) {
	var list []Closing
	err := s.closings(ctx).Where("closed_at IS NULL").Order("deadline, closings.id").Limit(500).Find(&list).Error
	return list, plain(err)
}

// LiveRunOf returns the run that is at work on an instance.
func (s *Store) LiveRunOf(ctx context.Context, instance uuid.UUID) (uuid.UUID, error) {
	var r Run
	err := s.db.WithContext(ctx).Select("id").Where("instance_id = ? AND ended_at IS NULL", instance).Take(&r).Error
	return r.ID, plain(err)
}

// LiveRestoreOf returns the id of the restore that is at work on an instance, or on the
// one that replaces it; ErrNotFound if there is none.
func (s *Store) LiveRestoreOf(ctx context.Context, instance uuid.UUID) (uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).
		Model(&Run{}).
		Where(
			"kind = 'restore' AND ended_at IS NULL AND (instance_id = ? OR coalesce(payload->>'replacement', "+
				"facts->>'replacement') = ?)",
			instance,
			instance.String(),
		).
		Limit(1).
		Pluck("id", &ids).
		Error
	if err == nil && len(ids) == 0 {
		return uuid.Nil, ErrNotFound
	}
	if err != nil {
		return uuid.Nil, plain(err)
	}
	return ids[0], nil
}

// StepTime is the median time of a step in the runs of a kind, in seconds. Size is the
// median size of the disks of those runs in GiB, 0 where they have none.
type StepTime struct {
	Kind, Name    string
	Seconds, Size float64
}

// StepTimes returns what the steps of the last runs that start, stop, launch and restore
// instances took.
func (s *Store) StepTimes(ctx context.Context) ([]StepTime, error) {
	var out []StepTime
	err := s.db.WithContext(ctx).Raw(`WITH last AS (
			SELECT r.id, r.kind, coalesce(r.payload->>'gib', r.facts->>'gib')::float AS gib
				FROM (VALUES ('launch'), ('start'), ('stop'), ('restore')) AS kinds (kind)
			CROSS JOIN LATERAL (SELECT id, kind, facts, payload FROM runs WHERE runs.kind = kinds.kind
				AND state = 'done' ORDER BY ended_at DESC LIMIT 20) AS r)
		SELECT last.kind, st.name, percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch
			FROM st.ended_at - st.started_at)) AS seconds,
			coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY gib), 0) AS size
		FROM last JOIN run_steps AS st ON st.run_id = last.id WHERE st.state = 'done' AND st.ended_at IS NOT NULL
			GROUP BY last.kind, st.name`).Scan(&out).Error
	return out, plain(err)
}

// NotePasswordReading records that somebody asked for a password or opened it.
func (s *Store) NotePasswordReading(ctx context.Context, r PasswordReading) error {
	return plain(s.db.WithContext(ctx).Create(&r).Error)
}

// PasswordReadings returns who asked for the password of an instance and who opened it,
// the last first.
func (s *Store) PasswordReadings(ctx context.Context, instance uuid.UUID) ([]PasswordReading, error) {
	var list []PasswordReading
	err := s.db.WithContext(ctx).Where("instance_id = ?", instance).Order("at DESC, id").Limit(100).Find(&list).Error
	return list, plain(err)
}

// ClosingsDue returns what is open beyond its deadline, and what was closed since the
// moment although its opening was never answered, or was answered only then.
func (s *Store) ClosingsDue(ctx context.Context, now, since time.Time) ([]Closing, error) {
	var list []Closing
	err := s.closings(ctx).
		Where(
			"closed_at IS NULL AND deadline <= ? OR (opened_at IS NULL OR opened_at >= closed_at) AND closed_at > ?",
			now,
			since,
		).
		Order("deadline, closings.id").
		Limit(500).
		Find(&list).
		Error
	return list, plain(err)
}
