package store

import (
	"context"
	"encoding/base64"
	"time"

	"github.com/google/uuid"
)

// Receiver is where events are sent to.
type Receiver struct {
	ID        uuid.UUID
	Name      string
	Address   string
	Sealed    []byte   // the secret of a webhook
	Kinds     []string `gorm:"serializer:json"`
	Paused    bool
	CreatedBy string
	CreatedAt time.Time
	LastSeq   int64 // the last entry of the daybook that was looked at for it
	// How it does.
	Waiting   int        `gorm:"->;-:migration"`
	Dead      int        `gorm:"->;-:migration"`
	Delivered int        `gorm:"->;-:migration"`
	LastAt    *time.Time `gorm:"->;-:migration"` // of the last delivery
	LastError string     `gorm:"->;-:migration"` // of what waits or is dead
}

// Delivery is one entry of the daybook on its way to one receiver.
type Delivery struct {
	ID         uuid.UUID
	ReceiverID uuid.UUID
	Seq        int64
	Kind       string
	State      string // waiting, done or dead
	Attempts   int
	DueAt      time.Time
	Error      string
	EndedAt    *time.Time
	Sentence   string `gorm:"->;-:migration"`
}

// AddReceiver keeps a receiver. A *TakenError tells that the name is taken.
func (s *Store) AddReceiver(ctx context.Context, r Receiver, secret Secret) error {
	if r.Sealed = secret.Sealed; r.Sealed != nil {
		if err := s.underMark(ctx, secret); err != nil {
			return err
		}
	}
	return plain(s.db.WithContext(ctx).Omit("Waiting", "Dead", "Delivered", "LastAt", "LastError").Create(&r).Error)
}

// Receivers returns all receivers with how each does, by name.
func (s *Store) Receivers(ctx context.Context) ([]Receiver, error) {
	var out []Receiver
	err := s.db.WithContext(ctx).Model(&Receiver{}).Select(`receivers.*,
		(SELECT count(*) FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state = 'waiting') AS waiting,
		(SELECT count(*) FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state = 'dead') AS dead,
		(SELECT count(*) FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state = 'done') AS delivered,
		(SELECT max(ended_at) FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state = 'done') AS last_at,
		coalesce((SELECT error FROM deliveries d WHERE d.receiver_id = receivers.id AND d.state <> 'done'
			AND d.error <> '' ORDER BY d.seq DESC LIMIT 1), '') AS last_error`).
		Order("name").Find(&out).Error
	return out, plain(err)
}

// ActiveReceivers returns the receivers that are not paused, by name.
func (s *Store) ActiveReceivers(ctx context.Context) ([]Receiver, error) {
	var out []Receiver
	err := s.db.WithContext(ctx).Where("NOT paused").Order("name").Find(&out).Error
	return out, plain(err)
}

// ReceiverNamed returns the receiver of that name.
func (s *Store) ReceiverNamed(ctx context.Context, name string) (Receiver, error) {
	var r Receiver
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&r).Error
	return r, plain(err)
}

// DeleteReceiver forgets a receiver and its deliveries.
func (s *Store) DeleteReceiver(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&Receiver{}).Error)
}

// PauseReceiver pauses a receiver or goes on.
func (s *Store) PauseReceiver(ctx context.Context, id uuid.UUID, pause bool) error {
	return plain(s.db.WithContext(ctx).Model(&Receiver{}).Where("id = ?", id).Update("paused", pause).Error)
}

// deliveriesKept is for how long it is remembered that something was delivered.
const deliveriesKept = 30 * 24 * time.Hour

// Queue keeps what a receiver is to be told of, and that the daybook was looked at up to the
// entry with the number.
func (s *Store) Queue(ctx context.Context, receiver uuid.UUID, wanted []Delivery, upTo int64) error {
	return s.InTx(ctx, func(tx *Store) error {
		db := tx.db.WithContext(ctx)
		if len(wanted) > 0 {
			if err := db.Omit("Sentence").CreateInBatches(wanted, 500).Error; err != nil {
				return err
			}
			if err := db.Where(
				"receiver_id = ? AND state = 'done' AND ended_at < ?",
				receiver,
				wanted[0].DueAt.Add(-deliveriesKept),
			).Delete(&Delivery{}).Error; err != nil {
				return err
			}
		}
		return db.Model(&Receiver{}).Where("id = ?", receiver).Update("last_seq", upTo).Error
	})
}

