package record

import (
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/subscribers"
)

// DeliveryState is how far a delivery is.
type DeliveryState string

// The states. A dead one was given up after its last attempt.
const (
	DeliveryWaiting DeliveryState = "waiting"
	DeliveryDone    DeliveryState = "done"
	DeliveryDead    DeliveryState = "dead"
)

// Delivery is one entry of the daybook on its way to one subscriber.
type Delivery struct {
	ID           uuid.UUID
	SubscriberID uuid.UUID
	Seq          int64
	Kind         string
	State        DeliveryState
	Attempts     int
	DueAt        time.Time
	Error        string
	EndedAt      *time.Time
	Sentence     string `gorm:"-"` // of its entry, where it was asked for
}

// Subscriber is where events are sent to.
type Subscriber struct {
	ID        uuid.UUID
	Name      string
	Address   string
	Encrypted []byte             // the secret of a webhook
	Kinds     []subscribers.Kind `gorm:"serializer:json"`
	Paused    bool
	CreatedBy string
	CreatedAt time.Time
	LastSeq   int64 // the last entry of the daybook that was looked at for it
	// How it does.
	Waiting   int        `gorm:"->;-:migration"`
	Dead      int        `gorm:"->;-:migration"`
	Delivered int        `gorm:"->;-:migration"`
	LastAt    *time.Time `gorm:"->;-:migration"` // of the last delivery
	LastError string     `gorm:"->;-:migration"` // of what waits or is dead
}
