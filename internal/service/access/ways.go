package access

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	seen "plumlatch/internal/core/reading"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// WayWanted says which way into which logins is accepted, or no longer.
type WayWanted struct {
	// Way is its name, or its words where it has none.
	Way      string
	Logins   []string
	Reason   string
	Withdraw bool
}

// WaysDone is what came of a WayWanted: all of its logins, and at how many something changed.
type WaysDone struct {
	Logins  []string
	Changed int
}

// mostWayLogins is at how many logins a way is accepted at once.
const mostWayLogins = 500

// AcceptWay accepts a way into logins beside keys, or withdraws that. Each of the logins must have it now.
func (s *Service) AcceptWay(ctx context.Context, actor people.Actor, w WayWanted) (WaysDone, error) {
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return WaysDone{}, err
	}
	switch {
	case len(w.Logins) == 0 || len(w.Logins) > mostWayLogins:
		return WaysDone{}, &problem.Problem{
			Kind: problem.Invalid, Code: "bad-logins", Field: "logins",
			Detail: fmt.Sprintf("%d logins were given; 1 to %d can be at once", len(w.Logins), mostWayLogins),
		}
	case w.Reason == "" && !w.Withdraw:
		return WaysDone{}, &problem.Problem{
			Kind: problem.Invalid, Code: "no-reason", Field: "reason",
			Detail: "a way in is accepted with a reason, for the daybook", Remedy: "Say why: -reason TEXT",
		}
	}
	names, err := s.fleet.LoginsNamed(ctx, w.Logins)
	if err != nil {
		return WaysDone{}, err
	}
	ids := make([]uuid.UUID, 0, len(names))
	for _, id := range names {
		ids = append(ids, id)
	}
	var done WaysDone
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		rows, users, err := s.waysAt(ctx, tx, ids, w)
		if err != nil {
			return err
		}
		done = WaysDone{}
		var notes []record.Entry
		for _, row := range rows {
			done.Logins = append(done.Logins, users[row.LoginID])
			row.At, row.By, row.Reason = s.now(), actor.Name, w.Reason
			told := "way.accept"
			var changed bool
			if w.Withdraw {
				told = "way.withdraw"
				changed, err = tx.WithdrawWay(ctx, row.LoginID, row.Kind, row.Name)
			} else {
				changed, err = tx.AcceptWay(ctx, row)
			}
			if err != nil {
				return err
			}
			if !changed {
				continue
			}
			done.Changed++
			notes = append(notes, s.journal.Entry(
				actor.By(), told, "login", users[row.LoginID], w.Reason, journal.Facts{"way": row.Text},
			))
		}
		slices.Sort(done.Logins)
		if len(notes) == 0 {
			return nil
		}
		return tx.Note(ctx, notes...)
	})
	return done, err
}

// waysAt finds the way at each of the logins, and returns the logins' names.
func (s *Service) waysAt(
	ctx context.Context, tx *store.Store, ids []uuid.UUID, w WayWanted,
) (rows []record.AcceptedWay, users map[uuid.UUID]string, err error) {
	logins, err := tx.LoginsToSweep(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	servers, err := tx.Servers(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	accepted, err := tx.AcceptedWays(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	groups, err := tx.GroupWays(ctx, ids)
	if err != nil {
		return nil, nil, err
	}
	users = map[uuid.UUID]string{}
	for _, l := range logins {
		id := l.ID
		users[id] = fleet.LoginName(l.OSUser, l.Instance.Name)
		if w.Withdraw {
			n := slices.IndexFunc(accepted[id], func(a record.AcceptedWay) bool { return a.Name == w.Way })
			if n >= 0 {
				rows = append(rows, accepted[id][n])
				continue
			}
		}
		var ways []seen.Way
		if server, ok := servers[id]; ok {
			ways = server.Server.Ways(l.OSUser)
		}
		ways = append(ways, groups[id]...)
		n := slices.IndexFunc(ways, func(have seen.Way) bool { return have.ID() == w.Way && have.Kind != seen.WayUnread })
		if n < 0 {
			return nil, nil, noWay(users[id], w.Way, ways)
		}
		rows = append(rows, record.AcceptedWay{LoginID: id, Kind: ways[n].Kind, Name: ways[n].ID(), Text: ways[n].Text})
	}
	return rows, users, nil
}

func noWay(login, way string, ways []seen.Way) error {
	var has []string
	for _, h := range ways {
		if h.Kind != seen.WayUnread {
			has = append(has, fmt.Sprintf("%q", h.ID()))
		}
	}
	detail := fmt.Sprintf("%s has no other way in named %q; it has none", login, way)
	if len(has) > 0 {
		detail = fmt.Sprintf("%s has no other way in named %q; it has %s", login, way, strings.Join(has, ", "))
	}
	return &problem.Problem{
		Kind: problem.NotFound, Code: "no-such-way", Where: []string{login}, Detail: detail,
		Remedy: "See them: plumlatch login show " + login,
	}
}
