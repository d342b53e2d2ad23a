package record

import (
	"time"

	"github.com/google/uuid"
)

// Idempotency remembers what a request with a key of the caller's led to.
type Idempotency struct {
	OperatorID uuid.UUID
	Key        string
	Request    []byte // a hash of the request
	Subject    string // the name or id of what was made
	CreatedAt  time.Time
}

// TableName is the singular.
func (Idempotency) TableName() string { return "idempotency" }

// Operator is an account that may sign in.
type Operator struct {
	ID           uuid.UUID
	Name         string
	Role         string
	PasswordHash string // "" for those who sign in by an issuer alone
	// Machine is whether it is the account of a machine, which has tokens alone.
	Machine   bool
	CreatedAt time.Time
	// Limits are the labels of the instances that the person sees and touches.
	Limits   map[string]string `gorm:"serializer:json;default:'{}'"`
	ClosedAt *time.Time
	// IssuerName is what an OpenID Connect issuer calls the person.
	IssuerName, IssuerSubject string
	// FactorEncrypted is the secret of the second factor, in use from FactorAt on;
	// FactorStep is the last time step that a code was taken for.
	FactorEncrypted []byte
	FactorAt        *time.Time
	FactorStep      int64
	KnownAddresses  []string `gorm:"serializer:json;default:'[]'"`
	Leaving         *Leaving `gorm:"serializer:json"`
	// Of the holder, and of what the person has.
	Title      string     `gorm:"->;-:migration"`
	Teams      string     `gorm:"->;-:migration"` // names with commas between
	Sessions   int        `gorm:"->;-:migration"`
	Tokens     int        `gorm:"->;-:migration"`
	LastSeenAt *time.Time `gorm:"->;-:migration"`
}

// Leaving is somebody's going: their account is closed first, and then their keys are
// replaced or handed over.
type Leaving struct {
	BegunAt time.Time `json:"begun_at"`
	By      string    `json:"by"`
	Reason  string    `json:"reason"`
	// To is the holder who follows; Rotation replaces the keys.
	To       string     `json:"to"`
	Rotation *uuid.UUID `json:"rotation,omitempty"`
	Note     string     `json:"note"`
	// Tries is how many rotations have replaced a part of them and ended; EndedAt when nothing was left.
	Tries   int        `json:"tries,omitempty"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
}

// Going reports whether somebody's leaving has begun and is not over.
func (o Operator) Going() bool { return o.Leaving != nil && o.Leaving.EndedAt == nil }

// Session is a signed-in console. Only the hash of its secret is kept.
type Session struct {
	ID         uuid.UUID
	Hash       []byte
	OperatorID uuid.UUID
	CreatedAt  time.Time
	SeenAt     time.Time
	ExpiresAt  time.Time
	Via        string
	Address    string
	// ConfirmedAt is when the person last gave their password or a code; a session that
	// AwaitsCode is none yet.
	ConfirmedAt *time.Time
	AwaitsCode  bool
	Person      string `gorm:"->;-:migration"`
}

// Token is a secret for programs. Only its hash is kept.
type Token struct {
	ID         uuid.UUID
	Name       string
	Hash       []byte
	OperatorID uuid.UUID
	Role       string
	CreatedAt  time.Time
	ExpiresAt  *time.Time
	LastUsedAt *time.Time
	RevokedAt  *time.Time
	// Only is sweep, read, compare or settle for a token that may do nothing else. One that settles does so for the
	// charter of a name, with a signature unless it is Unsigned.
	Only     string `gorm:"column:only_for"`
	Charter  string
	Unsigned bool
	Limits   map[string]string `gorm:"serializer:json;default:'{}'"`
	Person   string            `gorm:"->;-:migration"`
}
