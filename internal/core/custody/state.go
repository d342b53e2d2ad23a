package custody

// State is how a key will be taken.
type State string

// The states. One is lost where nobody has its private key, or somebody has who must not; one is
// retired where it no longer opens anything.
const (
	Active  State = "active"
	Lost    State = "lost"
	Retired State = "retired"
)

// Custody is where a private key is.
type Custody string

// With its holder only, or in the service's safe.
const (
	Holder Custody = "holder"
	Kept   Custody = "kept"
)

// Consent is what came of somebody's asking that a second person agrees to a release.
type Consent string

// The states of an asking. It is over where its time ran out before somebody decided, or before it was
// made use of.
const (
	ConsentAsked   Consent = "asked"
	ConsentGranted Consent = "granted"
	ConsentRefused Consent = "refused"
	ConsentUsed    Consent = "used"
	ConsentOver    Consent = "over"
)

// Open reports whether the asking can run out of time: it is not decided, or not made use of.
func (c Consent) Open() bool { return c == ConsentAsked || c == ConsentGranted }
