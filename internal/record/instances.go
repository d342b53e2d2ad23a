package record

import (
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/machines"
)

// HostKey is a pinned host key and how it was learnt.
type HostKey struct {
	ID         uuid.UUID
	InstanceID uuid.UUID
	Algorithm  string
	Blob       []byte
	SHA256     []byte `gorm:"column:sha256"`
	Learnt     string
	PinnedAt   time.Time
}

// FormerHostKey is a host key that was pinned until somebody accepted others.
type FormerHostKey struct {
	HostKey
	ReplacedAt time.Time
	ReplacedBy string
	Reason     string
}

// Instance is a virtual machine.
type Instance struct {
	ID             uuid.UUID
	Name           string
	CloudID        string
	State          machines.State
	Image          string
	Size           string
	Zone           string
	Region         string
	LoginUser      string
	PrivateAddress string
	PublicAddress  string
	// AddressBefore is the public one before the last change; "" if there was none.
	AddressBefore    string
	AddressChangedAt *time.Time
	SSHPort          int `gorm:"column:ssh_port"`
	StaticAddress    bool
	TemporaryGiB     int `gorm:"column:temporary_gib"`
	KeyLabel         string
	Labels           map[string]string `gorm:"serializer:json"`
	CreatedAt        time.Time
	CreatedBy        string
	GoneAt           *time.Time
	Adopted          bool // no cloud is asked about it
	// InCloud is the cloud that it runs in, under CloudID there; nil for none. CloudName is what that is called here.
	InCloud   *uuid.UUID
	CloudName string `gorm:"->;-:migration"`
	// BroughtIn is whether it was there before it was recorded, in its cloud.
	BroughtIn bool
	// RebuiltAt is when its cloud set it up anew, as far as that is taken account of.
	RebuiltAt *time.Time
	HostKeys  []HostKey
	// Via is the instance by way of which it is reached, where that was said of it alone. Direct is whether it is
	// reached straight whatever the jump rules say.
	Via    *uuid.UUID
	Direct bool
	// JumpHost is whether others are reached by way of it.
	JumpHost bool `gorm:"->;-:migration"`
	// Hops are the jump hosts on the way to it, the nearest to it first, as they were when it was read.
	Hops []Hop `gorm:"-"`
	Keys int   `gorm:"->;-:migration"` // the number of keys granted
}

// DialAddress is the address that it is reached at: through a jump host the private one, where there is one.
func (i *Instance) DialAddress(through bool) string {
	if through && i.PrivateAddress != "" {
		return i.PrivateAddress
	}
	return i.PublicAddress
}

// InstanceFilter narrows a list of instances; empty fields do not.
type InstanceFilter struct {
	Text, Region, State, Image string
	Cloud                      string // the name of one
	Via                        string // the name of a jump host
	LabelName, LabelText       string
	Sort                       string
}
