package reach

import "time"

// State is how safe a login is.
type State string

// The states, the worst first. Unswept is a login at which nobody has read it yet.
const (
	Shut    State = "shut"
	Unswept State = "unswept"
	Stale   State = "stale"
	Thin    State = "thin"
	Solid   State = "solid"
)

// States are all states, the worst first.
var States = []State{Shut, Unswept, Stale, Thin, Solid}

// Nobody is the holder of a key that nobody is known to hold.
const Nobody = -1

// Key is what matters of a key for the logins that it opens.
type Key struct {
	// Holder is a number of the caller's for who holds the private key, or
	// Nobody. A holder who has left counts as Nobody.
	Holder int
	// Lost is whether the private key is lost or compromised.
	Lost bool
	// Steward is whether it is the service's own, which never counts as a holder.
	Steward bool
	// Proved is the last proof of possession by the holder, or by one of the team that holds it; zero for none.
	Proved time.Time
	// Other is who else has last proved it, and OtherProved when; zero for nobody.
	Other       int
	OtherProved time.Time
}

// Pair is one key and one login that a grant, a sighting or both join.
type Pair struct {
	// Key and Login are places in the lists of Input.
	Key, Login int32
	Granted    bool
	Sighting   Sighting
	// Opens is whether the line opens the login with a shell: not expired, no
	// forced command.
	Opens bool
	// Entered is the last completed login by the key's holder, or by one of the team; zero for none.
	Entered time.Time
	// Other is who else has last completed one, and OtherEntered when; zero for nobody.
	Other        int
	OtherEntered time.Time
}

// Input is what reach is computed from.
type Input struct {
	Now time.Time
	// Fresh is for how long a proof counts.
	Fresh time.Duration
	Keys  []Key
	Pairs []Pair
	// Authorities are keys whose certificates open a login, of which Key, Login and nothing else count. Who has such a
	// private key can certify a key of their own; they count while their proof is fresh.
	Authorities []Pair
	// Swept is, for each login, whether somebody has looked at it.
	Swept []bool
	// Strangers is, for each login, how many unknown keys are in place there.
	Strangers []int
	// Found is, for each login, whether a reading has found it and nobody has asked for it. Nobody has to get in
	// to such a login, so it is not shut while nobody is granted it. It may be nil.
	Found []bool
}

// Standing is the reach of one login.
type Standing struct {
	State State
	// Holders is the number of holders with a fresh proof of a granted key, where 2 means two or more.
	Holders int
	// InPlace, Missing, Ungranted and Strangers count its keys by their status. The
	// steward key is not among those in place.
	InPlace, Missing, Ungranted, Strangers int
	// Steward is whether the service's own key is in place.
	Steward bool
	// Own is whether it is the login of an account of the service's own, that nobody else gets in to by a key.
	Own bool
	// Certified is whether the holder of a certificate authority is among those who get in.
	Certified bool
	// Loose is whether somebody has freshly logged in by a key in place that nobody granted.
	Loose bool
}

// Drifts reports whether what is in the login is not what is granted.
func (s Standing) Drifts() bool { return s.Missing+s.Ungranted+s.Strangers > 0 }

// tally is what one login has shown so far.
type tally struct {
	held   bool // some key in place has a private key that somebody is known to hold
	holder int  // the first holder with a fresh proof
	seen   bool // any sighting of a known key
	wanted bool // somebody is granted it
}

// count adds a holder with a fresh proof; Nobody adds nothing.
func (t *tally) count(s *Standing, holder int) {
	t.held = t.held || holder != Nobody
	switch {
	case holder == Nobody:
	case t.holder == Nobody:
		t.holder, s.Holders = holder, 1
	case t.holder != holder:
		s.Holders = 2
	}
}

// Standings returns the reach of each login, in the order of in.Swept. Keys are in
// place where they are granted and seen; only those count, and of those only the
// lines that open the login for whoever holds the key.
func Standings(in Input) []Standing {
	out := make([]Standing, len(in.Swept))
	tallies := make([]tally, len(in.Swept))
	for i := range tallies {
		tallies[i].holder = Nobody
	}
	for _, p := range in.Pairs {
		s, t, k := &out[p.Login], &tallies[p.Login], &in.Keys[p.Key]
		t.seen = t.seen || p.Sighting != NeverLooked
		t.wanted = t.wanted || p.Granted && !k.Steward
		status, ok := StatusOf(p.Granted, p.Sighting)
		switch {
		case !ok, status == StatusUnswept:
			continue
		case status == Missing:
			s.Missing++
			continue
		case status == Ungranted:
			s.Ungranted++
			// Somebody who got in just now is not locked out, whether or not they should be in.
			s.Loose = s.Loose || p.Opens && !k.Lost && !k.Steward &&
				(in.fresh(p.Entered) || in.fresh(p.OtherEntered))
			continue
		case k.Steward:
			s.Steward = true
			continue
		}
		s.InPlace++
		if !p.Opens || k.Lost {
			continue
		}
		holder := in.shown(k, p)
		t.held = t.held || k.Holder != Nobody
		t.count(s, holder)
	}
	for _, p := range in.Authorities {
		k := &in.Keys[p.Key]
		if holder := in.shown(k, p); !k.Lost && holder != Nobody {
			out[p.Login].Certified = true
			tallies[p.Login].count(&out[p.Login], holder)
		}
	}
	for i := range out {
		s := &out[i]
		s.Strangers = in.Strangers[i]
		switch {
		case !in.Swept[i] && !tallies[i].seen:
			s.State = Unswept
		case !tallies[i].held && in.Found != nil && in.Found[i] && !tallies[i].wanted:
			s.State = Stale
			s.Own = s.Steward && s.InPlace+s.Ungranted+s.Strangers == 0
		case !tallies[i].held && s.Loose:
			s.State = Thin
		case !tallies[i].held:
			s.State = Shut
		case s.Holders == 0:
			s.State = Stale
		case s.Holders == 1:
			s.State = Thin
		default:
			s.State = Solid
		}
	}
	return out
}

// shown returns who has freshly shown that they hold the key: its holder, or else whoever did.
func (in *Input) shown(k *Key, p Pair) int {
	switch {
	case k.Holder != Nobody && (in.fresh(k.Proved) || in.fresh(p.Entered)):
		return k.Holder
	case in.fresh(p.OtherEntered):
		return p.Other
	case in.fresh(k.OtherProved):
		return k.Other
	}
	return Nobody
}

// fresh reports whether a proof of that time still counts. One from the future,
// by another clock, counts while it is less than Fresh away.
func (in *Input) fresh(at time.Time) bool {
	return !at.IsZero() && in.Now.Sub(at).Abs() < in.Fresh
}

// Change is a login whose state changes.
type Change struct {
	// Login is a place in the list of logins.
	Login         int
	Before, After State
}

// Loss returns which logins would change their state if the keys, by their places
// in in.Keys, were lost, in the order of the logins.
func Loss(in Input, keys ...int) []Change {
	before := Standings(in)
	lost := append([]Key(nil), in.Keys...)
	for _, k := range keys {
		lost[k].Lost = true
	}
	in.Keys = lost
	var out []Change
	for i, s := range Standings(in) {
		if s.State != before[i].State {
			out = append(out, Change{i, before[i].State, s.State})
		}
	}
	return out
}

// Rank orders states, the worst first: 0 is Shut.
func Rank(s State) int {
	for i, other := range States {
		if s == other {
			return i
		}
	}
	return len(States)
}
