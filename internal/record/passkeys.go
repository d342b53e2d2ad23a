package record

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"
)

// Passkey is a credential of WebAuthn, by which a person signs in. Credential is it as the library writes it, Host the
// host name that it is for.
type Passkey struct {
	ID           uuid.UUID
	OperatorID   uuid.UUID
	Name         string
	CredentialID []byte
	Credential   json.RawMessage `gorm:"type:jsonb;serializer:json"`
	Host         string
	CreatedAt    time.Time
	UsedAt       *time.Time
}

// PasskeyChallenge is what a browser was asked to sign.
type PasskeyChallenge struct {
	ID uuid.UUID
	// OperatorID is who adds a passkey; nil for a sign-in.
	OperatorID *uuid.UUID
	Session    json.RawMessage `gorm:"type:jsonb;serializer:json"`
	ExpiresAt  time.Time
}
