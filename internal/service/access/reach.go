package access

import (
	"bytes"
	"cmp"
	"context"
	"slices"
	"strconv"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/reach"
	seen "plumlatch/internal/core/reading"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// World is what reach is computed from, with the names of things.
type World struct {
	Input  reach.Input
	Logins []record.ReachLogin
	Keys   []record.ReachKey
	places map[uuid.UUID]int // of holders
}

// World reads the logins that fit and all that joins them to keys.
func (s *Service) World(ctx context.Context, f record.ReachFilter) (*World, error) {
	logins, pairs, keys, err := s.store.Reach(ctx, s.now(), f)
	if err != nil {
		return nil, err
	}
	people, err := s.store.Provers(ctx)
	if err != nil {
		return nil, err
	}
	w := &World{
		Logins: logins,
		Keys:   keys,
		Input: reach.Input{
			Now:       s.now(),
			Fresh:     s.Fresh,
			Keys:      make([]reach.Key, len(keys)),
			Pairs:     make([]reach.Pair, 0, len(pairs)),
			Swept:     make([]bool, len(logins)),
			Strangers: make([]int, len(logins)),
			Found:     make([]bool, len(logins)),
		},
	}
	keyAt, loginAt, holderAt := make(
		map[uuid.UUID]int32, len(keys),
	), make(
		map[uuid.UUID]int32, len(logins),
	), map[uuid.UUID]int{}
	provers := make(map[string]record.Prover, len(people))
	for _, p := range people {
		provers[p.Name] = p
	}
	place := func(holder uuid.UUID) int {
		at, ok := holderAt[holder]
		if !ok {
			at = len(holderAt)
			holderAt[holder] = at
		}
		return at
	}
	for n, k := range keys {
		keyAt[k.ID] = int32(n)
		out := &w.Input.Keys[n]
		out.Holder, out.Lost, out.Steward = reach.Nobody, k.State == custody.Lost, k.Steward
		if k.Holder != nil {
			out.Holder = place(*k.Holder)
		}
		if k.ProvedAt != nil {
			switch p, known := provers[k.ProvedBy]; {
			case known && holds(p, k.Holder):
				out.Proved = *k.ProvedAt
			case known:
				out.Other, out.OtherProved = place(p.Holder), *k.ProvedAt
			}
		}
	}
	for n, l := range logins {
		loginAt[l.ID] = int32(n)
		w.Input.Swept[n], w.Input.Strangers[n], w.Input.Found[n] = l.SweptAt != nil, l.Strangers, l.FoundAt != nil
	}
	for _, p := range pairs {
		login, here := loginAt[p.LoginID]
		if !here {
			continue // of an instance that is gone
		}
		if p.Authority {
			w.Input.Authorities = append(w.Input.Authorities, reach.Pair{Key: keyAt[p.KeyID], Login: login})
			continue
		}
		pair := reach.Pair{Key: keyAt[p.KeyID], Login: login, Granted: p.Granted, Opens: p.Opens}
		if p.Present != nil {
			pair.Sighting = reach.NotSeen
			if *p.Present {
				pair.Sighting = reach.Seen
			}
		}
		if p.EnteredAt != nil {
			switch by, known := provers[p.EnteredBy]; {
			case known && holds(by, keys[pair.Key].Holder):
				pair.Entered = *p.EnteredAt
			case known:
				pair.Other, pair.OtherEntered = place(by.Holder), *p.EnteredAt
			}
		}
		w.Input.Pairs = append(w.Input.Pairs, pair)
	}
	w.places = holderAt
	return w, nil
}

// holds reports whether the person is the holder, or one of the team that is.
func holds(p record.Prover, holder *uuid.UUID) bool {
	return holder != nil && (p.Holder == *holder || slices.Contains(p.Teams, *holder))
}

// HolderPlace is the number of a holder in the input.
func (w *World) HolderPlace(id uuid.UUID) int {
	if _, known := w.places[id]; !known {
		w.places[id] = len(w.places)
	}
	return w.places[id]
}

func (w *World) LoginPlace(id uuid.UUID) int {
	for n, l := range w.Logins {
		if l.ID == id {
			return n
		}
	}
	return -1
}

func (w *World) KeyPlace(id uuid.UUID) int {
	for n, k := range w.Keys {
		if k.ID == id {
			return n
		}
	}
	return -1
}

// KeyWithDigest is the place of the key with the SHA-256 digest; -1 where it opens nothing, or has no record.
func (w *World) KeyWithDigest(sha256 []byte) int {
	return slices.IndexFunc(w.Keys, func(k record.ReachKey) bool { return bytes.Equal(k.SHA256, sha256) })
}

// LoginReach is a login and its reach.
type LoginReach struct {
	record.ReachLogin
	reach.Standing
	// Why says what should be known about it; Next is the one command to type next.
	Why, Next string
	// Worry says what is bad about its best way back in; "" where nothing is.
	Worry string
	// Beyond counts what is not as granted, the ways in beside keys among it.
	Beyond seen.Counts
}

// ReachWanted narrows and places a page of logins.
type ReachWanted struct {
	record.ReachFilter
	State string
	Drift bool
	// Worry is for those whose best way back in is a bad one alone.
	Worry bool
	// After is a place in the order, 0 for the first page.
	After string
	Limit int
}

// ReachPage is one page of logins, the worst first.
type ReachPage struct {
	Items    []LoginReach
	Next     string
	Total    int
	Counts   map[reach.State]int
	Drifting int
	// Asked is how many new public keys holders are asked to bring.
	Asked int
	// Overdue is how many grants are in force though their time is over.
	Overdue int
	// Charters is how many charters something differs from.
	Charters int
	// Worrying is at how many the best way back in is a bad one.
	Worrying int
}

// Reach returns one page of logins, the worst first.
func (s *Service) Reach(ctx context.Context, r ReachWanted) (ReachPage, error) {
	place := 0
	if r.After != "" {
		var err error
		if place, err = strconv.Atoi(r.After); err != nil || place < 0 || place > 1e9 {
			return ReachPage{}, problem.FromPage(store.ErrCursor)
		}
	}
	w, err := s.World(ctx, r.ReachFilter)
	if err != nil {
		return ReachPage{}, err
	}
	standings := reach.Standings(w.Input)
	page := ReachPage{Counts: map[reach.State]int{}}
	for _, state := range reach.States {
		page.Counts[state] = 0
	}
	worries, worry := make([]string, len(standings)), s.Worry(ctx)
	for n, st := range standings {
		page.Counts[st.State]++
		if st.Drifts() {
			page.Drifting++
		}
		if worries[n] = worry(w.Logins[n], st); worries[n] != "" {
			page.Worrying++
		}
	}
	order := w.WorstFirst(standings, r)
	if r.Worry {
		order = slices.DeleteFunc(order, func(n int) bool { return worries[n] == "" })
	}
	page.Total = len(order)
	end := min(place+r.Limit, len(order))
	for _, n := range order[min(place, len(order)):end] {
		item := judged(w.Logins[n], standings[n])
		item.Worry = worries[n]
		page.Items = append(page.Items, item)
	}
	if err := s.countWays(ctx, page.Items); err != nil {
		return page, err
	}
	if end < len(order) {
		page.Next = strconv.Itoa(end)
	}
	if page.Overdue, err = s.store.CountOverdue(ctx, s.now()); err != nil {
		return page, err
	}
	if page.Charters, _, err = s.store.CountDiffering(ctx); err != nil {
		return page, err
	}
	asked, err := s.store.AskedKeys(ctx, "")
	page.Asked = len(asked)
	return page, err
}

// countWays counts what gets in to the logins beside keys.
func (s *Service) countWays(ctx context.Context, logins []LoginReach) error {
	ids := make([]uuid.UUID, len(logins))
	for n, l := range logins {
		ids[n] = l.ID
	}
	servers, err := s.store.Servers(ctx, ids)
	if err != nil {
		return err
	}
	accepted, err := s.store.AcceptedWays(ctx, ids)
	if err != nil {
		return err
	}
	groups, err := s.store.GroupWays(ctx, ids)
	if err != nil {
		return err
	}
	for n := range logins {
		var server *record.LoginServer
		if read, ok := servers[logins[n].ID]; ok {
			server = &read
		}
		logins[n].count(waysOf(server, logins[n].OSUser, groups[logins[n].ID], accepted[logins[n].ID]))
	}
	return nil
}

// WorstFirst returns the places of the logins with the wanted reach, the worst first.
func (w *World) WorstFirst(standings []reach.Standing, r ReachWanted) []int {
	var order []int
	for n, st := range standings {
		if (r.State == "" || r.State == string(st.State)) && (!r.Drift || st.Drifts()) {
			order = append(order, n)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Compare(reach.Severity(standings[a]), reach.Severity(standings[b]))
	})
	return order
}

// At most so many versions are told of at once, and so many bytes of them.
const (
	maxVersions     = 100
	maxVersionBytes = 4 << 20
)

// count tells of what gets in to a login beside keys. Of one that nobody has read, that is said by its reach.
func (l *LoginReach) count(ways []seen.Way) {
	l.Beyond = seen.Counts{Missing: l.Missing, Ungranted: l.Ungranted, Strangers: l.Standing.Strangers}
	l.Beyond.CountWays(ways)
	if words := l.Beyond.Words(); words != "" && l.SweptAt != nil {
		l.Why += "; " + words
	}
}

// judged says in words the reach of a login, and what to do next.
func judged(l record.ReachLogin, s reach.Standing) LoginReach {
	out := LoginReach{ReachLogin: l, Standing: s}
	out.Why, out.Next = reach.Tell(fleet.LoginName(l.OSUser, l.Instance), l.Instance, s, l.SweepError != "")
	return out
}
