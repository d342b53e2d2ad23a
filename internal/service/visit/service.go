// Package visit lets people use logins through the console: a terminal in the browser, over an SSH connection of the
// service's. It checks the host key, has the person's page or the safe sign the one request that opens the login, keeps
// the bounds, and tells the daybook. The connection is in one process; what is recorded is encrypted.
package visit

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/visit"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/safekeeping"
	"plumlatch/internal/service/work"
	"plumlatch/internal/store"
)

// Options say what visits there may be. The zero value is none but the usual limits.
type Options struct {
	// Off is whether there are none.
	Off bool
	// NoFiles is whether they transfer no files.
	NoFiles bool
	Limits  visit.Limits
}

// Parts are what the use cases are over.
type Parts struct {
	Store   *store.Store
	Journal *journal.Service
	Safes   *safekeeping.Service
	Keys    *keys.Service
	Fleet   *fleet.Service
	Access  *access.Service
	Runs    *work.Service
	Log     *slog.Logger
	Now     func() time.Time
}

// Service is the use cases of visits.
type Service struct {
	Options
	Parts

	mu   sync.Mutex
	live map[uuid.UUID]*live
	stop context.CancelFunc
	done sync.WaitGroup
}

// New returns the use cases of visits. Limits that are not set are the usual ones.
func New(p Parts, o Options) *Service {
	if o.Limits == (visit.Limits{}) {
		o.Limits = visit.Usual
	}
	return &Service{Options: o, Parts: p, live: map[uuid.UUID]*live{}}
}

const (
	// lookEvery is how often each process looks at its visits.
	lookEvery = 2 * time.Second
	// goneAfter is after how long a visit is over whose process does not say that it is there.
	goneAfter = 40 * time.Second
)

// Duties are what is done from time to time, by one process.
func (s *Service) Duties() []runs.Duty {
	return []runs.Duty{
		{Name: "visits", Every: 10 * time.Second, Do: s.endUnseen},
		{Name: "visit-keys", Every: 3 * time.Second, Do: s.takeBack},
	}
}

// Start looks after the visits of this process until Stop.
func (s *Service) Start() {
	ctx, cancel := context.WithCancel(store.Unlimited(context.Background()))
	s.stop = cancel
	s.done.Go(func() {
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			if err := s.look(ctx); err != nil && ctx.Err() == nil {
				s.Log.Error("look after the visits", "err", err)
			}
		}
	})
}

// Stop ends the visits of this process.
func (s *Service) Stop() {
	if s.stop == nil {
		return
	}
	s.stop()
	for _, l := range s.all() {
		l.end(visit.Cut, "the service stopped", "")
	}
	s.done.Wait()
}

func (s *Service) all() []*live {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]*live, 0, len(s.live))
	for _, l := range s.live {
		out = append(out, l)
	}
	return out
}

// look ends the visits of this process that are over, and says that the others are there.
func (s *Service) look(ctx context.Context) error {
	var ids []uuid.UUID
	for _, l := range s.all() {
		if how, over := s.Limits.Over(l.facts(), s.Now()); over {
			l.end(how, "", "")
			continue
		}
		if err := l.recorder.keep(ctx, false); err != nil {
			s.Log.Error("keep a recording", "visit", l.id, "err", err)
			l.end(visit.Unkept, "the recording cannot be kept", "")
			continue
		}
		ids = append(ids, l.id)
	}
	ending, by, err := s.Store.SeeVisits(ctx, ids, s.Now())
	if err != nil {
		return err
	}
	for _, l := range s.all() {
		if how, over := ending[l.id]; over {
			l.end(how, "", by[l.id])
		}
	}
	return nil
}

// endUnseen ends the visits whose process is gone, and those that nobody opened.
func (s *Service) endUnseen(ctx context.Context) error {
	gone, err := s.Store.UnseenVisits(ctx, s.Now().Add(-goneAfter))
	if err != nil {
		return err
	}
	for _, v := range gone {
		how, why := visit.Cut, "the process that had its connection is gone"
		if v.State == visit.Asked {
			how, why = visit.Failed, "the page did not open it"
		}
		if err := s.ended(ctx, v, how, why, ""); err != nil {
			return err
		}
	}
	return nil
}

// ended records that a visit is over, once.
func (s *Service) ended(ctx context.Context, v record.VisitRecord, how visit.How, why, by string) error {
	now := s.Now()
	change := map[string]any{"state": visit.Ended, "ended_at": now, "ended_how": how, "problem": why}
	if by != "" {
		change["ended_by"] = by
	}
	return s.Store.InTx(ctx, func(tx *store.Store) error {
		in := []visit.State{visit.Asked, visit.Opening, visit.Open}
		changed, err := tx.ChangeVisit(ctx, v.ID, in, change)
		if err != nil || !changed {
			return err
		}
		facts := journal.Facts{"key": v.KeyName, "how": string(how), "by": by, "reason": why}
		if v.OpenedAt != nil {
			facts["lasted"] = now.Sub(*v.OpenedAt).Round(time.Second).String()
		}
		e := s.Journal.Entry(
			journal.By{Name: v.Person, Via: "console"}, "visit.end", "login",
			fleet.LoginName(v.OSUser, v.InstanceName), "", facts,
		)
		if how == visit.Failed {
			e.Outcome = "failed"
			journal.Instead(&e, "failed", "visit.end:failed")
		}
		if v.KeyName != "" {
			e = journal.OnKeys(e, v.KeyName)
		}
		return tx.Note(ctx, e)
	})
}

