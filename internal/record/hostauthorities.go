package record

import (
	"time"

	"github.com/google/uuid"
)

// ExpectedHostKey is a host key that an instance is expected to have from some time on.
type ExpectedHostKey struct {
	InstanceID uuid.UUID `gorm:"primaryKey"`
	SHA256     []byte    `gorm:"column:sha256;primaryKey"`
	At         time.Time
	By, Reason string
}

// HostAuthority is a certificate authority whose host certificates vouch for host keys.
type HostAuthority struct {
	ID        uuid.UUID
	Name      string
	Algorithm string
	Blob      []byte
	SHA256    []byte `gorm:"column:sha256"`
	Hosts     string // patterns with commas between
	AddedAt   time.Time
	AddedBy   string
}
