package reading

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

const (
	sweepsAtOnce = 32
	sweepBatch   = 512
	// sweepBatchAgain is sweepBatch for logins at which the service ended before, and
	// sweepTries how often it may end at one.
	sweepBatchAgain = 16
	sweepTries      = 3
	// readBudget is how many bytes of files all sweeps hold at once, and recordBytes how
	// many are recorded together.
	readBudget = 64 << 20
	// heldAtOnce is how many bytes of files the reading of one machine holds: its login's, and all others'.
	heldAtOnce  = 2 * sshio.MaxFileBytes
	recordBytes = 4 << 20
	// looksAtOnce is how many looks are recorded together at most.
	looksAtOnce = 64
	// SweepTimeout is for how long one login may take.
	SweepTimeout = 30 * time.Second
	// carrySweepsEvery is how soon a sweep whose start was lost is taken up.
	carrySweepsEvery = 3 * time.Second
	scheduleEvery    = time.Minute

	sweepDuty     = "sweeps"
	StewardMethod = "read by the steward key"
	AgentMethod   = "read by the guest agent"
)

// SweepWanted says which logins will be swept.
type SweepWanted struct {
	Instances            []string
	LabelName, LabelText string
	All                  bool
}

// SweepState is a sweep and how far it is.
type SweepState struct {
	record.Sweep
	Counts map[reading.State]int
}

// StartSweep has the files of logins read.
func (s *Service) StartSweep(ctx context.Context, actor people.Actor, w SweepWanted) (SweepState, error) {
	if !w.All && len(w.Instances) == 0 && w.LabelName == "" {
		return SweepState{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "nothing-to-sweep",
			Field:  "instances",
			Detail: "nothing was named",
			Remedy: "Name instances, a label, or say all",
		}
	}
	for _, name := range w.Instances {
		if _, err := s.fleet.Instance(ctx, name); err != nil {
			return SweepState{}, err
		}
	}
	ids, err := s.store.LoginsOf(ctx, w.All, w.LabelName, w.LabelText, w.Instances)
	if err != nil {
		return SweepState{}, err
	}
	if len(ids) == 0 {
		return SweepState{}, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-login",
			Detail: "no login fits",
			Remedy: "See what there is: plumlatch instance list",
		}
	}
	sweep := record.Sweep{ID: store.NewID(), RequestedBy: actor.Name, CreatedAt: s.now()}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddSweep(ctx, sweep, ids); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "sweep.start", "sweep", sweep.ID.String(), "", journal.Facts{"logins": len(ids)},
		))
	})
	if err != nil {
		return SweepState{}, err
	}
	s.engine.Nudge(ctx, sweepDuty)
	return s.Sweep(ctx, sweep.ID)
}

// Sweep returns how far a sweep is.
func (s *Service) Sweep(ctx context.Context, id uuid.UUID) (SweepState, error) {
	sweep, err := s.store.SweepByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return SweepState{}, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-sweep",
			Detail: "there is no sweep with this id",
		}
	}
	if err != nil {
		return SweepState{}, err
	}
	counts, err := s.store.SweepCounts(ctx, id)
	return SweepState{sweep, counts}, err
}

// SweepItems returns one page of the logins of a sweep.
func (s *Service) SweepItems(
	ctx context.Context, id uuid.UUID, state reading.State, p record.Page,
) (record.List[record.SweepItem], error) {
	if _, err := s.Sweep(ctx, id); err != nil {
		return record.List[record.SweepItem]{}, err
	}
	l, err := s.store.SweepItems(ctx, id, state, p)
	if err != nil {
		return l, problem.FromPage(err)
	}
	return l, s.countBeyond(ctx, l.Items)
}

