package record

import (
	"bytes"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
)

// AskedKey is a new public key that a holder is asked to bring for a rotation.
type AskedKey struct {
	ID            uuid.UUID
	RotationID    uuid.UUID
	Name, Follows string
	HolderID      uuid.UUID
	Type          string
	Bits          int
	CreatedAt     time.Time
	BroughtAt     *time.Time
	// Of the holder, the rotation, and what waits for it.
	HolderName, HolderKind string `gorm:"->;-:migration"`
	RequestedBy, Reason    string `gorm:"->;-:migration"`
	Logins                 int    `gorm:"->;-:migration"`
}

// ConsentLabel is a label for which a second person has to consent to a release.
type ConsentLabel struct {
	Name, Value string
	AddedBy     string
	AddedAt     time.Time
}

// Consent is somebody's request that a kept private key may be handed over to them.
type Consent struct {
	ID        uuid.UUID
	KeyID     uuid.UUID
	AskedBy   string
	Reason    string
	AskedAt   time.Time
	ExpiresAt time.Time
	State     custody.Consent
	DecidedBy string
	DecidedAt *time.Time
	Note      string
	KeyName   string `gorm:"->;-:migration"`
}

// KeptKey is a private key in the safe.
type KeptKey struct {
	KeyID      uuid.UUID `gorm:"primaryKey"`
	Encrypted  []byte
	KeptAt     time.Time
	ReleasedAt *time.Time
	ReleasedTo string
}

// Handover is a key that is to have another holder, once that one has proved to hold it.
type Handover struct {
	ID         uuid.UUID
	KeyID      uuid.UUID
	FromHolder *uuid.UUID
	ToHolder   uuid.UUID
	AskedBy    string
	Reason     string
	AskedAt    time.Time
	EndedAt    *time.Time
	Outcome    string
	// Names of the key and the holders.
	KeyName  string `gorm:"->;-:migration"`
	FromName string `gorm:"->;-:migration"`
	ToName   string `gorm:"->;-:migration"`
}

// Holder is a person or team that holds private keys.
type Holder struct {
	ID         uuid.UUID
	Name       string
	Kind       string // person or team
	Title      string
	OperatorID *uuid.UUID
	LeftAt     *time.Time
	// Members names the persons of a team, with commas between.
	Members string `gorm:"->;-:migration"`
}

// Key is the public key of a key pair and what is known of it.
type Key struct {
	ID        uuid.UUID
	Name      string
	Type      string
	Algorithm string
	Bits      int
	Blob      []byte
	SHA256    []byte `gorm:"column:sha256"`
	MD5       []byte `gorm:"column:md5"`
	SPKIMD5   []byte `gorm:"column:spki_md5"`
	PKCS8SHA1 []byte `gorm:"column:pkcs8_sha1"`
	Comment   string
	HolderID  *uuid.UUID
	Holder    *Holder
	Purpose   string
	Labels    map[string]string `gorm:"serializer:json"`
	Custody   custody.Custody
	Origin    string
	State     custody.State
	CreatedAt time.Time
	CreatedBy string
	Opens     int        `gorm:"->;-:migration"` // the number of logins granted
	StewardOf *uuid.UUID // the instance whose steward key it is
	// StewardUser is the OS user of its own that it logs in as; "" for the instance's login user.
	StewardUser string
	// ProvedAt is when ProvedBy last showed that they hold the private key.
	ProvedAt *time.Time
	ProvedBy string
	// SharesPrimeWith names the RSA keys that share a prime with this one.
	SharesPrimeWith []string `gorm:"-"`
}

// KeyFilter narrows a list of keys; empty fields do not.
type KeyFilter struct {
	Text, Type, Holder   string
	LabelName, LabelText string
	// Own is whether only the service's own keys, or none of them; nil for all keys.
	Own  *bool
	Sort string
}

// KeyInPlace is how a key that is in place, or should be, is judged by those who may replace it.
type KeyInPlace struct {
	Type      string
	Bits      int
	CreatedAt time.Time
	State     custody.State
	// Lines is in how many logins it is, Instances on how many it was seen.
	Lines, Instances int
}

// SharedPrime says that two RSA keys share a prime, which breaks both.
type SharedPrime struct {
	KeyID   uuid.UUID
	OtherID uuid.UUID
	FoundAt time.Time
}

// Has reports whether the digest, in whichever notation, is the key's.
func (k *Key) Has(d keypair.Digest) bool {
	switch d.Kind {
	case "sha256":
		return bytes.Equal(k.SHA256, d.Sum)
	case "md5":
		return bytes.Equal(k.MD5, d.Sum) || bytes.Equal(k.SPKIMD5, d.Sum)
	case "sha1":
		return len(d.Sum) > 0 && bytes.Equal(k.PKCS8SHA1, d.Sum)
	}
	return false
}
