package restore

import "slices"

// Route is the name of one way back in, as programs know it.
type Route string

// Way is one way back in, as a value: all that is known of it without asking anybody. Its steps
// are in four parts, so that the order that keeps people from being shut out is the same for
// all: what brings the new key in, the proof, what comes after the proof, and what comes last.
type Way struct {
	Route Route
	// Title is its name for people, Summary what it does in one sentence.
	Title, Summary string
	// Adopted is whether it can be taken where no cloud can be asked, Windows whether it can be on
	// Windows, and WindowsOnly whether only there.
	Adopted, Windows, WindowsOnly bool
	// Judge adds what it needs and costs for a login.
	Judge func(Facts, *Option)
	// Bring are the steps after which a login with the new key can be completed.
	Bring func(Plan) []Step
	// Proof is the step that proves the way to be open; "" means Enter.
	Proof Step
	// Then are the steps right after the proof, and Last those after the lines of lost keys are
	// gone; nil means none.
	Then, Last func(Plan) []Step
	// NoLines is whether no line is placed or removed.
	NoLines bool
	// Replaces is whether another instance takes the place of this one. The point of no return is
	// then the last step before Settle.
	Replaces bool
}

// Ways are the ways back in among which one is chosen.
type Ways []Way

// All are the ways that there are. Another one is a file like theirs and a line here.
var All = Ways{
	standingKeyWay,
	guestAgentWay,
	metadataKeysWay,
	browserShellWay,
	passwordWay,
	helperDiskWay,
	replacementWay,
	windowsPasswordWay,
}

// Of returns the way of a route; false where there is none.
func (w Ways) Of(r Route) (Way, bool) {
	n := slices.IndexFunc(w, func(one Way) bool { return one.Route == r })
	if n < 0 {
		return Way{}, false
	}
	return w[n], true
}

// Steps returns the steps of a plan in their order. Whatever is opened is closed before
// anybody is waited for, and no line of a lost key goes before the proof.
func (w Way) Steps(p Plan) []Step {
	out := append([]Step{Look}, w.Bring(p)...)
	out = append(out, w.proof())
	if w.Then != nil {
		out = append(out, w.Then(p)...)
	}
	if p.Lost && !w.NoLines {
		out = append(out, Remove, See)
	}
	if w.Last != nil {
		out = append(out, w.Last(p)...)
	}
	return append(out, Settle)
}

func (w Way) proof() Step {
	if w.Proof == "" {
		return Enter
	}
	return w.Proof
}

// Commit is the step whose end is the point of no return: a login was completed, or the password
// opened, so that the login is restored whatever becomes of the steps behind. Where another
// instance takes the place of one, that is so once the address has moved or the old one is
// stopped.
func (w Way) Commit(p Plan) Step {
	if !w.Replaces {
		return w.proof()
	}
	steps := w.Steps(p)
	return steps[len(steps)-2] // the last one before Settle
}
