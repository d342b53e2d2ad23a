// Package leaving decides what becomes of the keys of somebody who leaves: which are replaced by those of
// whoever follows, which are simply withdrawn, which are handed over, and which are retired.
package leaving

import (
	"cmp"
	"slices"

	"plumlatch/internal/core/reach"
)

// What will be done with one key, in one login or at all.
type What string

// The things that are done.
const (
	Replace  What = "replace"   // by a key of whoever follows
	Withdraw What = "withdraw"  // others keep the login solid, or its line is not there
	HandOver What = "hand over" // its private key has never left the safe
	Retire   What = "retire"    // it opens nothing
)

// Key is a key of whoever leaves. Place is its place among the keys of the input, below 0 where it is
// in none; Kept is whether its private key has never left the safe.
type Key struct {
	Name  string
	Place int
	Kept  bool
}

// Item is what is done with a key in a login. Login is a place in the input, below 0 where the key is
// handed over or retired as a whole.
type Item struct {
	Key           string
	Login         int
	Before, After reach.State
	What          What
}

// Plan is what will be done, ordered by the keys' names, with the logins that would be left shut or
// with one holder if nothing were replaced.
type Plan struct {
	Items      []Item
	Shut, Thin []int
}

// Make plans what becomes of the keys.
func Make(in reach.Input, keys []Key) Plan {
	var plan Plan
	var lost []int
	nameAt := map[int32]string{}
	for _, k := range keys {
		if k.Place >= 0 && !k.Kept {
			lost = append(lost, k.Place)
			nameAt[int32(k.Place)] = k.Name
		}
	}
	after := map[int]reach.State{}
	for _, c := range reach.Loss(in, lost...) {
		after[c.Login] = c.After
		switch c.After {
		case reach.Shut:
			plan.Shut = append(plan.Shut, c.Login)
		case reach.Thin:
			plan.Thin = append(plan.Thin, c.Login)
		}
	}
	standings := reach.Standings(in)
	opens := map[string]bool{}
	for _, p := range in.Pairs {
		name, theirs := nameAt[p.Key]
		if !theirs || !p.Granted && p.Sighting != reach.Seen {
			continue
		}
		item := Item{Key: name, Login: int(p.Login), Before: standings[p.Login].State, What: Replace}
		then, changes := after[item.Login]
		if !changes {
			then = item.Before
		}
		item.After = then
		if then == reach.Solid || p.Sighting == reach.NotSeen {
			item.What = Withdraw // others keep it, or its line is not there anyway
		}
		opens[name] = true
		plan.Items = append(plan.Items, item)
	}
	for _, k := range keys {
		switch {
		case k.Kept:
			plan.Items = append(plan.Items, Item{Key: k.Name, Login: -1, What: HandOver})
		case !opens[k.Name]:
			plan.Items = append(plan.Items, Item{Key: k.Name, Login: -1, What: Retire})
		}
	}
	slices.SortStableFunc(plan.Items, func(a, b Item) int { return cmp.Compare(a.Key, b.Key) })
	return plan
}
