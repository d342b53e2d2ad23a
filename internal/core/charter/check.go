package charter

import (
	"fmt"
	"slices"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/weakness"
)

// contradictions returns where a charter contradicts itself.
func contradictions(c Charter) (flaws []Flaw) {
	byKey := map[string]Key{}
	for _, k := range c.Keys {
		print := keypair.FormatSHA256(k.Public.SHA256())
		if other, twice := byKey[print]; twice {
			flaws = append(flaws, Flaw{
				k.Place, "key-twice",
				fmt.Sprintf("%s and %s at %s are the same key", k.Name, other.Name, other.Place), "Keep one of the two names",
			})
		}
		byKey[print] = k
	}
	relied := func(list []Named, known []Named, what string) {
		if len(known) == 0 {
			return // it does not say on whom it relies
		}
		for _, n := range list {
			if !slices.ContainsFunc(known, func(k Named) bool { return k.Name == n.Name }) {
				flaws = append(flaws, Flaw{
					n.Place, "not-named", fmt.Sprintf("%s is not among the %s of the charter", quoted(n.Name), what),
					"Add it there, or correct the name",
				})
			}
		}
	}
	for _, a := range c.Access {
		relied(a.Holders, c.People, "people")
		relied(a.Teams, c.Teams, "teams")
	}
	return flaws
}

// Findings are what is weak of the keys that a charter declares, though they are taken.
func Findings(c Charter) (found []Flaw) {
	for _, k := range c.Keys {
		for _, f := range weakness.Judge(k.Public) {
			found = append(found, Flaw{k.Place, f.Code, k.Name + ": " + f.Text, f.Remedy})
		}
	}
	return found
}