// countBeyond counts what gets in to the logins beside keys, and what is not known: the users of a machine that
// were not read count at the login by which it is read.
func (s *Service) countBeyond(ctx context.Context, items []record.SweepItem) error {
	logins, instances := make([]uuid.UUID, len(items)), make([]uuid.UUID, len(items))
	for n, i := range items {
		logins[n], instances[n] = i.LoginID, i.InstanceID
	}
	servers, err := s.store.Servers(ctx, logins)
	if err != nil {
		return err
	}
	machines, err := s.store.MachinesOf(ctx, instances)
	if err != nil {
		return err
	}
	accepted, err := s.store.AcceptedWays(ctx, logins)
	if err != nil {
		return err
	}
	groups, err := s.store.GroupWays(ctx, logins)
	if err != nil {
		return err
	}
	for n := range items {
		i := &items[n]
		var server *reading.Server
		if read, ok := servers[i.LoginID]; ok {
			server = &read.Server
		}
		var c reading.Counts
		ways := append(reading.WaysOf(server, i.OSUser), groups[i.LoginID]...)
		c.CountWays(reading.Mark(ways, record.Acceptances(accepted[i.LoginID])))
		if m, read := machines[i.InstanceID]; i.Main && read {
			c.Unread += m.Machine.Unknown()
		} else if i.Main {
			c.Unread++
		}
		i.OtherWays, i.Unread = c.OtherWays, c.Unread
	}
	return nil
}

// carrySweeps reads the logins that sweeps wait for, until none is left. A
// service that was stopped in between continues where it was. Where it was killed, the logins
// that it was at are read a few at a time, and then one by one, so that one at which the
// service dies is found and given up.
func (s *Service) carrySweeps(ctx context.Context) error {
	for {
		given, err := s.store.GiveUpSweepItems(
			ctx, sweepTries, "given up: the service ended three times while it read this login", s.now(),
		)
		if err != nil {
			return err
		}
		for _, id := range given {
			s.log.Error("a login was given up: the service ended three times while it read it", "login", id)
		}
		items, err := s.store.TakeSweepItems(ctx, sweepBatch, sweepBatchAgain, 1)
		if err != nil {
			return err
		}
		if len(items) == 0 {
			return s.store.EndSweeps(ctx, s.now())
		}
		ids := make([]uuid.UUID, len(items))
		for n, i := range items {
			ids[n] = i.LoginID
		}
		if err := s.sweepLogins(ctx, ids); err != nil {
			return errors.Join(err, s.store.UntakeSweepItems(context.WithoutCancel(ctx), ids))
		}
	}
}

// sweepDue sweeps the logins that nobody has tried to read for SweepEvery, spread
// over that time.
func (s *Service) sweepDue(ctx context.Context) error {
	if s.SweepEvery <= 0 {
		return nil
	}
	n, err := s.store.CountSweepable(ctx, AgentMethod)
	if err != nil || n == 0 {
		return err
	}
	share := 1 + int(float64(n)*float64(scheduleEvery)/float64(s.SweepEvery))
	ids, err := s.store.LoginsDue(ctx, AgentMethod, s.now().Add(-s.SweepEvery), share)
	if err != nil || len(ids) == 0 {
		return err
	}
	return s.sweepLogins(ctx, ids)
}

// sweepLogins reads the logins, some at once. What goes wrong at one costs
// nothing to the others and is recorded; the error is one of the records.
func (s *Service) sweepLogins(ctx context.Context, ids []uuid.UUID) error {
	main, err := s.store.MainLogins(ctx, ids)
	if err != nil {
		return err
	}
	logins, err := s.store.LoginsToSweep(ctx, main)
	if err != nil {
		return err
	}
	looks := make(chan Look, looksAtOnce)
	both, ctx := errgroup.WithContext(ctx)
	both.Go(func() error {
		defer close(looks)
		readers, ctx := errgroup.WithContext(ctx)
		readers.SetLimit(sweepsAtOnce)
		for _, l := range logins {
			readers.Go(func() error { return s.sweepLogin(ctx, l, looks) })
		}
		return readers.Wait()
	})
	both.Go(func() error { return s.recordAsTheyCome(ctx, looks) })
	err = both.Wait()
	for l := range looks { // those that were not recorded
		s.held.Release(l.bytes())
	}
	return err
}

