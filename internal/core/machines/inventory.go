package machines

import (
	"errors"
	"fmt"
)

// MostListed is how many instances of one cloud are read.
const MostListed = 200_000

var (
	errOrder   = errors.New("it does not list its instances in the order of their ids, so that its end is not known")
	errTooMany = fmt.Errorf("it lists more than %d instances", MostListed)
)

// Listed checks the ids of the pages of a list as they come: each is behind the one before, as the contract has it.
// A list that goes round, or repeats itself, is found so.
type Listed struct {
	last  string
	count int
}

// Take takes the next page of ids. It returns what is behind the page.
func (l *Listed) Take(ids []string) (after string, err error) {
	for _, id := range ids {
		if id == "" || id <= l.last {
			return "", errOrder
		}
		l.last = id
	}
	if l.count += len(ids); l.count > MostListed {
		return "", errTooMany
	}
	return l.last, nil
}

// TooManyGone reports whether so many of the recorded instances of a cloud are gone at once that it is more likely that
// another cloud answers: over half of them, and more than two.
func TooManyGone(gone, recorded int) bool { return gone > 2 && 2*gone > recorded }

// KnownState reports whether a state that a cloud tells of is one that machines have.
func KnownState(s State) bool {
	switch s {
	case Launching, Running, Stopping, Stopped, Starting, Deleting, Deleted, Failed:
		return true
	}
	return false
}
