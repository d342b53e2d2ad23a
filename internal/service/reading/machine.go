package reading

import (
	"cmp"
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

// mostLogins is how many logins of one machine are kept.
const mostLogins = reading.MostAccounts

// readMachine reads all users of the machine by the means of its login, and records who else gets in and of
// whom that is not known. What goes wrong with that is recorded, and leaves the login's own reading as it is.
func (s *Service) readMachine(
	ctx context.Context, l record.LoginToSweep, by means.Means, method string, at time.Time, own *Seen,
) error {
	whole, able := by.(means.Whole)
	if !able {
		return nil
	}
	m, err := whole.Machine(ctx)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		m = means.Machine{}
		m.AddUnread("all other users", err.Error())
	}
	if m.Own != nil {
		own.Server = m.Own
	}
	if len(m.Others) == 0 && !l.Shared { // nothing but the login's own, with which it is recorded
		own.Machine = new(readingOf(l, m, method, at))
		return nil
	}
	return s.RecordMachine(ctx, l, m, MachineBy{Method: method, By: journal.ByService, At: at})
}

// MachineBy is by what means all users of a machine were read, by whom, and when.
type MachineBy struct {
	Method string
	By     journal.By
	At     time.Time
}

// RecordMachine records what was read of all users of a machine beside the login's own.
func (s *Service) RecordMachine(
	ctx context.Context, l record.LoginToSweep, m means.Machine, by MachineBy,
) error {
	at := by.At
	users := make([]string, len(m.Others))
	for n, o := range m.Others {
		users[n] = o.Name
	}
	before, err := s.store.LoginsOnInstance(ctx, l.InstanceID, mostLogins)
	if err != nil {
		return err
	}
	found, err := s.found(ctx, l, users, before, by)
	if err != nil {
		return err
	}
	unread := map[string]string{}
	for _, u := range m.Unread {
		unread[u.User] = u.Why
	}
	looks, failed := make([]Look, 0, len(found)), []record.Login{}
	look := func(login record.Login, seen means.Seen) {
		looks = append(looks, Look{
			Login:  login,
			Name:   fleet.LoginName(login.OSUser, l.Instance.Name),
			Seen:   SeenBy(seen),
			Method: by.Method,
			By:     by.By,
			At:     at,
		})
	}
	for _, o := range m.Others {
		if login, ok := found[o.Name]; ok {
			look(login, o.Seen)
		}
	}
	var gone []record.Login
	for _, login := range before {
		_, there := found[login.OSUser]
		switch {
		case login.ID == l.ID || there:
		case unread[login.OSUser] != "" || unread["all other users"] != "" || m.UnreadMore > 0 ||
			m.Unlisted || m.Skipped > 0:
			failed = append(failed, login)
		default:
			gone = append(gone, login)
		}
	}
	if err := s.nothingIn(ctx, gone, look); err != nil {
		return err
	}
	ids := make([]uuid.UUID, 0, len(looks)+len(failed))
	for _, k := range looks {
		ids = append(ids, k.Login.ID)
	}
	for _, login := range failed {
		ids = append(ids, login.ID)
	}
	if err := s.store.JoinSweeps(ctx, l.ID, ids); err != nil {
		return err
	}
	for _, login := range failed {
		why := unread[login.OSUser]
		if why == "" {
			why = cmp.Or(unread["all other users"], "not all users of the machine were read")
		}
		if err := s.store.NoteSweepFailure(ctx, login.ID, text.Line(why, text.MaxMessage), at); err != nil {
			return err
		}
	}
	for part := range slices.Chunk(looks, looksAtOnce) {
		if err := s.recordSet(ctx, part); err != nil {
			return err
		}
	}
	return s.store.PutMachines(ctx, []record.MachineReading{readingOf(l, m, by.Method, at)})
}

// readingOf is what is kept of the reading of a machine.
func readingOf(l record.LoginToSweep, m means.Machine, method string, at time.Time) record.MachineReading {
	r := record.MachineReading{InstanceID: l.InstanceID, Machine: m.Machine, Method: method, ReadAt: at}
	if method == StewardMethod {
		r.StewardChanges = append([]string{}, m.Changes...)
	}
	return r
}

// found records the logins of users that are not known yet, and tells the daybook.
func (s *Service) found(
	ctx context.Context, l record.LoginToSweep, users []string, before []record.Login, by MachineBy,
) (all map[string]record.Login, err error) {
	if len(users) == 0 {
		return nil, nil
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if all, err = tx.FindLogins(ctx, l.InstanceID, users, by.At); err != nil {
			return err
		}
		var notes []record.Entry
		for _, user := range users {
			known := slices.ContainsFunc(before, func(b record.Login) bool { return b.OSUser == user })
			if known || len(notes) == maxNotedLines {
				continue
			}
			notes = append(notes, s.journal.Entry(
				by.By, "login.found", "login", fleet.LoginName(user, l.Instance.Name), "", nil,
			))
		}
		if len(notes) == 0 {
			return nil
		}
		return tx.Note(ctx, notes...)
	})
	return all, err
}

// nothingIn takes looks at logins whose users are gone, or have no keys any more.
func (s *Service) nothingIn(ctx context.Context, gone []record.Login, look func(record.Login, means.Seen)) error {
	if len(gone) == 0 {
		return nil
	}
	ids := make([]uuid.UUID, len(gone))
	for n, login := range gone {
		ids[n] = login.ID
	}
	last, err := s.store.LastVersions(ctx, ids)
	if err != nil {
		return err
	}
	for _, login := range gone {
		seen := means.Seen{Server: &reading.Server{}}
		for path := range last[login.ID] {
			seen.Files = append(seen.Files, SeenFile{Path: path})
		}
		look(login, seen)
	}
	return nil
}
