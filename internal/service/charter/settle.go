package charter

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/charter"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Settling says which comparison is settled, and how.
type Settling struct {
	Wanted
	// As is the id of the comparison that was shown.
	As string
	// Partly is whether to do the rest where some cannot be done now.
	Partly bool
	Reason string
	// Signature is an SSHSIG signature over what charter.ToSign says; "" for none.
	Signature string
	signedBy  string // the name of the key that has made it
}

// Settle makes what a charter declares so, exactly as it was shown. It reports a settlement with nothing to do where
// it is so already.
func (s *Service) Settle(ctx context.Context, actor people.Actor, w Settling) (record.Settlement, error) {
	none := record.Settlement{}
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return none, err
	}
	c, err := s.Compare(ctx, w.Wanted)
	if err != nil {
		return none, err
	}
	if err := s.mayBeSettled(ctx, actor, c, &w); err != nil {
		return none, err
	}
	if err := settleable(c, w); err != nil {
		return none, err
	}
	t := record.Settlement{
		ID: store.NewID(), State: record.SettlementRunning, RequestedBy: actor.Name, OperatorID: actor.ID, Reason: w.Reason,
		CreatedAt: s.now(),
	}
	var items []record.SettlementItem
	for _, change := range c.Changes {
		if change.Unable != "" {
			continue
		}
		items = append(items, record.SettlementItem{
			ID: store.NewID(), SettlementID: t.ID, Seq: len(items) + 1, Change: change, State: record.ItemWaiting,
		})
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error { return s.begin(ctx, tx, actor, c, w, &t, items) })
	if err != nil {
		var taken *store.TakenError
		if errors.As(err, &taken) {
			return none, atWork(c.Charter.Name)
		}
		return none, err
	}
	if len(items) == 0 && t.Version == t.Was {
		t.Charter = c.Charter.Name
		return t, nil
	}
	s.engine.Nudge(ctx, settleDuty)
	return s.store.Settlement(ctx, t.ID)
}

func atWork(name string) *problem.Problem {
	return &problem.Problem{
		Kind: problem.Conflict, Code: "settlement-at-work", Where: []string{name}, Detail: name + " is being settled",
		Remedy: "Wait for it: plumlatch charter watch " + name,
	}
}

// settleable refuses what must not be settled, or is not as it was shown.
func settleable(c Compared, w Settling) error {
	switch why := c.Refused(); {
	case len(c.Flaws) > 0:
		return &problem.Problem{
			Kind: problem.Invalid, Code: "charter-flawed", Field: "files", Where: []string{c.Flaws[0].Place.String()},
			Detail: why,
			Remedy: cmp.Or(c.Flaws[0].Remedy, "See all of it: plumlatch charter compare"),
		}
	case c.ID != w.As:
		return &problem.Problem{
			Kind: problem.Conflict, Code: "moved", Field: "as",
			Detail: "what differs is not what was shown: the files or what there is have changed since",
			Remedy: "Compare again: plumlatch charter compare",
		}
	case why != "":
		return &problem.Problem{
			Kind: problem.Forbidden, Code: "would-be-worse", Detail: why,
			Remedy: "Give another holder access there, and settle that first",
		}
	case c.Unable() && !w.Partly:
		at := slices.IndexFunc(c.Changes, func(c charter.Change) bool { return c.Unable != "" })
		return &problem.Problem{
			Kind: problem.Conflict, Code: "not-possible-now", Where: []string{subjectOf(c.Changes[at])},
			Detail: c.Changes[at].Unable, Remedy: "Do the rest alone: -partly",
		}
	}
	return nil
}

// subjectOf is the login, the key or the instance that a change is about.
func subjectOf(c charter.Change) string { return cmp.Or(c.Login, c.Key, c.Instance) }

