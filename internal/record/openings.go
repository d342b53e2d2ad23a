package record

import (
	"time"

	"github.com/google/uuid"
)

// Closing is something that a run opens for a while and that will be closed again.
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
	InstanceName string     `gorm:"->;-:migration"`
	InCloud      *uuid.UUID `gorm:"->;-:migration"`
}

// PasswordReading is that somebody asked for an administrator's password, or opened it.
type PasswordReading struct {
	ID         uuid.UUID
	InstanceID uuid.UUID
	Person     string
	What       string // asked or opened
	At         time.Time
}
