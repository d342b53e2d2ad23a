package record

import (
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/reading"
)

// FileVersion is a content that an authorized_keys file was seen with, from
// SeenAt until SeenUntil.
type FileVersion struct {
	ID      uuid.UUID
	LoginID uuid.UUID
	Path    string
	There   bool
	// Content is what is kept of the file; Digest and Bytes are of the whole.
	Content   []byte
	Digest    []byte
	Bytes     int
	Mode      int
	Method    string
	SeenAt    time.Time
	SeenUntil time.Time
	// Exposed are the stretches that look like a private key and are not kept.
	Exposed []authorizedkeys.Exposed `gorm:"serializer:json;default:'[]'"`
}

// Sighting is the last look for a key in a login.
type Sighting struct {
	LoginID uuid.UUID
	KeyID   uuid.UUID
	SeenAt  time.Time
	Method  string
	Present bool
	// Limits says what keeps the line from opening the login for every holder of
	// the key; Opens is whether it opens it at all with a shell.
	Limits    string
	Opens     bool
	ExpiresAt *time.Time // when the line stops opening it by itself
	// Options are those of the line; nil where it was not read.
	Options   *string
	EnteredAt *time.Time
}

// KeyStand is a login in which a key was seen at the last look.
type KeyStand struct {
	KeyName, InstanceName string
	OSUser                string `gorm:"column:os_user"`
	SeenAt                time.Time
}

// Sweep is the reading of the files of several logins.
type Sweep struct {
	ID          uuid.UUID
	RequestedBy string
	CreatedAt   time.Time
	EndedAt     *time.Time
}

// SweepItem is one login of a sweep.
type SweepItem struct {
	SweepID uuid.UUID
	LoginID uuid.UUID
	State   reading.State
	Outcome string
	EndedAt *time.Time
	Tries   int // how often its reading was begun and not ended
	// Of the login.
	OSUser       string `gorm:"->;-:migration;column:os_user"`
	InstanceName string `gorm:"->;-:migration"`
	// Of what is known of the login now: the known keys that are in place, the granted ones that are missing, the known
	// ones that nobody granted, and the strangers.
	InPlace   int `gorm:"->;-:migration"`
	Missing   int `gorm:"->;-:migration"`
	Ungranted int `gorm:"->;-:migration"`
	Strangers int `gorm:"->;-:migration"`
	// InstanceID is the login's instance, and Main whether it is the one that the instance is read by.
	InstanceID uuid.UUID `gorm:"->;-:migration"`
	Main       bool      `gorm:"->;-:migration"`
	// OtherWays are ways in beside keys, Unread what is not known. The store does not know them.
	OtherWays int `gorm:"-"`
	Unread    int `gorm:"-"`
}

// SweepEnd is what came of the attempt to read a login.
type SweepEnd struct {
	LoginID uuid.UUID
	// State and Outcome are for the sweeps that wait for the login.
	State   reading.State
	Outcome string
	// Method is how it was read, "" if it was not read now.
	Method  string
	Folders []Folder
	At      time.Time
}

// Try is one thing that is guessed at, such as the password of an account, and how it is
// slowed down: the first Free tries are free, each further one makes the next wait twice as
// long, from one second up to Longest.
type Try struct {
	Subject string
	Free    int
	Longest time.Duration
	// Forgiven is whether a success forgets all earlier tries.
	Forgiven bool
}
