package record

import (
	"encoding/base64"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/reach"
)

// Difference is a key that is missing in a login, is in place there without a grant,
// or is a stranger there.
type Difference struct {
	LoginID      uuid.UUID
	OSUser       string `gorm:"column:os_user"`
	InstanceName string
	Status       reach.Status
	KeyID        *uuid.UUID // nil of a stranger
	Name         string     // a stranger's comment
	HolderName   *string
	SHA256       []byte `gorm:"column:sha256"`
	Steward      bool
	// Since is when it was granted or first seen.
	Since  *time.Time
	SeenAt *time.Time
}

// DifferenceFilter narrows a list of differences; empty fields do not.
type DifferenceFilter struct {
	Instance, OSUser     string
	Logins               []uuid.UUID
	LabelName, LabelText string
	Status               reach.Status
	Digests              [][]byte // of the keys
}

// Stranger is a key that is in a login and in no record.
type Stranger struct {
	LoginID     uuid.UUID
	SHA256      []byte `gorm:"column:sha256"`
	Algorithm   string
	Blob        []byte
	Comment     string
	Limits      string
	FirstSeenAt time.Time
	SeenAt      time.Time
}

// StrangerIn is a stranger with the login that it is in.
type StrangerIn struct {
	Stranger
	OSUser       string `gorm:"column:os_user"`
	InstanceName string
}

// FormerLine is a key that was in a file of a login and is no longer there.
type FormerLine struct {
	LoginID uuid.UUID
	Path    string
	SHA256  []byte `gorm:"column:sha256"`
	MD5     []byte `gorm:"column:md5"`
	Comment string
	SeenAt  time.Time // last
	GoneBy  time.Time // the first reading that did not see it
}

// FormerLineIn is a former line with the login that it was in. GoneAt is since when the instance is gone.
type FormerLineIn struct {
	FormerLine
	OSUser       string `gorm:"column:os_user"`
	InstanceName string
	GoneAt       *time.Time
}

// HostKeyOf is the instance that has, or had, a host key.
type HostKeyOf struct {
	InstanceName string
	GoneAt       *time.Time
	PinnedAt     time.Time
	ReplacedAt   *time.Time // since when others are pinned
}

// NewStranger is a stranger that the daybook does not tell of yet.
type NewStranger struct {
	SHA256       []byte `gorm:"column:sha256"`
	Comment      string
	OSUser       string `gorm:"column:os_user"`
	InstanceName string
}

// Fingerprint is the key's, as OpenSSH writes it.
func (n NewStranger) Fingerprint() string {
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(n.SHA256)
}
