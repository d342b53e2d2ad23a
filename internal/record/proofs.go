package record

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"
)

// Proof is dated evidence that a person holds a key's private key.
type Proof struct {
	ID      uuid.UUID
	Kind    string // possession or entry
	KeyID   uuid.UUID
	LoginID *uuid.UUID
	At      time.Time
	Person  string
	HostKey string
	// Entry is what was signed with the key, in JSON, and Signature that signature; "" where
	// the service saw the login itself.
	Entry     json.RawMessage `gorm:"type:jsonb;serializer:json"`
	Signature string
}

// Challenge is a text that will be signed with a key's private key.
type Challenge struct {
	ID         uuid.UUID
	KeyID      uuid.UUID
	OperatorID uuid.UUID
	Text       string
	ExpiresAt  time.Time
	UsedAt     *time.Time
	// Entry is what is signed where that is the report of a login, in JSON.
	Entry json.RawMessage `gorm:"type:jsonb;serializer:json"`
}

// ProofDue is a key that its holder is to prove.
type ProofDue struct {
	KeyName     string
	KeyType     string
	KeyBits     int
	KeySHA256   []byte `gorm:"column:key_sha256"`
	HolderName  string
	HolderTitle string
	ProvedAt    *time.Time
	Logins      int
}