// begin keeps the version and the settlement with its items.
func (s *Service) begin(
	ctx context.Context, tx *store.Store, actor people.Actor, c Compared, w Settling, t *record.Settlement,
	items []record.SettlementItem,
) error {
	of, err := tx.LockCharter(ctx, c.Charter.Name)
	if errors.Is(err, store.ErrNotFound) {
		of = record.Charter{ID: store.NewID(), Name: c.Charter.Name, CreatedAt: s.now(), CreatedBy: actor.Name}
		err = tx.AddCharter(ctx, of)
	}
	if err != nil {
		return err
	}
	t.CharterID, t.Was, t.Version = of.ID, of.Version, of.Version
	now, err := tx.CharterVersion(ctx, of.ID, of.Version)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if !bytes.Equal(now.Digest, c.Digest) {
		all, err := tx.CharterVersions(ctx, of.ID)
		if err != nil {
			return err
		}
		t.Version = 1
		if len(all) > 0 {
			t.Version = all[0].Number + 1
		}
		v := record.CharterVersion{
			CharterID: of.ID, Number: t.Version, Digest: c.Digest, SettledAt: s.now(), SettledBy: actor.Name, Reason: w.Reason,
			SignedBy: w.signedBy,
		}
		for _, f := range w.Files {
			v.Files = append(v.Files, record.CharterFile{Path: f.Path, Content: string(f.Content)})
		}
		if err := tx.AddCharterVersion(ctx, v); err != nil {
			return err
		}
	}
	if t.Version != of.Version {
		if err := tx.SetCharterVersion(ctx, of.ID, t.Version, c.Charter.Note); err != nil {
			return err
		}
	}
	if len(items) == 0 {
		t.State, t.EndedAt = record.SettlementEnded, new(s.now())
	}
	if len(items) == 0 && t.Version == t.Was {
		return nil // it is so already; nothing is kept, so that the last settlement is still that which an undo takes back
	}
	if err := tx.AddSettlement(ctx, *t, items); err != nil {
		return err
	}
	return tx.Note(ctx, s.journal.Entry(
		actor.By(), "charter.settle", "charter", of.Name, w.Reason,
		journal.Facts{
			"version": t.Version, "digest": hex.EncodeToString(c.Digest), "changes": len(items), "signed": w.signedBy,
		},
	))
}

// Charter returns one with its versions and the files of that which counts.
func (s *Service) Charter(
	ctx context.Context, name string,
) (c record.Charter, now record.CharterVersion, all []record.CharterVersion, err error) {
	if c, err = s.named(ctx, name); err != nil {
		return c, now, nil, err
	}
	if all, err = s.store.CharterVersions(ctx, c.ID); err != nil {
		return c, now, nil, err
	}
	now, err = s.store.CharterVersion(ctx, c.ID, c.Version)
	if errors.Is(err, store.ErrNotFound) {
		err = nil
	}
	return c, now, all, err
}

func (s *Service) named(ctx context.Context, name string) (record.Charter, error) {
	c, err := s.store.CharterNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return c, &problem.Problem{
			Kind: problem.NotFound, Code: "no-such-charter", Where: []string{name},
			Detail: fmt.Sprintf("there is no charter %q", name), Remedy: "See which there are: plumlatch charter list",
		}
	}
	return c, err
}

// Version returns one version of a charter with its files.
func (s *Service) Version(ctx context.Context, name string, number int) (record.CharterVersion, error) {
	c, err := s.named(ctx, name)
	if err != nil {
		return record.CharterVersion{}, err
	}
	v, err := s.store.CharterVersion(ctx, c.ID, number)
	if errors.Is(err, store.ErrNotFound) {
		return v, &problem.Problem{
			Kind: problem.NotFound, Code: "no-such-version", Where: []string{name},
			Detail: fmt.Sprintf(
				"%s has no version %d",
				name,
				number,
			), Remedy: "See which there are: plumlatch charter show " + name,
		}
	}
	return v, err
}

// CompareNow says what differs from the version of a charter that counts.
func (s *Service) CompareNow(ctx context.Context, name string) (Compared, error) {
	_, now, _, err := s.Charter(ctx, name)
	if err != nil {
		return Compared{}, err
	}
	if now.Number == 0 {
		return Compared{}, &problem.Problem{
			Kind: problem.Conflict, Code: "no-version", Where: []string{name}, Detail: name + " has no version that counts",
			Remedy: "Settle its files: plumlatch charter settle FILE",
		}
	}
	return s.Compare(ctx, Wanted{Files: filesOf(now)})
}

func filesOf(v record.CharterVersion) []charter.File {
	files := make([]charter.File, len(v.Files))
	for n, f := range v.Files {
		files[n] = charter.File{Path: f.Path, Content: []byte(f.Content)}
	}
	return files
}

// Release lets a charter go. What it owned stays as it is, as if it had been done by hand.
func (s *Service) Release(ctx context.Context, actor people.Actor, name, reason string) error {
	if err := people.FleetWide(ctx, "a charter"); err != nil {
		return err
	}
	if err := problem.CheckText("reason", reason); err != nil {
		return err
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		c, err := tx.LockCharter(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			_, err = s.named(ctx, name)
		}
		if err != nil {
			return err
		}
		l, err := tx.LiveSettlements(ctx)
		if err != nil {
			return err
		}
		for _, id := range l {
			if t, err := tx.LockSettlement(ctx, id); err != nil || t.CharterID == c.ID {
				return cmp.Or(err, error(atWork(name)))
			}
		}
		if err := tx.ReleaseCharter(ctx, c.ID, s.now()); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), "charter.release", "charter", name, reason, nil))
	})
}

