package record

import (
	"time"

	"plumlatch/internal/core/machines"

	"github.com/google/uuid"
)

// GivenCloud is the id of the cloud that the service is started with.
var GivenCloud = uuid.MustParse("00000000-0000-4000-8000-000000000001")

// CloudSaid is what a cloud says of itself.
type CloudSaid struct {
	Name         string      `json:"name"`
	Capabilities []string    `json:"capabilities"`
	Zones        []CloudZone `json:"zones"`
}

// CloudZone is a zone of a cloud.
type CloudZone struct {
	Name   string `json:"name"`
	Region string `json:"region"`
}

// Cloud is a cloud behind its adapter.
type Cloud struct {
	ID   uuid.UUID
	Name string
	// Adapter is the URL of its adapter; "" for the given one while the service is started without it.
	Adapter string
	// Given is whether it is the one that the service is started with.
	Given bool
	// Encrypted is the token for the adapter, as the safe keeps it.
	Encrypted []byte
	// CA is the certificate authorities, in PEM, one of which the adapter's certificate must be of; "" for those of
	// the machine.
	CA                  string
	ChangedAt, AddedAt  time.Time
	AddedBy             string
	PausedAt            *time.Time
	PausedBy, PausedWhy string
	ForgottenAt         *time.Time
	// Said is what it last said of itself; nil until it has answered once.
	Said *CloudSaid `gorm:"serializer:json"`
	// AskedAt is when it was last asked, AnsweredAt when it last answered, and Failure why it did not.
	AskedAt, AnsweredAt *time.Time
	LatencyMs           int
	Failure             string
	// ReadWantedAt is when somebody asked for a reading of all that runs in it, ReadTriedAt when one last ended, and
	// ReadAt when one was whole. ReadFailure is why the last one was not, ReadSaid what it found.
	ReadWantedAt, ReadTriedAt, ReadAt *time.Time
	ReadFailure                       string
	// ReadAccepts is whether the next reading may find most of what is recorded gone.
	ReadAccepts bool
	// ChangesAfter is the place in time, as the adapter names it, up to which changes were read; "" for none. WholeAt is
	// when its whole list was read last.
	ChangesAfter string
	WholeAt      *time.Time
	ReadSaid     *CloudReading `gorm:"serializer:json"`
	Instances    int           `gorm:"->;-:migration"` // how many are recorded in it
	NotRecorded  int           `gorm:"->;-:migration"` // how many run in it and are not
}

// CloudReading is what a reading of all that runs in a cloud found.
type CloudReading struct {
	Instances int `json:"instances"`
	New       int `json:"new"`     // seen for the first time
	Changed   int `json:"changed"` // recorded, and not as they were
	Gone      int `json:"gone"`
	Seconds   int `json:"seconds"`
	// Part is whether only what had changed was read.
	Part bool `json:"part,omitempty"`
}

// CloudInstance is an instance as its cloud last told.
type CloudInstance struct {
	ID                            uuid.UUID
	Cloud                         uuid.UUID
	CloudID                       string
	Name                          string
	State                         machines.State
	Image, Size, Zone, Region     string
	PrivateAddress, PublicAddress string
	SSHPort                       int `gorm:"column:ssh_port"`
	StaticAddress                 bool
	KeyLabel                      string
	Labels                        map[string]string `gorm:"serializer:json"` // those that it has in the cloud
	OtherAddresses                []string          `gorm:"serializer:json"`
	// KeyGroups are the ids of the groups whose keys the cloud hands to it, TakesGroupKeys whether those open it.
	KeyGroups      []string `gorm:"serializer:json"`
	TakesGroupKeys bool
	// RebuiltAt is when its root disk was set up anew; nil for never, or where the cloud does not tell.
	RebuiltAt           *time.Time
	LaunchedAt          *time.Time
	FirstSeen, LastSeen time.Time
	GoneAt              *time.Time
	RecordedAs          string `gorm:"->;-:migration"` // the name of its record; "" for none
}

// CloudInstanceFilter narrows a list of what runs in clouds; empty fields do not.
type CloudInstanceFilter struct {
	Cloud *uuid.UUID
	Text  string
	// Recorded is whether they are recorded here; nil for both.
	Recorded *bool
}

// CloudChanged is a recorded instance that its cloud tells otherwise of.
type CloudChanged struct {
	Instance Instance
	Now      CloudInstance
}
