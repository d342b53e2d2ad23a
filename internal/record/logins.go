package record

import (
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/reading"
)

// Login is one OS user on one instance.
type Login struct {
	ID         uuid.UUID
	InstanceID uuid.UUID
	OSUser     string `gorm:"column:os_user"`
	// TriedAt is the last attempt to read the login's files, SweptAt the last that succeeded.
	TriedAt, SweptAt *time.Time
	SweptBy          string
	SweepError       string
	// FoundAt is since when a login is known that nobody asked for; nil for one that somebody did.
	FoundAt *time.Time
	Folders []Folder `gorm:"serializer:json;default:'[]'"` // above its files, at the last look
}

// LoginServer is what a login's SSH server lets in beside the keys of its files, as it was read at each reading
// since Since until ReadAt.
type LoginServer struct {
	LoginID uuid.UUID      `gorm:"primaryKey"`
	Server  reading.Server `gorm:"serializer:json"`
	ReadAt  time.Time
	Since   time.Time
}

// LoginSetting is that a login's server had something in its settings, at each reading from Since to ReadAt. Former is
// whether a later reading has something else.
type LoginSetting struct {
	Name          string // user@instance
	Since, ReadAt time.Time
	Former        bool
}

// AcceptedWay is a way into a login beside keys that somebody has accepted, as it was then.
type AcceptedWay struct {
	LoginID    uuid.UUID       `gorm:"primaryKey"`
	Kind       reading.WayKind `gorm:"primaryKey"`
	Name       string          `gorm:"primaryKey"` // reading.Way.ID
	Text       string
	At         time.Time
	By, Reason string
}

// Acceptances are the ways of one login that were accepted.
func Acceptances(ways []AcceptedWay) []reading.Acceptance {
	out := make([]reading.Acceptance, len(ways))
	for n, w := range ways {
		out[n] = reading.Acceptance{Kind: w.Kind, ID: w.Name, Text: w.Text, By: w.By, At: w.At, Reason: w.Reason}
	}
	return out
}

// MachineReading is what was read of all users of a machine.
type MachineReading struct {
	InstanceID uuid.UUID       `gorm:"primaryKey"`
	Machine    reading.Machine `gorm:"serializer:json"`
	Method     string
	ReadAt     time.Time
	// StewardChanges are the users whose files the steward key may change; nil where another read the machine.
	StewardChanges []string `gorm:"serializer:json"`
}

// Folder is a folder above an authorized_keys file.
type Folder struct {
	Path string `json:"path"`
	Mode int    `json:"mode"`
}

// LoginOn is a login as far as its name tells it.
type LoginOn struct {
	ID           uuid.UUID
	OSUser       string `gorm:"column:os_user"`
	InstanceName string
	// LoginUser is the user that the instance's name alone stands for.
	LoginUser string
}

// LoginToSweep is a login with what is needed to reach it.
type LoginToSweep struct {
	Login
	Instance Instance
	// Steward is the instance's steward key; nil where it has none.
	Steward *Key
	// Encrypted is the steward's private key.
	Encrypted []byte
	// Shared is whether other logins of its instance are known.
	Shared bool
	// Changes are the users whose files the steward key may change by sudo, as it last read the machine.
	Changes []string
}

// StewardUser is the OS user whom the steward key logs in as.
func (l *LoginToSweep) StewardUser() string {
	if l.Steward != nil && l.Steward.StewardUser != "" {
		return l.Steward.StewardUser
	}
	return l.Instance.LoginUser
}

// StewardChanges reports whether the files of the login can be changed by the steward key, as far as is known: by the
// user whom it logs in as, by root, or by sudo. An account of its own changes those of the instance's login user.
func (l *LoginToSweep) StewardChanges() bool {
	switch user := l.StewardUser(); {
	case user == l.OSUser || user == "root":
		return true
	case l.OSUser == l.Instance.LoginUser:
		return l.Steward != nil && l.Steward.StewardUser != ""
	}
	return slices.Contains(l.Changes, l.OSUser)
}
