// Package grants decides about the ends of grants: by what one ends, and whether it may end now.
package grants

import (
	"fmt"
	"slices"
	"time"

	"plumlatch/internal/core/reach"
)

// EndBy is what ends a grant at its time.
type EndBy string

// The ways. ByService has the service remove the line, ByLine has the SSH server refuse it by an
// expiry-time option (sshd(8)), and ByBoth does both.
const (
	ByBoth    EndBy = "both"
	ByService EndBy = "service"
	ByLine    EndBy = "line"
)

// EndBys are all ways.
var EndBys = []EndBy{ByBoth, ByService, ByLine}

// InLine reports whether the line has the end too.
func (b EndBy) InLine() bool { return b == ByBoth || b == ByLine }

// NeedsService reports whether the service has to be able to remove the line.
func (b EndBy) NeedsService() bool { return b != ByLine }

// Patience is for how long the end of a grant may be past before it counts as overdue without a reason: the
// service ends grants each minute.
const Patience = 5 * time.Minute

// TellAgain is how often an overdue grant is told of.
const TellAgain = 24 * time.Hour

// Keeps returns the change by which a grant must stay though its time is over: without it, the login would
// be shut, and it is not shut now.
func Keeps(in reach.Input, key, login int) (reach.Change, bool) {
	for _, c := range reach.Loss(in, key) {
		if c.Login == login && c.After == reach.Shut {
			return c, true
		}
	}
	return reach.Change{}, false
}

// KeepsOpening is Keeps for a key whose line has expired, or will: as if it opened the login.
func KeepsOpening(in reach.Input, key, login int) (reach.Change, bool) {
	in.Pairs = slices.Clone(in.Pairs)
	for n, p := range in.Pairs {
		if int(p.Key) == key && int(p.Login) == login {
			in.Pairs[n].Opens = true
		}
	}
	return Keeps(in, key, login)
}

// Overdue reports whether a grant that is in force should have ended.
func Overdue(until *time.Time, problem string, now time.Time) bool {
	return until != nil && !until.After(now) && (problem != "" || now.Sub(*until) > Patience)
}

// Tell reports whether an overdue grant has to be told of: for the first time, with another reason, or again.
func Tell(before, problem string, toldAt *time.Time, now time.Time) bool {
	return toldAt == nil || before != problem || now.Sub(*toldAt) >= TellAgain
}

// Endless reports that a repetition would take a grant's end away without having said so.
type Endless struct{ Until time.Time }

func (e *Endless) Error() string {
	return fmt.Sprintf(
		"the grant ends on %s; without an end it would be valid for ever",
		e.Until.UTC().Format("2 Jan 2006 15:04 MST"),
	)
}

// Repeat returns an *Endless where a grant that has an end is asked for again without one.
func Repeat(has, wanted *time.Time, endless bool) error {
	if has != nil && wanted == nil && !endless {
		return &Endless{*has}
	}
	return nil
}