// takeBack removes the lines of visits' own keys, whose private keys are gone with their pages.
func (s *Service) takeBack(ctx context.Context) error {
	placed, err := s.Store.PlacedVisits(ctx)
	if err != nil {
		return err
	}
	for _, v := range placed {
		if err := s.takeBackKey(ctx, v); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) takeBackKey(ctx context.Context, v record.VisitRecord) error {
	login := fleet.LoginName(v.OSUser, v.InstanceName)
	if v.KeyID == nil {
		return s.Store.VisitTakenBack(ctx, v.ID)
	}
	_, err := s.Store.LiveGrant(ctx, v.LoginID, *v.KeyID)
	if err == nil {
		_, err = s.Access.WithdrawGrant(ctx, people.TheService, access.Withdrawal{
			Key: v.KeyName, Login: login, Reason: "the visit is over", AtEnd: true,
		})
		var p *problem.Problem
		if errors.As(err, &p) { // another run is at work, or the machine is away: later, or by the end of the grant
			return nil
		}
		return err
	}
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Store) error {
		if _, err := tx.RetireUnused(ctx, *v.KeyID); err != nil {
			return err
		}
		return tx.VisitTakenBack(ctx, v.ID)
	})
}

// List returns one page of visits, the newest first: the actor's own, and for an admin everybody's.
func (s *Service) List(
	ctx context.Context, actor people.Actor, f record.VisitFilter, p record.Page,
) (record.List[record.VisitRecord], error) {
	if actor.Role != people.Admin {
		f.Person = actor.Name
	}
	l, err := s.Store.Visits(ctx, f, p)
	return l, problem.FromPage(err)
}

// Visit returns a visit that the actor may see.
func (s *Service) Visit(ctx context.Context, actor people.Actor, id uuid.UUID) (record.VisitRecord, error) {
	v, err := s.Store.VisitByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && actor.Role != people.Admin && v.OperatorID != actor.ID {
		return v, noVisit
	}
	return v, err
}

var noVisit = &problem.Problem{
	Kind:   problem.NotFound,
	Code:   "no-such-visit",
	Detail: "there is no such visit",
	Remedy: "See them: plumlatch visit list",
}

// End ends a visit: its person, or an admin.
func (s *Service) End(ctx context.Context, actor people.Actor, id uuid.UUID) (record.VisitRecord, error) {
	v, err := s.Visit(ctx, actor, id)
	if err != nil || v.State == visit.Ended {
		return v, err
	}
	if _, err := s.Store.WishVisitEnded(ctx, id, actor.Name); err != nil {
		return v, err
	}
	s.mu.Lock()
	here := s.live[id]
	s.mu.Unlock()
	switch {
	case here != nil:
		here.end(visit.EndedBy, "", actor.Name)
	case v.State == visit.Asked:
		if err := s.ended(ctx, v, visit.EndedBy, "", actor.Name); err != nil {
			return v, err
		}
	}
	return s.Visit(ctx, actor, id)
}

// Labels returns the labels of instances whose visits are recorded.
func (s *Service) Labels(ctx context.Context) ([]record.RecordedLabel, error) {
	return s.Store.RecordedLabels(ctx)
}

// SetLabel has the visits of instances with a label recorded, or not from now on.
func (s *Service) SetLabel(ctx context.Context, actor people.Actor, name, value string, on bool) error {
	if err := problem.CheckLabels(map[string]string{name: value}); err != nil {
		return err
	}
	if on && s.Safes.Safe == nil {
		return problem.NoSafe()
	}
	told := "visit.label"
	if !on {
		told = "visit.label-end"
	}
	return s.Store.InTx(ctx, func(tx *store.Store) error {
		l := record.RecordedLabel{Name: name, Value: value, AddedBy: actor.Name, AddedAt: s.Now()}
		did, err := tx.SetRecordedLabel(ctx, l, on)
		if err != nil || !did {
			return err
		}
		return tx.Note(ctx, s.Journal.Entry(actor.By(), told, "label", name+"="+value, "", nil))
	})
}

// Recording returns the recording of a visit, in asciicast v2. Admins alone may see one, and the daybook tells of it.
func (s *Service) Recording(ctx context.Context, actor people.Actor, id uuid.UUID, reason string) ([]byte, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return nil, err
	}
	v, err := s.Visit(ctx, actor, id)
	if err != nil {
		return nil, err
	}
	if v.RecordingKey == nil {
		return nil, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "not-recorded",
			Detail: "this visit was not recorded",
			Remedy: "Have visits recorded by a label of their instances: plumlatch visit label NAME=VALUE",
		}
	}
	text, err := s.openRecording(ctx, v)
	if err != nil {
		return nil, fmt.Errorf("open the recording of the visit %s: %w", id, err)
	}
	return text, s.Store.Note(ctx, s.Journal.Entry(
		actor.By(), "visit.replay", "login", fleet.LoginName(v.OSUser, v.InstanceName), reason,
		journal.Facts{"visitor": v.Person, "at": v.CreatedAt.UTC().Format(time.RFC3339)},
	))
}
