// Package visit decides about visits: somebody's use of a login through the console. It says by what a visit
// authenticates, when it is over, and how it is recorded, in the format asciicast v2. It opens no connection.
package visit

import "time"

// Way is by what a visit authenticates.
type Way string

// The ways, in the order in which they are offered.
const (
	// OwnKey is the person's own private key, which stays in their browser: it signs the one request of RFC 4252 §7.
	OwnKey Way = "own-key"
	// VisitKey is a key pair that the page makes for this visit alone, whose line is in the login for as long.
	VisitKey Way = "visit-key"
	// KeptKey is a private key in the safe, which signs in the service.
	KeptKey Way = "kept-key"
)

// Known reports whether there is such a way.
func (w Way) Known() bool { return w == OwnKey || w == VisitKey || w == KeptKey }

// State is how far a visit is.
type State string

// The states.
const (
	Asked   State = "asked"   // nothing is connected yet
	Opening State = "opening" // the login is under way
	Open    State = "open"
	Ended   State = "ended"
)

// How is why a visit ended.
type How string

// The reasons.
const (
	Left      How = "left"       // the person closed it, or the shell ended
	Failed    How = "failed"     // it never opened
	Idle      How = "idle"       // nothing was typed for too long
	TooLong   How = "too-long"   // it was open for as long as a visit may be
	Away      How = "away"       // the page did not come back
	EndedBy   How = "ended-by"   // somebody ended it
	SignedOut How = "signed-out" // the session is over, or the account or its rights are not what they were
	Cut       How = "cut"        // the connection with the machine broke, or the service stopped
	Unkept    How = "unkept"     // what is recorded could not be kept
)

// Limits are the bounds of visits. The zero value of a field is no bound.
type Limits struct {
	// Idle is for how long nothing may be typed, Longest for how long a visit may be open, Away for how long the page may
	// be away.
	Idle, Longest, Away time.Duration
	// Each is how many visits one person may have at once, All how many there may be.
	Each, All int
	// Record is the size in bytes of what is recorded of one visit.
	Record int
}

// Usual are the limits unless set.
var Usual = Limits{
	Idle: 15 * time.Minute, Longest: 8 * time.Hour, Away: 2 * time.Minute, Each: 8, All: 200, Record: 32 << 20,
}

// Facts are what is known of an open visit.
type Facts struct {
	Opened, Typed time.Time
	// Away is since when no page is connected; zero while one is.
	Away time.Time
	// Recorded is the size of the recording, in bytes.
	Recorded int
}

// Over says whether a visit is over at the time, and why.
func (l Limits) Over(f Facts, now time.Time) (How, bool) {
	switch {
	case l.Longest > 0 && now.Sub(f.Opened) >= l.Longest:
		return TooLong, true
	case l.Away > 0 && !f.Away.IsZero() && now.Sub(f.Away) >= l.Away:
		return Away, true
	case l.Idle > 0 && now.Sub(f.Typed) >= l.Idle:
		return Idle, true
	case l.Record > 0 && f.Recorded >= l.Record:
		return Unkept, true
	}
	return "", false
}