// sweepLogin reads the files of one login and gives what it saw to be recorded,
// or records why it could not.
func (s *Service) sweepLogin(ctx context.Context, l record.LoginToSweep, looks chan<- Look) error {
	at := s.now()
	if err := s.held.Acquire(ctx, heldAtOnce); err != nil {
		return err
	}
	var stands Seen
	var method string
	err := problem.Guard(s.log, "reading "+fleet.LoginName(l.OSUser, l.Instance.Name), func() (err error) {
		stands, method, err = s.readLogin(ctx, l, at)
		return err
	})
	held := stands.bytes()
	s.held.Release(heldAtOnce - held)
	if err != nil || ctx.Err() != nil {
		s.held.Release(held)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return s.store.NoteSweepFailure(ctx, l.ID, text.Line(err.Error(), text.MaxMessage), at)
	}
	select {
	case looks <- Look{
		Login:  l.Login,
		Name:   fleet.LoginName(l.OSUser, l.Instance.Name),
		Seen:   stands,
		Method: method,
		By:     journal.ByService,
		At:     at,
	}:
		return nil
	case <-ctx.Done():
		s.held.Release(held)
		return ctx.Err()
	}
}

// bytes is how much the files hold together, at most what is acquired for them.
func (s Seen) bytes() int64 {
	n := 0
	for _, f := range s.Files {
		n += len(f.Content)
	}
	return min(int64(n), sshio.MaxFileBytes)
}

// recordAsTheyCome records looks until all are recorded: while one set is being
// written, the next gathers.
func (s *Service) recordAsTheyCome(ctx context.Context, looks <-chan Look) error {
	for first := range looks {
		set, held := []Look{first}, first.bytes()
		for more := true; more && len(set) < looksAtOnce && held < recordBytes; {
			select {
			case l, ok := <-looks:
				if more = ok; ok {
					set, held = append(set, l), held+l.bytes()
				}
			default:
				more = false
			}
		}
		err := s.recordSet(ctx, set)
		s.held.Release(held)
		if err != nil {
			return err
		}
	}
	return nil
}

// recordSet records the looks together, or, where something in the files of one
// cannot be recorded, one by one, so that it does not hold up the others.
func (s *Service) recordSet(ctx context.Context, looks []Look) error {
	_, err := s.RecordLooks(ctx, looks)
	switch {
	case err == nil || ctx.Err() != nil || store.Unavailable(err):
		return err
	case len(looks) > 1:
		for _, l := range looks {
			if err := s.recordSet(ctx, []Look{l}); err != nil {
				return err
			}
		}
		return nil
	}
	s.log.Error("record what a sweep saw", "login", looks[0].Name, "err", err)
	return s.store.NoteSweepFailure(
		ctx, looks[0].Login.ID, "what was read could not be recorded; see the service's log",
		looks[0].At,
	)
}

// readLogin reads the files of a login with the steward key, or where there is
// none, or it is refused, through the guest agent. It returns by which method.
func (s *Service) readLogin(
	ctx context.Context, l record.LoginToSweep, at time.Time,
) (stands Seen, method string, err error) {
	session, cancel, err := s.StewardSession(ctx, l)
	var none *noSteward
	if errors.As(err, &none) || errors.Is(err, sshio.ErrRefused) {
		stands, missing, failed := s.readThroughAgent(ctx, l, at)
		switch {
		case missing != "":
			err = fmt.Errorf("%w; %s", err, missing)
		case failed != nil:
			err = fmt.Errorf("%w; through the guest agent: %w", err, failed)
		default:
			err = nil
		}
		return stands, AgentMethod, err
	}
	if err != nil {
		return Seen{}, "", err
	}
	defer cancel()
	if stands, err = ReadFiles(ctx, session); err != nil {
		return stands, StewardMethod, err
	}
	err = s.readMachine(ctx, l, means.Over(session), StewardMethod, at, &stands)
	return stands, StewardMethod, err
}

// ReadFiles reads what is in the login of a session.
func ReadFiles(ctx context.Context, session *sshio.Session) (Seen, error) {
	read, err := means.Over(session).Read(ctx)
	return SeenBy(read), err
}
