// Package reach computes the status of keys and the reach of logins from what is
// wanted (grants) and what was seen (sightings).
package reach

// Status is how one key is in one login.
type Status string

// The fits. StatusUnswept means that nobody has read it yet yet; it is never shown as
// anything better.
const (
	InPlace       Status = "in place"
	Missing       Status = "missing"
	Ungranted     Status = "ungranted"
	StatusUnswept Status = "unswept"
)

// Sighting is what the last reading of a login said of one key.
type Sighting int

// The sightings.
const (
	NeverLooked Sighting = iota
	Seen
	NotSeen
)

// StatusOf returns the status of a known key and a login. ok is false where the key
// is neither wanted nor seen there, so that there is nothing to tell.
func StatusOf(granted bool, s Sighting) (status Status, ok bool) {
	switch {
	case granted && s == Seen:
		return InPlace, true
	case granted && s == NotSeen:
		return Missing, true
	case granted:
		return StatusUnswept, true
	case s == Seen:
		return Ungranted, true
	}
	return "", false
}
