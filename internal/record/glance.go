package record

import (
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/reach"
)

// LoginReach is for how long a login had a reach. Until is nil for the current one.
type LoginReach struct {
	LoginID uuid.UUID `gorm:"primaryKey"`
	State   reach.State
	Since   time.Time `gorm:"primaryKey"`
	Until   *time.Time
}

// TableName is the name of its table.
func (LoginReach) TableName() string { return "login_reach" }

// ReachChange is a login whose reach is another than it was. Before is "" for a login that was not there.
type ReachChange struct {
	OSUser, InstanceName string
	Before, After        reach.State
	At                   time.Time
}
