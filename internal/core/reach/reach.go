// Package reach computes how keys and logins stand from what is wanted (grants)
// and what was seen (sightings).
package reach

// Fit is how one key and one login stand.
type Fit string

// The fits. FitUnswept means that nobody has looked yet; it is never shown as
// anything better.
const (
	InPlace    Fit = "in place"
	Missing    Fit = "missing"
	Ungranted  Fit = "ungranted"
	FitUnswept Fit = "unswept"
)

// Sighting is what the last look at a login said of one key.
type Sighting int

// The sightings.
const (
	NeverLooked Sighting = iota
	Seen
	NotSeen
)

// FitOf returns the fit of a known key and a login. ok is false where the key
// is neither wanted nor seen there, so that there is nothing to tell.
func FitOf(granted bool, s Sighting) (fit Fit, ok bool) {
	switch {
	case granted && s == Seen:
		return InPlace, true
	case granted && s == NotSeen:
		return Missing, true
	case granted:
		return FitUnswept, true
	case s == Seen:
		return Ungranted, true
	}
	return "", false
}
