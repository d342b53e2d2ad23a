package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// ConsentLabel is a label for which a second person has to consent to a release.
type ConsentLabel struct {
	Name, Value string
	AddedBy     string
	AddedAt     time.Time
}

// Consent is somebody's request that a kept private half may be handed over to them.
type Consent struct {
	ID        uuid.UUID
	KeyID     uuid.UUID
	AskedBy   string
	Reason    string
	AskedAt   time.Time
	ExpiresAt time.Time
	State     string // asked, granted, refused or used
	DecidedBy string
	DecidedAt *time.Time
	Note      string
	KeyName   string `gorm:"->;-:migration"`
}

// Handover is a key that is to have another keeper, once that one has proved to hold it.
type Handover struct {
	ID         uuid.UUID
	KeyID      uuid.UUID
	FromKeeper *uuid.UUID
	ToKeeper   uuid.UUID
	AskedBy    string
	Reason     string
	AskedAt    time.Time
	EndedAt    *time.Time
	Outcome    string
	// Names of the key and the keepers.
	KeyName  string `gorm:"->;-:migration"`
	FromName string `gorm:"->;-:migration"`
	ToName   string `gorm:"->;-:migration"`
}

// ConsentLabels returns the labels that ask for consent, by name.
func (s *Store) ConsentLabels(ctx context.Context) ([]ConsentLabel, error) {
	var out []ConsentLabel
	err := s.db.WithContext(ctx).Order("name, value").Find(&out).Error
	return out, plain(err)
}

// AddConsentLabel adds a label; false if it is there.
func (s *Store) AddConsentLabel(ctx context.Context, l ConsentLabel) (bool, error) {
	r := s.db.WithContext(ctx).
		Exec(
			"INSERT INTO consent_labels (name, value, added_by, added_at) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
			l.Name,
			l.Value,
			l.AddedBy,
			l.AddedAt,
		)
	return r.RowsAffected == 1, plain(r.Error)
}

// DeleteConsentLabel takes a label away; false if it is not there.
func (s *Store) DeleteConsentLabel(ctx context.Context, name, value string) (bool, error) {
	r := s.db.WithContext(ctx).Where("name = ? AND value = ?", name, value).Delete(&ConsentLabel{})
	return r.RowsAffected == 1, plain(r.Error)
}

// AsksConsent returns the label for which a release of the key needs consent: one of its
// own, or of an instance that it is granted. ErrNotFound if there is none.
func (s *Store) AsksConsent(ctx context.Context, key uuid.UUID) (ConsentLabel, error) {
	var l ConsentLabel
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
func (s *Store) AddConsent(ctx context.Context, c Consent) error {
	return plain(s.db.WithContext(ctx).Omit("KeyName").Create(&c).Error)
}

// Consents returns the requests that are open or were decided since, newest first.
func (s *Store) Consents(ctx context.Context, since time.Time) ([]Consent, error) {
	var out []Consent
	err := s.db.WithContext(ctx).
		Model(&Consent{}).
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
func (s *Store) LockConsent(ctx context.Context, id uuid.UUID) (Consent, error) {
	var c Consent
	if err := s.db.WithContext(ctx).Raw("SELECT * FROM consents WHERE id = ? FOR UPDATE", id).Scan(&c).Error; err != nil {
		return c, plain(err)
	}
	if c.ID == (uuid.UUID{}) {
		return c, ErrNotFound
	}
	return c, plain(s.db.WithContext(ctx).Raw("SELECT name FROM keys WHERE id = ?", c.KeyID).Scan(&c.KeyName).Error)
}

// DecideConsent records what somebody decided.
func (s *Store) DecideConsent(ctx context.Context, id uuid.UUID, state, by, note string, at time.Time) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&Consent{}).
			Where("id = ?", id).
			Updates(map[string]any{"state": state, "decided_by": by, "decided_at": at, "note": note}).
			Error,
	)
}

// ConsentFor returns the newest request of a person for a key that is not over, and holds it
// until the transaction ends.
func (s *Store) ConsentFor(ctx context.Context, key uuid.UUID, person string, now time.Time) (Consent, error) {
	var c Consent
	r := s.db.WithContext(ctx).
		Raw(
			"SELECT * FROM consents WHERE key_id = ? AND asked_by = ? AND expires_at > ? AND state <> 'used' ORDER BY "+
				"asked_at DESC LIMIT 1 FOR UPDATE",
			key,
			person,
			now,
		).
		Scan(&c)
	if r.Error == nil && r.RowsAffected == 0 {
		return c, ErrNotFound
	}
	return c, plain(r.Error)
}

// UseConsent records that a granted request was made use of.
func (s *Store) UseConsent(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Model(&Consent{}).Where("id = ?", id).Update("state", "used").Error)
}

