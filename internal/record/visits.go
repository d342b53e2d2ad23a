package record

import (
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/visit"
)

// Visit is somebody's use of a login through the console.
type Visit struct {
	ID         uuid.UUID
	LoginID    uuid.UUID
	OperatorID uuid.UUID
	SessionID  uuid.UUID
	Person     string
	Way        visit.Way
	// KeyID is nil once the key's record is deleted.
	KeyID  *uuid.UUID
	Reason string
	// Address is where the person's browser is.
	Address string
	State   visit.State
	// CreatedAt is when it was asked for.
	CreatedAt time.Time
	OpenedAt  *time.Time
	EndedAt   *time.Time
	// SeenAt is when the process that has its connection last said so.
	SeenAt time.Time
	// EndedBy is who ended it, or wants it ended; "" for nobody.
	EndedBy  string
	EndedHow visit.How
	// Problem is why it failed, in words.
	Problem  string
	Recorded bool
	// RecordingKey is what the recording is encrypted with, encrypted in the safe.
	RecordingKey []byte
	// RunID is the run that places the line of a visit's own key; nil for none.
	RunID *uuid.UUID
	// Placed is whether the line of a visit's own key may still be in place.
	Placed bool
}

// VisitRecord is a visit with the names of what it is of.
type VisitRecord struct {
	Visit
	OSUser, InstanceName, KeyName string
	KeySHA256                     []byte `gorm:"column:key_sha256"`
}

// VisitFilter narrows a list of visits; empty fields do not.
type VisitFilter struct {
	Instance, OSUser, Person string
	Live                     bool
}

// RecordedLabel is a label of instances whose visits are recorded.
type RecordedLabel struct {
	Name, Value, AddedBy string
	AddedAt              time.Time
}
