package rotation

import (
	"fmt"
	"slices"
)

// Shown is one old key in one login and what replaces it, as a plan shows it.
type Shown struct{ Login, Old, New string }

// Outrun returns in what a plan differs from the one that was shown; nothing where it does not.
func Outrun(now, shown []Shown) []string {
	var out []string
	differ := func(word string, of, from []Shown) {
		there := map[Shown]bool{}
		for _, i := range from {
			there[i] = true
		}
		for _, i := range of {
			if !there[i] {
				out = append(out, fmt.Sprintf("%s: %s, %s by %s", word, i.Login, i.Old, i.New))
			}
		}
	}
	differ("new", now, shown)
	differ("gone", shown, now)
	slices.Sort(out)
	return out
}

// Beyond returns behind which item no other may begin: the size of the first group while one of that is not
// over, and 0 for no limit. group is how many of the first group are in which state.
func Beyond(first int, group map[ItemState]int) int {
	for state, count := range group {
		if state != ItemDone && state != ItemUndone && count > 0 {
			return first
		}
	}
	return 0
}

// Choose returns the places of those to begin now, in their order: at most so many, and one of each
// instance. instances says where each login that may begin is.
func Choose(instances []string, most int) []int {
	var out []int
	busy := map[string]bool{}
	for n, instance := range instances {
		if len(out) >= most {
			break
		}
		if !busy[instance] {
			busy[instance] = true
			out = append(out, n)
		}
	}
	return out
}
