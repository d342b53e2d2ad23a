package record

import (
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/charter"
)

// Charter is a charter that was settled, or is being settled.
type Charter struct {
	ID   uuid.UUID
	Name string
	Note string
	// Version is that which counts; 0 for none.
	Version   int
	CreatedAt time.Time
	CreatedBy string
	// What was found when it was last compared by itself: how much differs, and why it could not be compared or must not
	// be settled.
	ComparedAt *time.Time
	Differs    int
	Problem    string
	ReleasedAt *time.Time
	// Grants is how many it owns.
	Grants int `gorm:"->;-:migration"`
}

// CharterFile is one file of a version.
type CharterFile struct {
	Path    string `json:"path"`
	Content string `json:"content"`
}

// CharterVersion is what a charter was when it was settled.
type CharterVersion struct {
	CharterID uuid.UUID
	Number    int
	// Digest is the SHA-256 of the files.
	Digest    []byte
	Files     []CharterFile `gorm:"serializer:json"`
	SettledAt time.Time
	SettledBy string
	Reason    string
	// SignedBy is the name of the key that has signed the files; "" for none.
	SignedBy string
}

// SettlementState is a state of a settlement.
type SettlementState string

// The states of a settlement.
const (
	SettlementRunning SettlementState = "running"
	SettlementPaused  SettlementState = "paused"
	SettlementEnded   SettlementState = "ended"
)

// Settlement makes what a charter declares so.
type Settlement struct {
	ID          uuid.UUID
	CharterID   uuid.UUID
	Version     int
	Was         int // the version before
	Undoes      *uuid.UUID
	State       SettlementState
	RequestedBy string
	OperatorID  uuid.UUID
	Reason      string
	CreatedAt   time.Time
	EndedAt     *time.Time
	Charter     string `gorm:"->;-:migration"` // its name
	// Counts are how many items are in which state.
	Counts map[ItemState]int `gorm:"-"`
}

// ItemState is a state of one change of a settlement.
type ItemState string

// The states of an item.
const (
	ItemWaiting ItemState = "waiting"
	ItemAtWork  ItemState = "at-work"
	ItemDone    ItemState = "done"
	ItemFailed  ItemState = "failed"
	// ItemLeft is of one that was not begun, since another failed on which it rests.
	ItemLeft ItemState = "left-out"
)

// SettlementItem is one change of a settlement.
type SettlementItem struct {
	ID           uuid.UUID
	SettlementID uuid.UUID
	Seq          int
	Change       charter.Change `gorm:"serializer:json"`
	Before       *ItemBefore    `gorm:"serializer:json"`
	// Of one that takes another back: the run whose lines are put back, what is described as it was, and whether the grant
	// is the charter's no longer.
	PutsBack *uuid.UUID
	Restores *ItemBefore `gorm:"serializer:json"`
	Disowns  bool
	State    ItemState
	Detail   string
	RunID    *uuid.UUID
	EndedAt  *time.Time
}

// ItemBefore is what an item found, to take it back.
type ItemBefore struct {
	Purpose string            `json:"purpose,omitempty"`
	Labels  map[string]string `json:"labels,omitempty"`
	// Granted is whether there was a grant already.
	Granted bool   `json:"granted,omitempty"`
	At      string `json:"at,omitempty"` // the place in the charter's files that the grant had
	Why     string `json:"why,omitempty"`
	Limits  string `json:"limits,omitempty"` // those that the grant had
}

// CharterGrant is a grant in force, as far as a charter needs it.
type CharterGrant struct {
	KeyID, LoginID uuid.UUID
	Until          *time.Time
	Charter        string // that which owns it; "" for none
	Reason, Limits string
}

// CharterKey is what a charter describes of a key.
type CharterKey struct {
	ID      uuid.UUID
	Purpose string
	Labels  map[string]string `gorm:"serializer:json"`
	// Its public key.
	Algorithm, Type, Comment string
	Bits                     int
	Blob                     []byte
}
