package record

import (
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/grants"
	"plumlatch/internal/core/machines"
)

// Grant says that a key should open a login.
type Grant struct {
	ID          uuid.UUID
	KeyID       uuid.UUID
	LoginID     uuid.UUID
	GrantedAt   time.Time
	GrantedBy   string
	Until       *time.Time
	Reason      string
	WithdrawnAt *time.Time
	WithdrawnBy string
	EndBy       grants.EndBy
	EndProblem  string // why it could not be withdrawn when its time was over
	EndToldAt   *time.Time
	// CharterID is the charter that owns it, and CharterAt the place in its files; nil for none.
	CharterID *uuid.UUID
	CharterAt string
	// Limits are the options that its line has; see ReadLimits of package authorizedkeys. Forced is whether it runs one
	// command by them, and gives no shell.
	Limits string
	Forced bool
}

// GrantFilter narrows a list of grants; empty fields do not.
type GrantFilter struct {
	Key, Holder          string
	Instance, OSUser     string
	LabelName, LabelText string
	// Ended asks for those that were withdrawn, WithEnd for those that end by themselves.
	Ended, WithEnd bool
	// Overdue asks for those whose time was over at At though they are still in force.
	Overdue bool
	At      time.Time
	// Own is whether only those of steward keys, or none of them; nil for all.
	Own *bool
}

// GrantRecord is a grant with what it joins.
type GrantRecord struct {
	Opening
	ID          uuid.UUID
	WithdrawnAt *time.Time
	WithdrawnBy *string
	EndBy       grants.EndBy
	EndProblem  string
	// Charter is the name of that which owns it, and CharterAt the place in its files; "" for none.
	Charter, CharterAt string
	// GrantLimits are those that its line should have.
	GrantLimits string
}

// GrantOver is a grant whose time is over.
type GrantOver struct {
	ID                    uuid.UUID
	LoginID, KeyID        uuid.UUID
	KeyName, InstanceName string
	OSUser                string `gorm:"column:os_user"`
	Until                 time.Time
	EndBy                 grants.EndBy
	EndProblem            string
	EndToldAt             *time.Time
	Limits                string
}

// Opening is one key and one login, with the grant and the sighting that join them.
type Opening struct {
	KeyName       string
	KeyType       string
	KeyBits       int
	KeySHA256     []byte `gorm:"column:key_sha256"`
	HolderName    *string
	OSUser        string `gorm:"column:os_user"`
	InstanceName  string
	InstanceState machines.State
	Region        string
	GrantedAt     *time.Time
	Until         *time.Time
	GrantedBy     *string
	Reason        *string
	SeenAt        *time.Time
	Method        *string
	Present       *bool
	Limits        *string
	ExpiresAt     *time.Time // when the line stops opening the login by itself
	EnteredAt     *time.Time
	ProvedAt      *time.Time
	KeyState      custody.State
	Steward       bool
}