// Settlements returns one page of settlements of a charter, of all where its name is "".
func (s *Service) Settlements(
	ctx context.Context, name string, p record.Page,
) (record.List[record.Settlement], error) {
	l, err := s.store.SettlementsOf(ctx, name, p)
	return l, problem.FromPage(err)
}

// Settlement returns one.
func (s *Service) Settlement(ctx context.Context, id uuid.UUID) (record.Settlement, error) {
	t, err := s.store.Settlement(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return t, &problem.Problem{
			Kind: problem.NotFound, Code: "no-such-settlement", Where: []string{id.String()},
			Detail: "there is no settlement " + id.String(), Remedy: "See which there are: plumlatch charter changes",
		}
	}
	return t, err
}

// Items returns one page of the changes of a settlement.
func (s *Service) Items(
	ctx context.Context, id uuid.UUID, state record.ItemState, p record.Page,
) (record.List[record.SettlementItem], error) {
	if _, err := s.Settlement(ctx, id); err != nil {
		return record.List[record.SettlementItem]{}, err
	}
	l, err := s.store.SettlementItems(ctx, id, state, p)
	return l, problem.FromPage(err)
}

// Pause has a settlement begin nothing more, or, where goOn is set, continue.
func (s *Service) Pause(ctx context.Context, actor people.Actor, id uuid.UUID, goOn bool, reason string) error {
	if err := errors.Join(people.FleetWide(ctx, "a charter"), problem.CheckText("reason", reason)); err != nil {
		return err
	}
	t, err := s.Settlement(ctx, id)
	if err != nil {
		return err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		now, err := tx.LockSettlement(ctx, id)
		if err != nil {
			return err
		}
		if now.EndedAt != nil {
			return &problem.Problem{
				Kind: problem.Conflict, Code: "settlement-over", Where: []string{t.Charter}, Detail: "the settlement is over",
				Remedy: "Take it back: plumlatch charter undo " + t.Charter,
			}
		}
		state, told := record.SettlementPaused, "charter.pause"
		if goOn {
			state, told = record.SettlementRunning, "charter.resume"
		}
		if now.State == state {
			return nil
		}
		if err := tx.SetSettlement(ctx, id, state, nil); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), told, "charter", t.Charter, reason, nil))
	})
	if err == nil {
		s.engine.Nudge(ctx, settleDuty)
	}
	return err
}

// due reports whether a charter that was compared is to be again: some time after a reading, or after a longer one.
func (s *Service) due(c record.Charter, read time.Time) bool {
	since := s.now().Sub(*c.ComparedAt)
	rest := max(compareRest, restTimes*time.Duration(s.took.Load()))
	return since >= compareEvery || read.After(*c.ComparedAt) && since >= rest
}

// watch compares each charter with what there is, and keeps how much differs: after readings, after settlements, and
// from time to time. That something differs is told once, until it is another number or reason.
func (s *Service) watch(ctx context.Context) error {
	list, err := s.store.Charters(ctx)
	if err != nil || len(list) == 0 {
		return err
	}
	read, err := s.store.LastReading(ctx)
	if err != nil {
		return err
	}
	begun, some := s.now(), false
	defer func() {
		if some {
			s.took.Store(int64(s.now().Sub(begun)))
		}
	}()
	for _, c := range list {
		if c.Version == 0 || c.ComparedAt != nil && !s.due(c, read) {
			continue
		}
		some = true
		found, err := s.CompareNow(ctx, c.Name)
		why, n := "", 0
		var p *problem.Problem
		switch {
		case errors.As(err, &p):
			why = p.Detail
		case err != nil:
			return err
		default:
			n, why = len(found.Changes), found.Refused()
		}
		err = s.store.InTx(ctx, func(tx *store.Store) error {
			if err := tx.NoteCompared(ctx, c.ID, s.now(), n, why); err != nil || n == 0 && why == "" ||
				n == c.Differs && why == c.Problem {
				return err
			}
			entry := s.journal.Entry(
				journal.ByService, "charter.differs", "charter", c.Name, "", journal.Facts{"changes": n, "problem": why},
			)
			entry.Outcome = "found"
			return tx.Note(ctx, entry)
		})
		if err != nil {
			return err
		}
	}
	return nil
}
