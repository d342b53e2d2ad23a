package rotation

import (
	"cmp"
	"fmt"
	"time"
)

// MaxAtOnce is how many logins a rotation works on at once at most.
const MaxAtOnce = 16

// Settings say how a rotation continues. They are kept as JSON.
type Settings struct {
	// First is the size of the first group, 0 for none; AtOnce how many logins are
	// worked on at once; StopAfter how many failures pause it, 0 for no number.
	First int `json:"first"`
	// ThenGo is whether the rest begins by itself once the first group is done.
	ThenGo    bool `json:"then_go"`
	AtOnce    int  `json:"at_once"`
	StopAfter int  `json:"stop_after"`
	// Between are hours such as 22:00-04:00 in Zone; "" for all.
	Between string `json:"between"`
	Zone    string `json:"zone"`
	// GraceSeconds is how long old and new are in place beside each other.
	GraceSeconds int `json:"grace_seconds"`
}

// Fault is a setting that will not do, and what to do about it.
type Fault struct{ Field, Detail, Remedy string }

func (f *Fault) Error() string { return f.Detail }

// Filled returns the settings with what is left out, or the first *Fault. Whether there is such a zone is
// the caller's to see.
func (t Settings) Filled() (Settings, error) {
	t.AtOnce, t.Zone = cmp.Or(t.AtOnce, MaxAtOnce), cmp.Or(t.Zone, "UTC")
	switch {
	case t.AtOnce < 1 || t.AtOnce > MaxAtOnce:
		return t, &Fault{
			"at_once",
			fmt.Sprintf("%d logins at once are not possible; 1 to %d are", t.AtOnce, MaxAtOnce),
			"",
		}
	case t.First < 0 || t.StopAfter < 0:
		return t, &Fault{"first", "a number of logins is not negative", ""}
	case t.GraceSeconds < 0 || t.GraceSeconds > 365*24*3600:
		return t, &Fault{"grace_seconds", "a grace has 0 seconds to a year", ""}
	}
	if t.Between != "" {
		if _, err := ReadHours(t.Between); err != nil {
			return t, &Fault{"between", err.Error(), "Give hours such as 22:00-04:00"}
		}
	}
	return t, nil
}

// Within reports whether the hours of the settings are at the time, which is given in their zone.
func (t Settings) Within(local time.Time) bool {
	if t.Between == "" {
		return true
	}
	hours, err := ReadHours(t.Between)
	return err == nil && hours.Has(local)
}

// Resumed returns the settings of a rotation that continues after a pause: with as many failures allowed
// again, and with all the rest where the first group is over or some of it failed or was taken back. failed is
// how many have failed, groupLost how many of the first group failed or were taken back, groupDone how many are done.
func (t Settings) Resumed(failed, groupLost, groupDone int) Settings {
	if t.StopAfter > 0 && failed >= t.StopAfter {
		t.StopAfter += failed
	}
	if groupLost > 0 || t.First > 0 && groupDone >= t.First {
		t.First = 0
	}
	return t
}

// Started is how a rotation will be started: what of it excludes what.
type Started struct {
	Settings
	// Rule is whether a rotation rule starts it, FromHere whether somebody edits from their machine.
	Rule, FromHere, Urgent bool
	// Bring is whether holders bring the new keys, Service whether the service makes and keeps them.
	Bring, Service bool
}

// Together returns the first *Fault of what excludes one another.
func (s Started) Together() error {
	switch {
	case s.FromHere && s.Rule:
		return &Fault{
			"from_here",
			"a rotation rule has nobody's machine to edit from",
			"Place steward keys: plumlatch instance steward",
		}
	case s.Urgent && (s.GraceSeconds > 0 || s.Between != "" || s.First > 0):
		return &Fault{
			"urgent",
			"an urgent rotation has no grace, no hours and no first group",
			"Leave them out, or leave out urgent",
		}
	case s.Urgent && s.Bring:
		return &Fault{
			"make",
			"an urgent rotation does not wait for holders to bring keys",
			"Have them made: here or by the service",
		}
	case s.FromHere && s.Service:
		return &Fault{
			"make",
			"editing from your own machine needs the new private keys there, and the service would keep them",
			"Say -make here",
		}
	}
	return nil
}
