package store

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
)

// Operator is an account that may sign in.
type Operator struct {
	ID           uuid.UUID
	Name         string
	Role         string
	PasswordHash string // "" for those who sign in by an issuer alone
	CreatedAt    time.Time
	// Limits are the labels of the instances that the person sees and touches.
	Limits   map[string]string `gorm:"serializer:json;default:'{}'"`
	ClosedAt *time.Time
	// IssuerName is what an OpenID Connect issuer calls the person.
	IssuerName, IssuerSubject string
	// FactorSealed is the secret of the second factor, in use from FactorAt on;
	// FactorStep is the last time step that a code was taken for.
	FactorSealed   []byte
	FactorAt       *time.Time
	FactorStep     int64
	KnownAddresses []string `gorm:"serializer:json;default:'[]'"`
	Leaving        *Leaving `gorm:"serializer:json"`
	// Of the keeper, and of what the person has.
	Title      string     `gorm:"->;-:migration"`
	Teams      string     `gorm:"->;-:migration"` // names with commas between
	Sessions   int        `gorm:"->;-:migration"`
	Tokens     int        `gorm:"->;-:migration"`
	LastSeenAt *time.Time `gorm:"->;-:migration"`
}

// Leaving is somebody's going: their keys are replaced or handed over, and the account
// is closed last.
type Leaving struct {
	BegunAt time.Time `json:"begun_at"`
	By      string    `json:"by"`
	Reason  string    `json:"reason"`
	// To is the keeper who follows; Rotation replaces the keys.
	To       string     `json:"to"`
	Rotation *uuid.UUID `json:"rotation,omitempty"`
	Note     string     `json:"note"`
}

// Keeper is a person or team that holds private halves.
type Keeper struct {
	ID         uuid.UUID
	Name       string
	Kind       string // person or team
	Title      string
	OperatorID *uuid.UUID
	LeftAt     *time.Time
	// Members names the persons of a team, with commas between.
	Members string `gorm:"->;-:migration"`
}

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
	// Only is sweep or read for a token that may do nothing else.
	Only   string            `gorm:"column:only_for"`
	Limits map[string]string `gorm:"serializer:json;default:'{}'"`
	Person string            `gorm:"->;-:migration"`
}

// Key is the public half of a key pair and what is known of it.
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
	KeeperID  *uuid.UUID
	Keeper    *Keeper
	Purpose   string
	Labels    map[string]string `gorm:"serializer:json"`
	Custody   string
	Origin    string
	State     string
	CreatedAt time.Time
	CreatedBy string
	Opens     int        `gorm:"->;-:migration"` // the number of logins granted
	StewardOf *uuid.UUID // the instance whose steward key it is
	// ProvedAt is when ProvedBy last showed that they hold the private half.
	ProvedAt *time.Time
	ProvedBy string
	// SharesPrimeWith names the RSA keys that share a prime with this one.
	SharesPrimeWith []string `gorm:"-"`
}

// Instance is a virtual machine.
type Instance struct {
	ID             uuid.UUID
	Name           string
	CloudID        string
	State          string
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
	Adopted          bool // it was not launched by us, and no cloud is asked about it
	HostKeys         []HostKey
	Keys             int `gorm:"->;-:migration"` // the number of keys granted
}

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

// Login is one OS user on one instance.
type Login struct {
	ID         uuid.UUID
	InstanceID uuid.UUID
	OSUser     string `gorm:"column:os_user"`
	// TriedAt is the last attempt to read the login's files, SweptAt the last that succeeded.
	TriedAt, SweptAt *time.Time
	SweptBy          string
	SweepError       string
	Folders          []Folder `gorm:"serializer:json;default:'[]'"` // above its files, at the last look
}

// Folder is a folder above an authorized_keys file.
type Folder struct {
	Path string `json:"path"`
	Mode int    `json:"mode"`
}

// Grant says that a key should open a login.
type Grant struct {
	ID          uuid.UUID
	KeyID       uuid.UUID
	LoginID     uuid.UUID
	GrantedAt   time.Time
	GrantedBy   string
	Until       *time.Time
	Reason      string
	WithdrawnAt *time.Time
	WithdrawnBy string
	EndRefused  bool // it could not be withdrawn when its time was over
}

// Sighting is the last look for a key in a login.
type Sighting struct {
	LoginID uuid.UUID
	KeyID   uuid.UUID
	SeenAt  time.Time
	Method  string
	Present bool
	// Limits says what keeps the line from opening the login for every holder of
	// the key; Opens is whether it opens it at all with a shell.
	Limits    string
	Opens     bool
	EnteredAt *time.Time
}

