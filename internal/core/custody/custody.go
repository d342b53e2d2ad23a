// Package custody decides who gets a private key that the safe keeps.
package custody

// Asked is what somebody asks for, and of which key.
type Asked struct {
	// Kept is whether the safe has the private key, and Released whether it was handed over before.
	Kept, Released bool
	// Steward is whether the key is the service's own of an instance.
	Steward bool
	// SafeOff is whether the safe is switched off.
	SafeOff bool
	// Reason is whether a reason was given.
	Reason bool
	// Beyond is whether the key opens logins that the asker does not see.
	Beyond bool
	// Holds is whether the asker is the key's holder, Admin whether they are an admin.
	Holds, Admin bool
}

// Verdict is why somebody gets no private key; Granted where they do.
type Verdict string

// The verdicts.
const (
	Granted  Verdict = ""
	NotKept  Verdict = "not-kept"
	Steward  Verdict = "steward-key"
	SafeOff  Verdict = "no-safe"
	Released Verdict = "private-key-released"
	NoReason Verdict = "no-reason"
	Beyond   Verdict = "beyond-your-limit"
	NotTheir Verdict = "not-the-holder"
)

// Noted reports whether the daybook tells that it was asked for in vain: not where the asker only has
// to ask once more, or nobody could have got it.
func (v Verdict) Noted() bool {
	switch v {
	case Granted, SafeOff, NoReason:
		return false
	}
	return true
}

// Judge decides. What is known without looking further comes first, so that an asker learns of who
// holds a key only where they may.
func Judge(a Asked) Verdict {
	switch {
	case !a.Kept:
		return NotKept
	case a.Steward:
		return Steward
	case a.SafeOff:
		return SafeOff
	case a.Released:
		return Released
	case !a.Reason:
		return NoReason
	case a.Beyond:
		return Beyond
	case !a.Holds && !a.Admin:
		return NotTheir
	}
	return Granted
}
