package reentry

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/route"
	"plumlatch/internal/store"
)

// RestoreReport tells of a restore for whoever asks for it.
type RestoreReport struct {
	Restore
	MadeAt time.Time
	// Before and After are the state of the instance before and after: address, state and
	// the like.
	AddressBefore, AddressAfter string
	// Elsewhere are the other logins that the lost keys open, and their reach; the worst first.
	Elsewhere []LostElsewhere
	// Copies are snapshots and images with the lost keys in them.
	Copies    []fleet.OldKeyPlace
	Passwords []record.PasswordReading
}

// LostElsewhere is another login that a lost key opens.
type LostElsewhere struct {
	Key, Login string
	State      reach.State
}

// ReportRestore returns what was done, what is left, and where the lost keys are in place
// elsewhere.
func (s *Service) ReportRestore(ctx context.Context, id uuid.UUID) (RestoreReport, error) {
	r, err := s.Restore(ctx, id)
	if err != nil {
		return RestoreReport{}, err
	}
	out := RestoreReport{Restore: r, MadeAt: s.now()}
	if r.work.Before != nil {
		out.AddressBefore = r.work.Before.Address
	}
	if target, err := s.store.InstanceNamed(ctx, r.Target); err == nil {
		out.AddressAfter = target.PublicAddress
	}
	keys, err := s.store.KeysByID(ctx, route.IdsOf(r.work.Lost))
	if err != nil {
		return out, err
	}
	var items []record.ReportedItem
	for _, k := range keys {
		if out.Elsewhere, err = s.lostElsewhere(ctx, out.Elsewhere, k, r.Login); err != nil {
			return out, err
		}
		items = append(items, record.ReportedItem{
			RotationItem: record.RotationItem{OldName: k.Name, InstanceName: r.Instance.Name},
			CloudID:      r.Instance.CloudID,
		})
	}
	slices.SortStableFunc(out.Elsewhere, func(a, b LostElsewhere) int {
		return cmp.Or(reach.Rank(a.State)-reach.Rank(b.State), cmp.Compare(a.Key, b.Key), cmp.Compare(a.Login, b.Login))
	})
	if !r.Instance.Adopted {
		if out.Copies, err = s.fleet.CopiesWithOldKeys(ctx, items); err != nil {
			return out, err
		}
	}
	out.Passwords, err = s.store.PasswordReadings(ctx, r.InstanceID)
	return out, err
}

func (s *Service) lostElsewhere(
	ctx context.Context, so []LostElsewhere, k record.Key, but string,
) ([]LostElsewhere, error) {
	w, err := s.access.World(ctx, record.ReachFilter{Keys: []string{k.Name}})
	if err != nil {
		return nil, err
	}
	place, standings := w.KeyPlace(k.ID), reach.Standings(w.Input)
	for _, p := range w.Input.Pairs {
		l := w.Logins[p.Login]
		if name := fleet.LoginName(l.OSUser, l.Instance); int(p.Key) == place && p.Sighting != reach.NotSeen && p.Opens &&
			name != but {
			so = append(so, LostElsewhere{k.Name, name, standings[p.Login].State})
		}
	}
	return so, nil
}

// EncryptedPassword returns the administrator's password of a Windows instance, encrypted to an
// RSA key. That somebody asked is in the daybook.
func (s *Service) EncryptedPassword(
	ctx context.Context, actor people.Actor, name string,
) (cloud.Password, []record.PasswordReading, error) {
	i, err := s.fleet.Instance(ctx, name)
	if err != nil {
		return cloud.Password{}, nil, err
	}
	if i.Adopted {
		return cloud.Password{}, nil, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "adopted",
			Where:  []string{name},
			Detail: name + " was adopted, and no cloud is asked about it",
		}
	}
	password, err := s.clouds.Of(i.InCloud).Password(ctx, i.CloudID)
	if err != nil {
		return password, nil, problem.FromCloud(err)
	}
	if err := s.notePassword(ctx, actor, i, "asked"); err != nil {
		return password, nil, err
	}
	readings, err := s.store.PasswordReadings(ctx, i.ID)
	return password, readings, err
}

// OpenedPassword records that the actor has opened the password on their machine.
func (s *Service) OpenedPassword(ctx context.Context, actor people.Actor, name string) error {
	i, err := s.fleet.Instance(ctx, name)
	if err != nil {
		return err
	}
	if err := s.notePassword(ctx, actor, i, "opened"); err != nil {
		return err
	}
	id, err := s.store.LiveRestoreOf(ctx, i.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := s.store.AddReport(
		ctx, id, string(restore.Open), record.Report{By: actor.Name, At: s.now(), Outcome: "opened"},
	); err != nil {
		return err
	}
	s.engine.Wake(ctx, id)
	return nil
}

func (s *Service) notePassword(ctx context.Context, actor people.Actor, i record.Instance, what string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.NotePasswordReading(
			ctx,
			record.PasswordReading{ID: store.NewID(), InstanceID: i.ID, Person: actor.Name, What: what, At: s.now()},
		); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), "password."+what, "instance", i.Name, "", nil))
	})
}
