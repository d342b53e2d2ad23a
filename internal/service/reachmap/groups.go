package reachmap

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"slices"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/problem"
)

const (
	// namesOfRow and keysOfColumn are how many are named of each.
	namesOfRow   = 5
	keysOfColumn = 20
	// namesOfOne is how many logins are named of a row that is asked for alone.
	namesOfOne = 1000
)

// Groups are logins against keys, with what is alike taken together.
type Groups struct {
	Columns []Column
	Rows    []Row
	// Logins is how many fit, Total how many rows there are.
	Logins, Total int
}

// Column is keys that are in the same logins. Keys are the first of Count.
type Column struct {
	Keys                 []record.ReachKey
	Count, Logins, Fresh int
}

// Row is logins that have the same keys. Names are the first of Count.
type Row struct {
	ID               string
	Names            []string
	Count, Strangers int
	Counts           map[reach.State]int
	Marks            []reach.Mark
}

// Groups returns the logins that fit against their keys, at most limit rows, or the row of that id alone.
func (s *Service) Groups(ctx context.Context, r access.ReachWanted, id string) (Groups, error) {
	if err := checkLimit(r.Limit); err != nil {
		return Groups{}, err
	}
	w, err := s.access.World(ctx, r.ReachFilter)
	if err != nil {
		return Groups{}, err
	}
	standings := reach.Standings(w.Input)
	order := w.WorstFirst(standings, r)
	out := Groups{Logins: len(order)}
	place := make([]int, len(w.Logins))
	for n := range place {
		place[n] = -1
	}
	for n, login := range order {
		place[login] = n
	}
	marks := make([][]reach.Mark, len(order))
	for _, p := range w.Input.Pairs {
		status, ok := reach.StatusOf(p.Granted, p.Sighting)
		if at := place[p.Login]; ok && at >= 0 && !w.Keys[p.Key].Steward {
			marks[at] = append(marks[at], reach.Mark{Key: int(p.Key), Status: status})
		}
	}
	groups := reach.Group(marks)
	out.Total = len(groups.Rows)
	for _, c := range groups.Columns {
		column := Column{Count: len(c.Keys), Logins: c.Logins}
		for n, k := range c.Keys {
			if s.now().Sub(w.Input.Keys[k].Proved) < s.access.Fresh {
				column.Fresh++
			}
			if n < keysOfColumn {
				column.Keys = append(column.Keys, w.Keys[k])
			}
		}
		out.Columns = append(out.Columns, column)
	}
	for _, g := range groups.Rows {
		row := Row{ID: idOf(g, out.Columns), Count: len(g.Logins), Counts: map[reach.State]int{}, Marks: g.Marks}
		if id != "" && row.ID != id {
			continue
		}
		names := namesOfRow
		if id != "" {
			names = namesOfOne
		}
		for n, at := range g.Logins {
			login := order[at]
			row.Counts[standings[login].State]++
			row.Strangers += w.Logins[login].Strangers
			if n < names {
				row.Names = append(row.Names, fleet.LoginName(w.Logins[login].OSUser, w.Logins[login].Instance))
			}
		}
		if out.Rows = append(out.Rows, row); len(out.Rows) == r.Limit {
			break
		}
	}
	if id != "" && len(out.Rows) == 0 {
		return out, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-row",
			Field:  "row",
			Detail: "no logins have these keys now",
			Remedy: "Read the map again",
		}
	}
	return out.shown(), nil
}

// shown leaves out the columns that no row has which is told.
func (g Groups) shown() Groups {
	to := make([]int, len(g.Columns))
	for _, r := range g.Rows {
		for _, m := range r.Marks {
			to[m.Key] = 1
		}
	}
	var columns []Column
	for n, c := range g.Columns {
		if to[n] == 1 {
			to[n] = len(columns)
			columns = append(columns, c)
		}
	}
	for n, r := range g.Rows {
		g.Rows[n].Marks = slices.Clone(r.Marks)
		for i, m := range r.Marks {
			g.Rows[n].Marks[i].Key = to[m.Key]
		}
	}
	g.Columns = columns
	return g
}

// idOf names a row by the keys of its logins.
func idOf(r reach.Row, columns []Column) string {
	h := sha256.New()
	for _, m := range r.Marks {
		for _, k := range columns[m.Key].Keys {
			h.Write(k.SHA256)
		}
		h.Write([]byte(m.Status))
	}
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil)[:12])
}