// ForgetHalf destroys the kept private half of a key, whose holder alone has it now.
func (s *Store) ForgetHalf(ctx context.Context, key uuid.UUID) error {
	db := s.db.WithContext(ctx)
	if err := db.Where("key_id = ?", key).Delete(&KeptHalf{}).Error; err != nil {
		return plain(err)
	}
	return plain(db.Model(&Key{}).Where("id = ?", key).Update("custody", "holder").Error)
}

// AddHandover keeps that a key is to have another keeper. A *TakenError tells that it is to already.
func (s *Store) AddHandover(ctx context.Context, h Handover) error {
	return plain(s.db.WithContext(ctx).Omit("KeyName", "FromName", "ToName").Create(&h).Error)
}

// Handovers returns those that wait for a proof, the oldest first; of one key if one is given.
func (s *Store) Handovers(ctx context.Context, key *uuid.UUID) ([]Handover, error) {
	q := s.db.WithContext(ctx).
		Model(&Handover{}).
		Select("handovers.*, k.name AS key_name, coalesce(f.name, '') AS from_name, t.name AS to_name").
		Joins("JOIN keys k ON k.id = handovers.key_id").
		Joins("LEFT JOIN keepers f ON f.id = handovers.from_keeper").
		Joins("JOIN keepers t ON t.id = handovers.to_keeper").
		Where("handovers.ended_at IS NULL")
	if key != nil {
		q = q.Where("handovers.key_id = ?", *key)
	}
	var out []Handover
	err := q.Order("handovers.asked_at, handovers.id").Find(&out).Error
	return out, plain(err)
}

// EndHandover ends the one of the key that waits; false if none does.
func (s *Store) EndHandover(ctx context.Context, id uuid.UUID, outcome string, at time.Time) (bool, error) {
	r := s.db.WithContext(ctx).
		Model(&Handover{}).
		Where("id = ? AND ended_at IS NULL", id).
		Updates(map[string]any{"ended_at": at, "outcome": outcome})
	return r.RowsAffected == 1, plain(r.Error)
}

// SetKeeper gives a key another keeper.
func (s *Store) SetKeeper(ctx context.Context, key, keeper uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Model(&Key{}).Where("id = ?", key).Update("keeper_id", keeper).Error)
}

// KeysHeldBy returns the active keys of a keeper, by name.
func (s *Store) KeysHeldBy(ctx context.Context, keeper uuid.UUID) ([]Key, error) {
	var out []Key
	err := s.db.WithContext(ctx).Where("keeper_id = ? AND state = 'active'", keeper).Order("name").Find(&out).Error
	return out, plain(err)
}

// TeamsOf returns the teams that an operator is in.
func (s *Store) TeamsOf(ctx context.Context, operator uuid.UUID) ([]Keeper, error) {
	var out []Keeper
	err := s.db.WithContext(ctx).
		Select("keepers.*").
		Joins("JOIN team_members m ON m.team_id = keepers.id AND m.operator_id = ?", operator).
		Order("keepers.name").
		Find(&out).
		Error
	return out, plain(err)
}

// NeverReleased tells of which of the keys the safe has the private half and nobody else.
func (s *Store) NeverReleased(ctx context.Context, keys []uuid.UUID) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).
		Model(&KeptHalf{}).
		Where("key_id IN ? AND released_at IS NULL", keys).
		Pluck("key_id", &ids).
		Error
	out := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, plain(err)
}

// LeavingOperators returns those whose leaving was begun and whose account is open.
func (s *Store) LeavingOperators(ctx context.Context) ([]Operator, error) {
	var out []Operator
	err := s.db.WithContext(ctx).
		Where("leaving IS NOT NULL AND leaving <> 'null' AND closed_at IS NULL").
		Order("name").
		Find(&out).
		Error
	return out, plain(err)
}

// NoteLeaving records what a leaving waits for.
func (s *Store) NoteLeaving(ctx context.Context, operator uuid.UUID, note string) error {
	return plain(
		s.db.WithContext(ctx).
			Exec(
				"UPDATE operators SET leaving = jsonb_set(leaving, '{note}', to_jsonb(?::text))"+
					" WHERE id = ? AND leaving IS NOT NULL",
				note,
				operator,
			).
			Error,
	)
}

// SetLeavingRotation records the rotation that replaces the keys of somebody who leaves.
func (s *Store) SetLeavingRotation(ctx context.Context, operator, rotation uuid.UUID) error {
	return plain(
		s.db.WithContext(ctx).
			Exec(
				"UPDATE operators SET leaving = jsonb_set(leaving, '{rotation}', to_jsonb(?::text)) WHERE id = ? AND leaving IS "+
					"NOT NULL",
				rotation.String(),
				operator,
			).
			Error,
	)
}
