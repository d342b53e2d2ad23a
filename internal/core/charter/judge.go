package charter

import (
	"cmp"
	"slices"
	"strings"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/reach"
)

// order puts the changes into the order in which they are done. For each login, what lets somebody in is done before
// what keeps somebody out; cut off anywhere, a login is as safe as it was, or as it will be.
func (x *comparing) order() {
	slices.SortFunc(x.out.Changes, InOrder)
	slices.SortStableFunc(x.out.Notes, func(a, b Note) int {
		return cmp.Or(strings.Compare(a.Code, b.Code), strings.Compare(a.What, b.What))
	})
}

// InOrder compares two changes by the order in which they are done.
func InOrder(a, b Change) int {
	return cmp.Or(
		cmp.Compare(kindOrder[a.Kind], kindOrder[b.Kind]),
		strings.Compare(a.Instance, b.Instance), strings.Compare(a.Login, b.Login), strings.Compare(a.Key, b.Key),
	)
}

// KeepsOut reports whether a change of the kind keeps somebody out.
func KeepsOut(k Kind) bool { return k == Withdraw || k == Forget || k == Limit }

// Judge returns the logins whose reach changes would change.
func Judge(w World, changes []Change) (out []Reached) {
	x := &comparing{w: w, keys: w.Keys, keyAt: map[string]int32{}}
	for n, k := range w.Keys {
		x.keyAt[k.Name] = int32(n)
	}
	before, after := reach.Standings(w.Reach), reach.Standings(x.after(changes))
	for n, l := range w.Logins {
		if before[n].State != after[n].State {
			out = append(out, Reached{Login: l.Name, Before: before[n].State, After: after[n].State})
		}
	}
	return out
}

// judge computes the reach of each login before and after, and refuses what leaves one shut or thin that was not.
func (x *comparing) judge() {
	before := reach.Standings(x.w.Reach)
	after := reach.Standings(x.after(x.out.Changes))
	mayBe := map[int32]bool{}
	for p, w := range x.want {
		mayBe[p.login] = mayBe[p.login] || w.entry.MayBe == reach.Thin
	}
	for n, l := range x.w.Logins {
		was, is := before[n].State, after[n].State
		if was == is {
			continue
		}
		r := Reached{Login: l.Name, Before: was, After: is}
		switch worse := reach.Rank(is) < reach.Rank(was); {
		case worse && is == reach.Shut:
			r.Refused = "nobody would get in who is known to have a key"
		case worse && is == reach.Stale:
			r.Refused = "nobody who has freshly proved a key would get in"
		case worse && is == reach.Thin && !mayBe[int32(n)]:
			r.Refused = "one holder alone would get in; say may-be: thin and why, if that is meant"
		}
		x.out.Reach = append(x.out.Reach, r)
	}
	slices.SortFunc(x.out.Reach, func(a, b Reached) int {
		return cmp.Or(
			cmp.Compare(reach.Rank(a.After), reach.Rank(b.After)), strings.Compare(a.Login, b.Login),
		)
	})
}

// after is what reach is computed from once changes are done.
func (x *comparing) after(changes []Change) reach.Input {
	in := x.w.Reach
	in.Keys = slices.Clone(in.Keys)
	for len(in.Keys) < len(x.keys) { // nobody has proved those that are imported
		in.Keys = append(in.Keys, reach.Key{Holder: reach.Nobody})
	}
	login := make(map[string]int32, len(x.w.Logins))
	for n, l := range x.w.Logins {
		login[l.Name] = int32(n)
	}
	placed, gone, opens := map[pair]bool{}, map[pair]bool{}, map[pair]bool{}
	for _, c := range changes {
		l, there := login[c.Login]
		if !there || c.Unable != "" {
			continue
		}
		switch p := (pair{x.keyAt[c.Key], l}); c.Kind {
		case Record:
			placed[p] = true
		case PlaceLine:
			placed[p] = true
			opens[p] = authorizedkeys.OpensWith(c.Limits)
		case Loosen, Limit:
			opens[p] = authorizedkeys.OpensWith(c.Limits)
		case Withdraw, Forget:
			gone[p] = true
		}
	}
	in.Pairs = make([]reach.Pair, 0, len(x.w.Reach.Pairs)+len(placed))
	for _, p := range x.w.Reach.Pairs {
		at := pair{p.Key, p.Login}
		if gone[at] {
			continue
		}
		if as, said := opens[at]; said {
			p.Opens = as
		}
		if placed[at] {
			p.Granted = true
			p.Sighting = reach.Seen
			delete(placed, at)
		}
		in.Pairs = append(in.Pairs, p)
	}
	for at := range placed {
		in.Pairs = append(
			in.Pairs,
			reach.Pair{Key: at.key, Login: at.login, Granted: true, Sighting: reach.Seen, Opens: opens[at]},
		)
	}
	return in
}
