package record

import (
	"time"

	"github.com/google/uuid"
)

// JumpRule is which instances are reached by way of another: those with a label, or in a network.
type JumpRule struct {
	ID                   uuid.UUID
	LabelName, LabelText string
	Network              *string // in CIDR notation
	Via                  uuid.UUID
	AddedAt              time.Time
	AddedBy              string
	// ViaName is the jump host's.
	ViaName string `gorm:"->;-:migration"`
	// Counts is for how many instances the rule counts.
	Counts int `gorm:"->;-:migration"`
}

// JumpHost is an instance by way of which others are reached.
type JumpHost struct {
	ID     uuid.UUID
	Name   string
	Behind int // the number of instances
}

// Hop is a jump host on the way to an instance.
type Hop struct {
	Of uuid.UUID // the instance that is reached
	// Number counts from the instance: 1 is the host from which it is reached.
	Number   int
	Instance Instance
	// Hidden is whether the caller may not see it.
	Hidden bool
}
