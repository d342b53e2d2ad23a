package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

const instancesInCloud = `clouds.*, (SELECT count(*) FROM instances i
	WHERE i.in_cloud = clouds.id AND i.gone_at IS NULL) AS instances,
	(SELECT count(*) FROM cloud_instances ` + recordedAs + `
		WHERE cloud_instances.cloud = clouds.id AND cloud_instances.gone_at IS NULL
		AND cloud_instances.state <> 'deleted'
		AND i.id IS NULL AND ` + notOurs + ` AND NOT coalesce(` + ruleFor + `, false)) AS not_recorded`

// AddCloud keeps a cloud. A *TakenError names clouds_name or clouds_adapter.
func (s *Store) AddCloud(ctx context.Context, c record.Cloud, token record.Secret) error {
	if err := s.underMark(ctx, token); err != nil {
		return err
	}
	c.Encrypted = token.Encrypted
	return plain(s.db.WithContext(ctx).Create(&c).Error)
}

// Clouds returns the clouds that are not forgotten, the given one first, then by name.
func (s *Store) Clouds(ctx context.Context) (out []record.Cloud, err error) {
	err = s.db.WithContext(ctx).
		Select(instancesInCloud).
		Where("forgotten_at IS NULL").
		Order("given DESC, name").
		Find(&out).
		Error
	return out, plain(err)
}

// CloudNamed returns the cloud of that name.
func (s *Store) CloudNamed(ctx context.Context, name string) (c record.Cloud, err error) {
	err = s.db.WithContext(ctx).
		Select(instancesInCloud).
		Where("name = ? AND forgotten_at IS NULL", name).
		Take(&c).
		Error
	return c, plain(err)
}

// CloudByID returns the cloud, forgotten or not.
func (s *Store) CloudByID(ctx context.Context, id uuid.UUID) (c record.Cloud, err error) {
	err = s.db.WithContext(ctx).Where("id = ?", id).Take(&c).Error
	return c, plain(err)
}

// ChangeCloud changes the record of a cloud. A *TakenError names clouds_name or clouds_adapter.
func (s *Store) ChangeCloud(ctx context.Context, id uuid.UUID, c record.CloudChange) error {
	return plain(s.db.WithContext(ctx).Model(&record.Cloud{}).Where("id = ?", id).Updates(&c).Error)
}

// SealCloud keeps another token for the adapter of a cloud.
func (s *Store) SealCloud(ctx context.Context, id uuid.UUID, token record.Secret) error {
	if err := s.underMark(ctx, token); err != nil {
		return err
	}
	return plain(
		s.db.WithContext(ctx).Model(&record.Cloud{}).Where("id = ?", id).Update("encrypted", token.Encrypted).Error,
	)
}

// PauseCloud has a cloud left unasked, or asked again where at is nil.
func (s *Store) PauseCloud(ctx context.Context, id uuid.UUID, at *time.Time, by, why string) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.Cloud{}).
			Where("id = ?", id).
			Updates(map[string]any{"paused_at": at, "paused_by": by, "paused_why": why}).
			Error,
	)
}

// NoteAnswer keeps what a cloud said of itself, or why it did not answer.
func (s *Store) NoteAnswer(ctx context.Context, id uuid.UUID, a record.CloudAnswer) error {
	changes := map[string]any{"asked_at": a.At, "failure": a.Failure, "latency_ms": a.LatencyMs}
	if a.Failure == "" {
		changes["answered_at"] = a.At
	}
	db := s.db.WithContext(ctx).Model(&record.Cloud{}).Where("id = ?", id)
	if err := db.Updates(changes).Error; err != nil || a.Said == nil {
		return plain(err)
	}
	return plain(
		s.db.WithContext(ctx).Model(&record.Cloud{}).Where("id = ?", id).Updates(&record.CloudChange{Said: a.Said}).Error,
	)
}

// CloudInUse returns how many runs are at work, and how many things are open, in the instances of a cloud. No run
// begins until the transaction ends. Raw, since GORM locks no table.
func (s *Store) CloudInUse(ctx context.Context, id uuid.UUID) (runs, open int64, err error) {
	db := s.db.WithContext(ctx)
	if err := db.Exec("LOCK TABLE public.runs IN SHARE ROW EXCLUSIVE MODE").Error; err != nil {
		return 0, 0, plain(err)
	}
	err = db.Table("runs r").
		Joins("JOIN instances i ON i.id = r.instance_id").
		Where("i.in_cloud = ? AND r.ended_at IS NULL", id).
		Count(&runs).
		Error
	if err != nil {
		return 0, 0, plain(err)
	}
	err = db.Table("closings c").
		Joins("JOIN instances i ON i.id = c.instance_id").
		Where("i.in_cloud = ? AND c.opened_at IS NOT NULL AND c.closed_at IS NULL", id).
		Count(&open).
		Error
	return runs, open, plain(err)
}

// LeaveCloud has the instances of a cloud be in none.
func (s *Store) LeaveCloud(ctx context.Context, id uuid.UUID) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.Instance{}).
			Where("in_cloud = ?", id).
			Updates(map[string]any{"in_cloud": nil, "adopted": true}).
			Error,
	)
}
