package reach

import (
	"strings"
	"time"

	"plumlatch/internal/core/text"
)

// Severity orders logins, the worst first: by state, and among those of one state first those with
// strangers, then those that differ otherwise from what is granted.
func Severity(s Standing) int {
	drift := 2
	switch {
	case s.Strangers > 0:
		drift = 0
	case s.Drifts():
		drift = 1
	}
	return Rank(s.State)*3 + drift
}

// Tell says in words the reach of a login, and the command to type next; "" for none. login
// is user@instance.
func Tell(login, instance string, s Standing, sweepFailed bool) (why, next string) {
	var words []string
	switch s.State {
	case Shut:
		words = append(words, "no key in place that anybody is known to have")
		if s.Ungranted > 0 { // somebody may well get in; whether they should be is for a person to say
			words[0] = "nobody is known to have a key that is granted there"
			next = "plumlatch settle " + login
		} else if s.Steward {
			next = "plumlatch grant add KEY " + login
		} else {
			words = append(words, "no steward key either")
			next = "plumlatch restore routes " + instance
		}
	case Unswept:
		words = append(words, "nobody has read it yet")
		next = "plumlatch sweep " + instance
	case Stale:
		if s.Own {
			words = append(words, "an account of the service's own, which its steward key alone opens")
			break
		}
		words = append(words, "no key in place has a fresh proof")
		next = "plumlatch prove " + login
	case Thin:
		words = append(words, "one holder only; one lost laptop would shut it")
		if s.Holders == 0 {
			words[0] = "only a key that nobody granted gets in"
		}
		next = "plumlatch grant add KEY " + login
		if !s.Steward {
			next += " -with FILE"
		}
	case Solid:
		words = append(words, "two or more holders with a fresh proof")
	}
	if s.Certified {
		words = append(words, "counting the holder of a certificate authority")
	}
	if s.Strangers > 0 {
		words = append(words, text.Counted(s.Strangers, "stranger")+" in the file")
	}
	if s.Missing > 0 {
		words = append(words, text.Counted(s.Missing, "granted key")+" missing")
	}
	if s.Ungranted > 0 {
		words = append(words, text.Counted(s.Ungranted, "known key")+" that nobody granted")
	}
	if s.Drifts() && s.State != Shut && s.State != Stale {
		next = "plumlatch settle " + login
	}
	if sweepFailed {
		words = append(words, "the last sweep failed")
	}
	return strings.Join(words, "; "), next
}

// Labelled is a key that opens, or should open, an instance; Present is nil where nobody has read it yet.
type Labelled struct {
	Name    string
	Present *bool
}

// LabelWorth says what is wrong with a cloud's key label; "" where nothing is, or nothing is known.
func LabelWorth(label string, openers []Labelled) string {
	looked := false
	for _, o := range openers {
		if o.Present == nil {
			continue
		}
		looked = true
		if o.Name == label && *o.Present {
			return ""
		}
	}
	if label == "" || !looked {
		return ""
	}
	return "the cloud's label names the key " + label + ", which does not open it"
}

// Worse returns what the loss of a key does to one login, where it would leave it shut or thin and in
// a worse state than before.
func Worse(in Input, key, login int) (Change, bool) {
	for _, c := range Loss(in, key) {
		if c.Login == login && (c.After == Shut || c.After == Thin) && Rank(c.After) < Rank(c.Before) {
			return c, true
		}
	}
	return Change{}, false
}

// Choice is what can be done about a difference between what is granted and what is in place there.
type Choice string

// The choices.
const (
	Place    Choice = "place"
	Withdraw Choice = "withdraw"
	Accept   Choice = "accept"
	Remove   Choice = "remove"
)

// Stranger is the status of a key that no record is of.
const Stranger Status = "stranger"

// Choices returns what can be done about a difference, the most careful first; none where there is
// nothing to do.
func Choices(f Status) []Choice {
	switch f {
	case Missing:
		return []Choice{Place, Withdraw}
	case Ungranted, Stranger:
		return []Choice{Accept, Remove}
	}
	return nil
}

// Holding is who could let somebody in to a login, by places among the keys of the input.
type Holding struct {
	// Fresh are the keys in place whose holder has freshly proved to hold them. Authorities are those whose certificates
	// open the login, freshly proved.
	Fresh, Authorities []int
	// Steward is whether the service's own key is in place.
	Steward bool
	// Lost are the keys in place that nobody can use: lost ones, and those whose holder has
	// left or is nobody.
	Lost []int
}

// HoldingOf returns who could let somebody in to the login. A proof of the future counts as its time
// before now: a clock was set back meanwhile.
func HoldingOf(in Input, login int) Holding {
	var out Holding
	fresh := func(at time.Time) bool { return in.Now.Sub(at).Abs() < in.Fresh }
	for _, p := range in.Pairs {
		k := in.Keys[p.Key]
		if int(p.Login) != login || p.Sighting == NotSeen {
			continue
		}
		switch {
		case k.Steward:
			out.Steward = out.Steward || p.Sighting == Seen
		case k.Lost || k.Holder == Nobody:
			out.Lost = append(out.Lost, int(p.Key))
		case p.Sighting == Seen && p.Opens && (fresh(k.Proved) || fresh(p.Entered)):
			out.Fresh = append(out.Fresh, int(p.Key))
		}
	}
	for _, p := range in.Authorities {
		if k := in.Keys[p.Key]; int(p.Login) == login && !k.Lost && k.Holder != Nobody && fresh(k.Proved) {
			out.Authorities = append(out.Authorities, int(p.Key))
		}
	}
	return out
}
