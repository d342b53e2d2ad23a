package record

import (
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/machines"
)

// ReachFilter narrows the logins whose reach is computed; empty fields do not.
type ReachFilter struct {
	Instance             uuid.UUID
	Text, Region         string
	LabelName, LabelText string
	// Holder and Keys name those that open a login or should, any of them.
	Holder string
	Keys   []string
	// EveryKey asks for all keys, also those that no login joins.
	EveryKey bool
}

// ReachLogin is a login as far as its reach needs it.
type ReachLogin struct {
	ID                  uuid.UUID
	OSUser              string
	Instance, Region    string
	SweptAt             *time.Time
	SweptBy, SweepError string
	Strangers           int
	// FoundAt is since when it is known that nobody asked for; nil for one that somebody did.
	FoundAt *time.Time
	// Of the instance.
	State           machines.State
	Image           string
	TemporaryGiB    int
	Static, Adopted bool
	InCloud         *uuid.UUID
}

// ReachPair is a key and a login that a grant, a sighting or both join.
type ReachPair struct {
	// Authority is whether it is certificates of the key that open the login. Nothing but the ids counts then.
	Authority      bool
	KeyID, LoginID uuid.UUID
	Granted        bool
	Present        *bool
	Opens          bool
	EnteredAt      *time.Time
	EnteredBy      string // a person's name
}

// Prover is a person who can prove that they hold a key, with the holder that they are and their teams.
type Prover struct {
	Name   string
	Holder uuid.UUID
	Teams  []uuid.UUID
}

// ReachKey is a key as far as reach needs it.
type ReachKey struct {
	ID     uuid.UUID
	Name   string
	SHA256 []byte
	Holder *uuid.UUID // nil also where the holder has left
	// HolderName is also that of one who has left.
	HolderName *string
	State      custody.State
	Steward    bool
	ProvedAt   *time.Time
	ProvedBy   string // a person's name
}
