package rotation

// Source is where the new keys of a rotation come from.
type Source string

// The sources: the machine of whoever starts it, the service, the holders, or none has to be made.
const (
	Here    Source = "here"
	Service Source = "service"
	Bring   Source = "bring"
	NoNew   Source = "none"
)

// DefaultSource returns the source where nobody named one. Whoever makes a private key has it, so that
// new keys are made here only where all old ones are the maker's own.
func DefaultSource(allOwn, safe bool) Source {
	switch {
	case allOwn:
		return Here
	case safe:
		return Service
	}
	return Bring
}

// Pending is what a holder has to do before they get in by a new key.
type Pending string

// What they have to do: take the private key out of the safe, bring a public key, or take a key over that
// somebody else has made.
const (
	TakeOut    Pending = "take"
	BringIt    Pending = "bring"
	TakeItOver Pending = "take-over"
)

// PendingFor returns what the holder of the old key has to do; "" for nothing. own is whether whoever starts the
// rotation is that holder, or one of the team.
func PendingFor(from Source, own bool) Pending {
	switch {
	case from == Service:
		return TakeOut
	case from == Bring:
		return BringIt
	case from == Here && !own:
		return TakeItOver
	}
	return ""
}
