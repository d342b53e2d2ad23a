package record

import (
	"time"

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
	Instances           int `gorm:"->;-:migration"` // how many are recorded in it
}