// Stranger is a key that stands in a login and in no record.
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

// FileVersion is a content that an authorized_keys file was seen with, from
// SeenAt until SeenUntil.
type FileVersion struct {
	ID      uuid.UUID
	LoginID uuid.UUID
	Path    string
	There   bool
	// Content is what is kept of the file; Digest and Bytes are of the whole.
	Content   []byte
	Digest    []byte
	Bytes     int
	Mode      int
	Method    string
	SeenAt    time.Time
	SeenUntil time.Time
	// Exposed are the stretches that look like a private key and are not kept.
	Exposed []authorizedkeys.Exposed `gorm:"serializer:json;default:'[]'"`
}

// Sweep is the reading of the files of several logins.
type Sweep struct {
	ID          uuid.UUID
	RequestedBy string
	CreatedAt   time.Time
	EndedAt     *time.Time
}

// SweepItem is one login of a sweep.
type SweepItem struct {
	SweepID uuid.UUID
	LoginID uuid.UUID
	State   string
	Outcome string
	EndedAt *time.Time
	Tries   int // how often its reading was begun and not ended
	// Of the login.
	OSUser       string `gorm:"->;-:migration;column:os_user"`
	InstanceName string `gorm:"->;-:migration"`
}

// Rotation replaces keys on logins.
type Rotation struct {
	ID          uuid.UUID
	State       string
	RequestedBy string
	Reason      string
	Settings    RotationSettings `gorm:"serializer:json"`
	CreatedAt   time.Time
	EndedAt     *time.Time
	PausedWhy   string
	// Urgent is for lost keys, with no grace.
	Urgent bool
	// Rule is the name of the standing rule that began it, "" for a person.
	Rule    string
	LeftOut []LeftOut `gorm:"serializer:json;default:'[]'"`
}

// LeftOut is what a rotation's plan left out, and why.
type LeftOut struct {
	Login  string `json:"login"`
	Old    string `json:"old"`
	Why    string `json:"why"`
	Remedy string `json:"remedy"`
}

// AskedKey is a new public half that a keeper is asked to bring for a rotation.
type AskedKey struct {
	ID            uuid.UUID
	RotationID    uuid.UUID
	Name, Follows string
	KeeperID      uuid.UUID
	Type          string
	Bits          int
	CreatedAt     time.Time
	BroughtAt     *time.Time
	// Of the keeper, the rotation, and what waits for it.
	KeeperName, KeeperKind string `gorm:"->;-:migration"`
	RequestedBy, Reason    string `gorm:"->;-:migration"`
	Logins                 int    `gorm:"->;-:migration"`
}

// RotationRule has keys rotated by themselves when they are due.
type RotationRule struct {
	ID           uuid.UUID
	Name         string
	Wanted       json.RawMessage `gorm:"type:jsonb;serializer:json"`
	Make         string
	Settings     RotationSettings `gorm:"serializer:json"`
	Paused       bool
	CreatedBy    string
	CreatedAt    time.Time
	LookedAt     *time.Time // when it was last seen whether something is due
	BegunAt      *time.Time // when it last began a rotation
	LastRotation *uuid.UUID
	// Note is what is due and cannot be done, and why.
	Note string
}

// RotationSettings say how a rotation goes about it.
type RotationSettings struct {
	// First is the size of the first group, 0 for none; AtOnce how many logins are
	// worked on at once; StopAfter how many failures pause it, 0 for no number.
	First     int `json:"first"`
	AtOnce    int `json:"at_once"`
	StopAfter int `json:"stop_after"`
	// Between are hours such as 22:00-04:00 in Zone; "" for all.
	Between string `json:"between"`
	Zone    string `json:"zone"`
	// GraceSeconds is how long old and new stand beside each other.
	GraceSeconds int `json:"grace_seconds"`
}

// RotationItem is one old key in one login, to be replaced.
type RotationItem struct {
	ID                 uuid.UUID
	RotationID         uuid.UUID
	Seq                int
	LoginID            uuid.UUID
	OldKeyID, NewKeyID *uuid.UUID // nil once the record is gone
	OldName, NewName   string
	State              string
	Detail             string
	RunID              *uuid.UUID
	PlacedAt, ProvedAt *time.Time
	EndedAt            *time.Time
	// EnteredBefore is when the new key had last opened the login as its line was placed.
	EnteredBefore *time.Time
	// Means is by what the login's files are edited.
	Means string
	// OverrideBy had the old line go without a login by the new key; "" for nobody.
	OverrideBy, OverrideWhy string
	// OldRefused is whether the SSH server was seen to refuse the old key.
	OldRefused bool
	// Of the login.
	OSUser       string `gorm:"->;-:migration;column:os_user"`
	InstanceName string `gorm:"->;-:migration"`
}

