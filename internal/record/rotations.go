package record

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/rotation"
)

// RotationItem is one old key in one login, to be replaced.
type RotationItem struct {
	ID                 uuid.UUID
	RotationID         uuid.UUID
	Seq                int
	LoginID            uuid.UUID
	OldKeyID, NewKeyID *uuid.UUID // nil once the record is gone
	OldName, NewName   string
	State              rotation.ItemState
	Detail             string
	RunID              *uuid.UUID
	PlacedAt, ProvedAt *time.Time
	EndedAt            *time.Time
	// EnteredBefore is when the new key had last opened the login as its line was placed.
	EnteredBefore *time.Time
	// Means is by what the login's files are edited.
	Means string
	// OverrideBy had the old line go without a login by the new key; "" for nobody.
	OverrideBy, OverrideWhy string
	// OldRefused is whether the SSH server was seen to refuse the old key.
	OldRefused bool
	// Of the login.
	OSUser       string `gorm:"->;-:migration;column:os_user"`
	InstanceName string `gorm:"->;-:migration"`
}

// ReportedItem is an item of a rotation with the proofs before and after.
type ReportedItem struct {
	RotationItem
	OldSHA256         []byte `gorm:"column:old_sha256"`
	NewSHA256         []byte `gorm:"column:new_sha256"`
	BeforeAt, AfterAt *time.Time
	BeforePerson      string
	AfterPerson       string
	CloudID           string
	InCloud           *uuid.UUID
}

// RotationRule has keys rotated by themselves when they are due.
type RotationRule struct {
	ID           uuid.UUID
	Name         string
	Wanted       json.RawMessage `gorm:"type:jsonb;serializer:json"`
	Make         string
	Settings     rotation.Settings `gorm:"serializer:json"`
	Paused       bool
	CreatedBy    string
	CreatedAt    time.Time
	LookedAt     *time.Time // when it was last seen whether something is due
	BegunAt      *time.Time // when it last began a rotation
	LastRotation *uuid.UUID
	// Note is what is due and cannot be done, and why.
	Note string
}

// Rotation replaces keys on logins.
type Rotation struct {
	ID          uuid.UUID
	State       rotation.State
	RequestedBy string
	Reason      string
	Settings    rotation.Settings `gorm:"serializer:json"`
	CreatedAt   time.Time
	EndedAt     *time.Time
	PausedWhy   string
	// Urgent is for lost keys, with no grace.
	Urgent bool
	// Rule is the name of the rotation rule that began it, "" for a person.
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
