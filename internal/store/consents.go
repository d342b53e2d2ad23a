package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/record"
)

// ConsentLabels returns the labels that ask for consent, by name.
func (s *Store) ConsentLabels(ctx context.Context) ([]record.ConsentLabel, error) {
	var out []record.ConsentLabel
	err := s.db.WithContext(ctx).Order("name, value").Find(&out).Error
	return out, plain(err)
}

// AddConsentLabel adds a label; false if it is there.
func (s *Store) AddConsentLabel(ctx context.Context, l record.ConsentLabel) (bool, error) {
	r := s.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&l)
	return r.RowsAffected == 1, plain(r.Error)
}

// DeleteConsentLabel takes a label away; false if it is not there.
func (s *Store) DeleteConsentLabel(ctx context.Context, name, value string) (bool, error) {
	r := s.db.WithContext(ctx).Where("name = ? AND value = ?", name, value).Delete(&record.ConsentLabel{})
	return r.RowsAffected == 1, plain(r.Error)
}

// AsksConsent returns the label for which a release of the key needs consent: one of its
// own, or of an instance that it is granted. ErrNotFound if there is none.
// Raw, since it is one question over tables that are named past the view of a limit.
func (s *Store) AsksConsent(ctx context.Context, key uuid.UUID) (record.ConsentLabel, error) {
	var l record.ConsentLabel
	r := s.db.WithContext(ctx).Raw(`SELECT c.* FROM consent_labels c WHERE
		EXISTS (SELECT 1 FROM public.keys k WHERE k.id = ? AND k.labels @> jsonb_build_object(c.name, c.value))
		OR EXISTS (SELECT 1 FROM public.grants g JOIN public.logins l ON l.id = g.login_id
			JOIN public.instances i ON i.id = l.instance_id
			WHERE g.key_id = ? AND g.withdrawn_at IS NULL AND i.labels @> jsonb_build_object(c.name, c.value))
		ORDER BY c.name, c.value LIMIT 1`, key, key).Scan(&l)
	if r.Error == nil && r.RowsAffected == 0 {
		return l, ErrNotFound
	}
	return l, plain(r.Error)
}

// AddConsent keeps a request.
func (s *Store) AddConsent(ctx context.Context, c record.Consent) error {
	return plain(s.db.WithContext(ctx).Omit("KeyName").Create(&c).Error)
}

// Consents returns the requests that are open or were decided since, newest first.
func (s *Store) Consents(ctx context.Context, since time.Time) ([]record.Consent, error) {
	var out []record.Consent
	err := s.db.WithContext(ctx).
		Model(&record.Consent{}).
		Select("consents.*, k.name AS key_name").
		Joins("JOIN keys k ON k.id = consents.key_id").
		Where("asked_at > ? ", since).
		Order("asked_at DESC, consents.id DESC").
		Limit(500).
		Find(&out).
		Error
	return out, plain(err)
}

// LockConsent returns a request and holds it until the transaction ends.
func (s *Store) LockConsent(ctx context.Context, id uuid.UUID) (record.Consent, error) {
	var c record.Consent
	db := s.db.WithContext(ctx)
	if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Take(&c).Error; err != nil {
		return c, plain(err)
	}
	return c, plain(db.Model(&record.Key{}).Select("name").Where("id = ?", c.KeyID).Scan(&c.KeyName).Error)
}

// DecideConsent records what somebody decided.
func (s *Store) DecideConsent(
	ctx context.Context, id uuid.UUID, state custody.Consent, by, note string, at time.Time,
) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.Consent{}).
			Where("id = ?", id).
			Updates(map[string]any{"state": state, "decided_by": by, "decided_at": at, "note": note}).
			Error,
	)
}

// ConsentFor returns the newest request of a person for a key that is not over, and holds it
// until the transaction ends.
func (s *Store) ConsentFor(ctx context.Context, key uuid.UUID, person string, now time.Time) (record.Consent, error) {
	var c record.Consent
	err := s.db.WithContext(ctx).
		Clauses(clause.Locking{Strength: "UPDATE"}).
		Where("key_id = ? AND asked_by = ? AND expires_at > ? AND state <> ?", key, person, now, custody.ConsentUsed).
		Order("asked_at DESC").
		Take(&c).
		Error
	return c, plain(err)
}

// UseConsent records that a granted request was made use of.
func (s *Store) UseConsent(ctx context.Context, id uuid.UUID) error {
	return plain(
		s.db.WithContext(ctx).Model(&record.Consent{}).Where("id = ?", id).Update("state", custody.ConsentUsed).Error,
	)
}
