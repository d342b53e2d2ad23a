package store

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// ExpectedHostKeys returns the host keys that an instance is expected to have.
func (s *Store) ExpectedHostKeys(ctx context.Context, instance uuid.UUID) (out []record.ExpectedHostKey, err error) {
	err = s.db.WithContext(ctx).Where("instance_id = ?", instance).Order("at").Find(&out).Error
	return out, plain(err)
}

// ExpectHostKey keeps that an instance is expected to have a host key.
func (s *Store) ExpectHostKey(ctx context.Context, e record.ExpectedHostKey) error {
	one := clause.OnConflict{
		Columns:   []clause.Column{{Name: "instance_id"}, {Name: "sha256"}},
		DoUpdates: clause.AssignmentColumns([]string{"at", "by", "reason"}),
	}
	return plain(s.db.WithContext(ctx).Clauses(one).Create(&e).Error)
}

// ForgetExpected ends expectations of an instance: of one host key, or of all where it is nil. It reports whether there
// was any.
func (s *Store) ForgetExpected(ctx context.Context, instance uuid.UUID, sha256 []byte) (bool, error) {
	q := s.db.WithContext(ctx).Where("instance_id = ?", instance)
	if sha256 != nil {
		q = q.Where("sha256 = ?", sha256)
	}
	done := q.Delete(&record.ExpectedHostKey{})
	return done.RowsAffected > 0, plain(done.Error)
}

// AddHostAuthority keeps an authority. A *TakenError names host_authorities_name or host_authorities_key.
func (s *Store) AddHostAuthority(ctx context.Context, a record.HostAuthority) error {
	return plain(s.db.WithContext(ctx).Create(&a).Error)
}

// HostAuthorities returns all authorities by name.
func (s *Store) HostAuthorities(ctx context.Context) (out []record.HostAuthority, err error) {
	err = s.db.WithContext(ctx).Order("name").Find(&out).Error
	return out, plain(err)
}

// DeleteHostAuthority ends an authority. It reports whether there was one.
func (s *Store) DeleteHostAuthority(ctx context.Context, name string) (bool, error) {
	done := s.db.WithContext(ctx).Where("name = ?", name).Delete(&record.HostAuthority{})
	return done.RowsAffected > 0, plain(done.Error)
}