// KeptHalf is a private half in the safe.
type KeptHalf struct {
	KeyID      uuid.UUID `gorm:"primaryKey"`
	Sealed     []byte
	KeptAt     time.Time
	ReleasedAt *time.Time
	ReleasedTo string
}

// Proof is dated evidence that a person holds a key's private half.
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

// Challenge is a text that is to be signed with a key's private half.
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

// Opening is one key and one login, with the grant and the sighting that join them.
type Opening struct {
	KeyName       string
	KeyType       string
	KeyBits       int
	KeySHA256     []byte `gorm:"column:key_sha256"`
	KeeperName    *string
	OSUser        string `gorm:"column:os_user"`
	InstanceName  string
	InstanceState string
	Region        string
	GrantedAt     *time.Time
	Until         *time.Time
	GrantedBy     *string
	Reason        *string
	SeenAt        *time.Time
	Method        *string
	Present       *bool
	Limits        *string
	EnteredAt     *time.Time
	ProvedAt      *time.Time
	KeyState      string
	Steward       bool
}

// Run is a change in progress or ended.
type Run struct {
	ID          uuid.UUID
	Kind        string
	InstanceID  uuid.UUID
	Instance    Instance
	State       string
	Version     int64
	RequestedBy string
	Reason      string
	// Payload is what it works on and what its steps have left, in a form of its kind and
	// PayloadVersion. Facts is that of the version 0.
	Payload        json.RawMessage `gorm:"type:jsonb;serializer:json"`
	PayloadVersion int
	Facts          map[string]string `gorm:"serializer:json"`
	CreatedAt      time.Time
	EndedAt        *time.Time
	Error          string
	// Epoch is raised by whoever takes the run.
	Epoch   int64
	TakenAt *time.Time
	// CommittedAt is when it came to its point of no return.
	CommittedAt *time.Time
	UndoAskedAt *time.Time
	UndoWhy     string
	// Waits is what it waits for from somebody; nil for nothing.
	Waits *Waits `gorm:"serializer:json"`
	// Reports are what somebody outside the service has reported of its steps, by name.
	Reports map[string]Report `gorm:"serializer:json"`
	Steps   []RunStep
}

// Waits is what a run waits for from somebody.
type Waits struct {
	// Step is its name; Undo is whether it waits in the step's undo.
	Step string `json:"step"`
	Undo bool   `json:"undo,omitempty"`
	// Who is to do What; Next is the command that does it, "" where there is none.
	Who  string `json:"who"`
	What string `json:"what"`
	Next string `json:"next,omitempty"`
	// ByHand is whether it is to be done outside of this product.
	ByHand bool      `json:"by_hand,omitempty"`
	Since  time.Time `json:"since"`
}

// Report is what somebody outside the service reported of a step.
type Report struct {
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Outcome string    `json:"outcome,omitempty"`
	Error   string    `json:"error,omitempty"`
}

// RunStep is one step of a run.
type RunStep struct {
	RunID     uuid.UUID
	Seq       int
	Name      string
	Title     string
	State     string
	Intent    string
	Undo      string
	Outcome   string
	Percent   int
	StartedAt *time.Time
	EndedAt   *time.Time
}

// Entry is one line of the daybook.
type Entry struct {
	Seq         int64 `gorm:"primaryKey;autoIncrement:false"`
	At          time.Time
	Person      string
	Via         string
	Action      string
	SubjectKind string
	Subject     string
	Why         string
	Outcome     string
	Sentence    string
	Details     map[string]any `gorm:"serializer:json"`
	RequestID   string
	// About is what it concerns, such as key:gannet or instance:atlas-db.
	About []string `gorm:"serializer:json"`
	// PrevHash and Hash are its place in the chain.
	PrevHash, Hash []byte
}

// ServiceKey is a key pair of the service's own, the private half sealed by the safe.
type ServiceKey struct {
	Name   string
	Blob   []byte
	Sealed []byte
	MadeAt time.Time
}

// TableName is the daybook's.
func (Entry) TableName() string { return "daybook" }

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
