package kit

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
)

// MeantOf is how many of the newest things are looked through for the one that is meant.
const MeantOf = 100

// Thing is something that has an id, and a name by which somebody may mean it.
type Thing struct {
	ID    uuid.UUID
	Names []string // such as the login and the instance
	What  string   // one line about it, for where several are meant
}

// Meant returns the one of the things, which are the newest first, that text means: the newest of that name,
// or the only one whose id begins so. Nothing of that kind is a failure with the code no-such-KIND.
func Meant(kind, text, list string, things []Thing) (uuid.UUID, error) {
	if text == "" && len(things) > 0 {
		return things[0].ID, nil
	}
	if n := slices.IndexFunc(things, func(t Thing) bool { return slices.Contains(t.Names, text) }); n >= 0 && text != "" {
		return things[n].ID, nil
	}
	digits := strings.ToLower(strings.ReplaceAll(text, "-", ""))
	var found []Thing
	for _, t := range things {
		if text != "" && strings.HasPrefix(strings.ReplaceAll(t.ID.String(), "-", ""), digits) {
			found = append(found, t)
		}
	}
	switch len(found) {
	case 1:
		return found[0].ID, nil
	case 0:
		detail := fmt.Sprintf("there is no %s of %q, and none whose id begins so", kind, text)
		if text == "" {
			detail = "there is no " + kind + " yet"
		}
		return uuid.Nil, Missing("no-such-"+kind, detail, "See what there is: plumlatch "+list)
	}
	lines := make([]string, len(found))
	for n, t := range found {
		lines[n] = "  " + t.ID.String() + "  " + t.What
	}
	return uuid.Nil, Conflict(
		"ambiguous", fmt.Sprintf("%d ids begin with %q:\n%s", len(found), text, strings.Join(lines, "\n")),
		"Give more of the id",
	)
}
