// Package reachmap draws logins against keys: which key is in place where, or should be.
package reachmap

import (
	"context"
	"fmt"
	"sort"
	"time"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/problem"
)

// maxMapped is the greatest number of rows of a map.
const maxMapped = 1000

// Service draws maps.
type Service struct {
	access *access.Service
	now    func() time.Time
}

// New returns what draws maps.
func New(a *access.Service, now func() time.Time) *Service { return &Service{a, now} }

// Map is logins against keys.
type Map struct {
	Keys   []Key
	Logins []Login
	Total  int
}

// Key is a key on a map.
type Key struct {
	record.ReachKey
	// Fresh is whether its holder has freshly proved it, Logins on how many logins of
	// the map it is in place or should be.
	Fresh  bool
	Logins int
}

// Login is a login on a map with the keys that are in place there or should.
type Login struct {
	Name      string
	State     reach.State
	Strangers int
	Steward   bool // whether the service's own key is in place
	Cells     []Cell
}

// Cell is a key, by its place among the map's, and the status of it and the
// login.
type Cell struct {
	Key    int
	Status reach.Status
}

// Map returns the worst logins that fit, at most limit, against their keys, those
// with the most logins first. A steward key, of one login each, is told at its login.
func (s *Service) Map(ctx context.Context, r access.ReachWanted) (Map, error) {
	if err := checkLimit(r.Limit); err != nil {
		return Map{}, err
	}
	w, err := s.access.World(ctx, r.ReachFilter)
	if err != nil {
		return Map{}, err
	}
	standings := reach.Standings(w.Input)
	order := w.WorstFirst(standings, r)
	out := Map{Total: len(order)}
	order = order[:min(r.Limit, len(order))]
	rowOf := make(map[int32]int, len(order))
	for row, n := range order {
		rowOf[int32(n)] = row
		l := w.Logins[n]
		out.Logins = append(out.Logins, Login{
			Name:      fleet.LoginName(l.OSUser, l.Instance),
			State:     standings[n].State,
			Strangers: l.Strangers,
			Steward:   standings[n].Steward,
		})
	}
	onMap := make([]int, len(w.Keys))
	for _, p := range w.Input.Pairs {
		status, ok := reach.StatusOf(p.Granted, p.Sighting)
		if row, shown := rowOf[p.Login]; ok && shown && !w.Keys[p.Key].Steward {
			onMap[p.Key]++
			out.Logins[row].Cells = append(out.Logins[row].Cells, Cell{int(p.Key), status})
		}
	}
	var keys []int
	for n, logins := range onMap {
		if logins > 0 {
			keys = append(keys, n)
		}
	}
	sort.Slice(keys, func(a, b int) bool {
		if onMap[keys[a]] != onMap[keys[b]] {
			return onMap[keys[a]] > onMap[keys[b]]
		}
		return w.Keys[keys[a]].Name < w.Keys[keys[b]].Name
	})
	placeOf := make([]int, len(w.Keys))
	for place, n := range keys {
		placeOf[n] = place
		out.Keys = append(
			out.Keys,
			Key{w.Keys[n], s.now().Sub(w.Input.Keys[n].Proved) < s.access.Fresh, onMap[n]},
		)
	}
	for _, l := range out.Logins {
		for n := range l.Cells {
			l.Cells[n].Key = placeOf[l.Cells[n].Key]
		}
		sort.Slice(l.Cells, func(a, b int) bool { return l.Cells[a].Key < l.Cells[b].Key })
	}
	return out, nil
}

func checkLimit(limit int) error {
	if limit >= 1 && limit <= maxMapped {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.Invalid,
		Code:   "bad-limit",
		Field:  "limit",
		Detail: fmt.Sprintf("%d rows cannot be mapped; 1 to %d can", limit, maxMapped),
	}
}
