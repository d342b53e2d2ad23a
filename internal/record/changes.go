package record

import (
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/rotation"
)

// The changes of records. A field that is nil, or that is empty where the record's cannot be, leaves the
// record's as it is.

// InstanceChange is a change of an instance.
type InstanceChange struct {
	Labels                        *map[string]string `gorm:"serializer:json"`
	State                         machines.State
	CloudID                       string
	PrivateAddress, PublicAddress *string
	AddressBefore                 string
	AddressChangedAt              *time.Time
	SSHPort                       int `gorm:"column:ssh_port"`
	StaticAddress                 *bool
	Image, Size, Zone, Region     string
	KeyLabel                      *string
	TemporaryGiB                  *int `gorm:"column:temporary_gib"`
	Adopted, BroughtIn            *bool
	InCloud                       *uuid.UUID
	GoneAt                        *time.Time
	RebuiltAt                     *time.Time
}

// CloudChange is a change of a cloud's record.
type CloudChange struct {
	Name, Adapter string
	CA            *string
	ChangedAt     *time.Time
	ForgottenAt   *time.Time
	Said          *CloudSaid `gorm:"serializer:json"`

	ReadWantedAt, ReadTriedAt, ReadAt *time.Time
	ReadSaid                          *CloudReading `gorm:"serializer:json"`
	ReadAccepts                       *bool
	ChangesAfter                      *string
	WholeAt                           *time.Time
}

// CloudAnswer is what a cloud answered when it was asked what it can do.
type CloudAnswer struct {
	At        time.Time
	LatencyMs int
	// Said is nil, and Failure says why, where it did not answer.
	Said    *CloudSaid
	Failure string
}

// ItemChange is a change of items of a rotation.
type ItemChange struct {
	State                       rotation.ItemState
	Detail                      *string
	PlacedAt, ProvedAt, EndedAt *time.Time
	EnteredBefore               *time.Time
	OldRefused                  *bool
}

// RotationChange is a change of a rotation.
type RotationChange struct {
	State     rotation.State
	PausedWhy *string
	Settings  *rotation.Settings `gorm:"serializer:json"`
	EndedAt   *time.Time
}

// RuleChange is a change of a rotation rule.
type RuleChange struct {
	Paused   *bool
	LookedAt *time.Time
	Note     *string
}

// ClosingChange is a change of what was opened for a while.
type ClosingChange struct {
	OpenedAt, ClosedAt *time.Time
	Note               *string
}

// StepChange is a change of the step of a run that has the place Seq, from 0.
type StepChange struct {
	Seq                int
	State              StepState
	Outcome            *string
	Percent            *int
	StartedAt, EndedAt *time.Time
}

// RunChange is a change of a run and of its steps by whoever has taken it.
type RunChange struct {
	State       RunState
	Error       *string
	CommittedAt *time.Time
	EndedAt     *time.Time
	// Waits is what the run waits for from now on. Goes is whether it waits for nothing now.
	Waits *Waits
	Goes  bool
	Steps []StepChange
	// Commits is whether the change is the run's point of no return. It is not made where the undo
	// was asked for.
	Commits bool
}

// KeyChange is a change of a key's record.
type KeyChange struct {
	Name    string
	Purpose *string
	Labels  *map[string]string `gorm:"serializer:json"`
}