// DueDeliveries returns what is to be sent now, the oldest first.
func (s *Store) DueDeliveries(ctx context.Context, now time.Time, limit int) ([]Delivery, error) {
	var out []Delivery
	err := s.db.WithContext(ctx).
		Where("state = 'waiting' AND due_at <= ? AND receiver_id IN (SELECT id FROM receivers WHERE NOT paused)", now).
		Order("due_at, seq").
		Limit(limit).
		Find(&out).
		Error
	return out, plain(err)
}

// ChangeDelivery keeps what became of an attempt.
func (s *Store) ChangeDelivery(ctx context.Context, d Delivery) error {
	return plain(
		s.db.WithContext(ctx).Model(&d).Select("state", "attempts", "due_at", "error", "ended_at").Updates(&d).Error,
	)
}

// DeadDeliveries returns what could not be delivered to a receiver, newest first.
func (s *Store) DeadDeliveries(ctx context.Context, receiver uuid.UUID) ([]Delivery, error) {
	var out []Delivery
	err := s.db.WithContext(ctx).
		Model(&Delivery{}).
		Select("deliveries.*, b.sentence").
		Joins("JOIN daybook b ON b.seq = deliveries.seq").
		Where("receiver_id = ? AND state = 'dead'", receiver).
		Order("deliveries.seq DESC").
		Limit(500).
		Find(&out).
		Error
	return out, plain(err)
}

// ReviveDeliveries has what could not be delivered tried again.
func (s *Store) ReviveDeliveries(ctx context.Context, receiver uuid.UUID, now time.Time) (int64, error) {
	r := s.db.WithContext(ctx).
		Model(&Delivery{}).
		Where("receiver_id = ? AND state = 'dead'", receiver).
		Updates(map[string]any{"state": "waiting", "attempts": 0, "due_at": now, "ended_at": nil})
	return r.RowsAffected, plain(r.Error)
}

// ShutLogins returns the logins that were noted as shut.
func (s *Store) ShutLogins(ctx context.Context) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).Table("shut_logins").Pluck("login_id", &ids).Error
	out := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, plain(err)
}

// SetShut records which logins have become shut, and which are not any more.
func (s *Store) SetShut(ctx context.Context, came, went []uuid.UUID, at time.Time) error {
	db := s.db.WithContext(ctx)
	if len(came) > 0 {
		rows := make([]map[string]any, len(came))
		for i, id := range came {
			rows[i] = map[string]any{"login_id": id, "since": at}
		}
		if err := db.Table("shut_logins").CreateInBatches(rows, 500).Error; err != nil {
			return plain(err)
		}
	}
	if len(went) == 0 {
		return nil
	}
	return plain(db.Exec("DELETE FROM shut_logins WHERE login_id IN ?", went).Error)
}

// NewStranger is a stranger that the daybook does not tell of yet.
type NewStranger struct {
	SHA256       []byte `gorm:"column:sha256"`
	Comment      string
	OSUser       string `gorm:"column:os_user"`
	InstanceName string
}

// Fingerprint is the key's, as OpenSSH writes it.
func (n NewStranger) Fingerprint() string {
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(n.SHA256)
}

// TakeStrangers returns the strangers that were not noted, and marks them as noted.
func (s *Store) TakeStrangers(ctx context.Context) ([]NewStranger, error) {
	var out []NewStranger
	err := s.db.WithContext(ctx).
		Raw(`WITH taken AS (UPDATE strangers SET noted = true WHERE NOT noted RETURNING login_id, sha256, comment)
		SELECT t.sha256, t.comment, l.os_user, i.name AS instance_name FROM taken t JOIN logins l ON l.id = t.login_id
			JOIN instances i ON i.id = l.instance_id WHERE i.gone_at IS NULL ORDER BY i.name, l.os_user LIMIT 500`).
		Scan(&out).
		Error
	return out, plain(err)
}
