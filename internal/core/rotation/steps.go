package rotation

import (
	"bytes"
	"errors"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/core/authorizedkeys"
)

// Step is one step of the rotation of one login.
type Step string

// The steps. Place puts the new key's line beside the old; Enter completes a login
// with the new key; Remove takes the old line out; See finds that the old key is
// refused and the new one still opens.
const (
	Place  Step = "place"
	Enter  Step = "enter"
	Remove Step = "remove"
	See    Step = "see"
	// TakeBack takes the new line out again.
	TakeBack Step = "take-back"
)

// Phase is a part of a rotation that is done in one go.
type Phase string

// The phases. In lets the new key in beside the old, so that people can pick it up.
// Out takes the old one out, after the new one has shown again that it opens. Whole
// is both at once. Back takes the new one out again. Forced takes the old one out
// although nobody has logged in with the new one; it needs an Override.
const (
	In     Phase = "in"
	Out    Phase = "out"
	Whole  Phase = "whole"
	Back   Phase = "back"
	Forced Phase = "forced"
)

// Steps returns the steps of a phase in their order. In each of them but Forced a
// removal of the old line comes after an entry. kept is whether the service has the new key's
// private key and can log in with it itself; otherwise somebody else shows that the
// new key opens the login before the phase Out, and there is no Whole.
func Steps(p Phase, kept bool) []Step {
	switch {
	case p == In && kept:
		return []Step{Place, Enter}
	case p == In:
		return []Step{Place}
	case p == Out:
		return []Step{Enter, Remove, See}
	case p == Whole && kept:
		return []Step{Place, Enter, Remove, See}
	case p == Back:
		return []Step{TakeBack}
	case p == Forced:
		return []Step{Remove, See}
	}
	return nil
}

// The errors of a removal that would break the first rule.
var (
	ErrNotEntered = errors.New("no login was completed with another key, so no line may go")
	ErrOwnLine    = errors.New("the key that was logged in with is among those that are to go")
	ErrNotThere   = errors.New("the line of the key that stays is not in the login's files, or does not open it now")
)

// MayRemove returns nil if lines of the old keys may go: a line of the key that stays is in one of
// the login's files and opens it at that time, where a time without a zone is in local.
func MayRemove(all []authorizedkeys.File, old [][]byte, stays []byte, now time.Time, local *time.Location) error {
	if len(stays) == 0 {
		return ErrNotEntered
	}
	if slices.ContainsFunc(old, func(b []byte) bool { return bytes.Equal(b, stays) }) {
		return ErrOwnLine
	}
	if !slices.ContainsFunc(all, func(f authorizedkeys.File) bool { return opens(f, stays, now, local) }) {
		return ErrNotThere
	}
	return nil
}

// opens reports whether a line of the key is in the file and lets it in at that time. A forced
// command lets in: it is what the machine's owner wants of that key.
func opens(f authorizedkeys.File, blob []byte, now time.Time, local *time.Location) bool {
	return slices.ContainsFunc(f.Find(blob), func(l authorizedkeys.Line) bool {
		_, authority := l.Option("cert-authority")
		end, ends := l.Expiry(local)
		return !authority && (!ends || now.Before(end))
	})
}

// Others returns how many lines of other keys than the one are in the files and let in.
func Others(all []authorizedkeys.File, but []byte, now time.Time, local *time.Location) int {
	n := 0
	for _, f := range all {
		for _, l := range f {
			if l.Kind == authorizedkeys.Key && !bytes.Equal(l.Blob, but) && opens(authorizedkeys.File{l}, l.Blob, now, local) {
				n++
			}
		}
	}
	return n
}

// Override is leave to take the line of a lost key out of one login though nobody has
// logged in with the new one. The zero Override is none.
type Override struct{ login string }

// The errors of an override that is not given.
var (
	ErrNotLost    = errors.New("the old key is not marked as lost, and an override is for a lost or compromised key alone")
	ErrNotNamed   = errors.New("an override is for one login, which has to be named as user@instance")
	ErrNoReason   = errors.New("an override needs a reason, for the daybook")
	ErrNoOverride = errors.New("there is no override for this login, so no line may go without a login by another key")
)

// OverrideFor gives leave where the key is lost, the login was named as it is, and
// there is a reason.
func OverrideFor(login, named, reason string, lost bool) (Override, error) {
	switch {
	case !lost:
		return Override{}, ErrNotLost
	case login == "" || named != login:
		return Override{}, ErrNotNamed
	case strings.TrimSpace(reason) == "":
		return Override{}, ErrNoReason
	}
	return Override{login}, nil
}

// For reports whether the override is one for the login.
func (o Override) For(login string) bool { return o.login != "" && o.login == login }

// ErrAuthority is returned for an old key that is in place as a certificate
// authority, which another key does not replace.
var ErrAuthority = errors.New(
	"the old key is in place there as a certificate authority, which must be replaced by hand",
)

// Beside returns the file with a line of the new key for each line of the old, with
// the old one's options. Where the new key is in place there, nothing is added.
func Beside(f authorizedkeys.File, old, blob []byte, line string) (with authorizedkeys.File, added bool, err error) {
	if len(f.Find(blob)) > 0 {
		return f, false, nil
	}
	for _, l := range f.Find(old) {
		if _, authority := l.Option("cert-authority"); authority {
			return nil, false, ErrAuthority
		}
		f, added = f.Add(optionsOf(l)+line), true
	}
	return f, added, nil
}

// optionsOf returns the options of a line as they are written, with the blank after
// them.
func optionsOf(l authorizedkeys.Line) string {
	text := strings.TrimLeft(l.Raw, " \t")
	if len(l.Options) == 0 {
		return ""
	}
	// The algorithm is the first word outside quotes that equals it.
	quoted := false
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && quoted && i+1 < len(text) && text[i+1] == '"': // as sshd reads it: no other escape
			i++
		case text[i] == '"':
			quoted = !quoted
		case !quoted && (text[i] == ' ' || text[i] == '\t'):
			return text[:i] + " "
		}
	}
	return ""
}
