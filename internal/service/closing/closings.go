package closing

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

// The kinds of thing that is opened for a while.
const (
	Port  = "ssh-port"
	Agent = "agent-permission"
)

const (
	// closeEvery is how soon after its deadline something is closed.
	closeEvery = 2 * time.Second
	// closeAgainWithin is for how long it is looked again for something whose opening was
	// never answered, and which may yet have come about.
	closeAgainWithin = 10 * time.Minute
)

// errOverdue is returned where something would have been opened whose time is
// over.
var errOverdue = errors.New("its time is over")

// Open opens something for the run, after it was written down how it is closed and by
// when. It may be repeated.
func (s *Service) Open(
	ctx context.Context, run record.Run, kind, what string, details map[string]string, lasts time.Duration,
	do func(token string) error,
) error {
	c := record.Closing{
		ID:         ID(run.ID, kind),
		RunID:      run.ID,
		InstanceID: run.InstanceID,
		Kind:       kind,
		What:       what,
		Details:    details,
		WrittenAt:  s.now(),
		Deadline:   s.now().Add(lasts),
	}
	if err := s.store.WriteClosing(ctx, c); err != nil {
		return err
	}
	written, err := s.of(ctx, run.ID, kind)
	if err != nil {
		return err
	}
	if written.ClosedAt != nil || !s.now().Before(written.Deadline) {
		return fmt.Errorf("%s: %w", what, errOverdue)
	}
	if err := do(c.ID.String()); err != nil {
		return fleet.Calling(err)
	}
	if written.OpenedAt != nil {
		return nil
	}
	e := s.journal.Entry(
		journal.ForRun(run), "restore.opened", "instance", run.Instance.Name, run.Reason,
		journal.Facts{"what": what, "deadline": written.Deadline.UTC().Format(time.RFC3339)},
	)
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.ChangeClosing(ctx, c.ID, record.ClosingChange{OpenedAt: new(s.now())}); err != nil {
			return err
		}
		return tx.Note(ctx, e)
	})
}

// ID is the id of what a run opens of one kind, and the request token at the cloud.
func ID(run uuid.UUID, kind string) uuid.UUID { return uuid.NewSHA1(run, []byte(kind)) }

func (s *Service) of(ctx context.Context, run uuid.UUID, kind string) (record.Closing, error) {
	return s.store.ClosingByID(ctx, ID(run, kind))
}

// Shut closes what the run has opened of the kind, if it has: opened tells.
func (s *Service) Shut(ctx context.Context, run record.Run, kind string) (said string, opened bool, err error) {
	c, err := s.of(ctx, run.ID, kind)
	if errors.Is(err, store.ErrNotFound) {
		return "it was not opened", false, nil
	}
	if err != nil {
		return "", false, err
	}
	if err := s.closeOne(ctx, c); err != nil {
		return "", true, err
	}
	return "confirmed closed: " + c.What, true, nil
}

// closeOne closes something, sees that it is closed, and records that. It may be repeated.
func (s *Service) closeOne(ctx context.Context, c record.Closing) error {
	found, err := s.closeAtCloud(ctx, c)
	if err != nil && !cloud.NotThere(err) {
		return fleet.Calling(fmt.Errorf("close %s: %w", c.What, err))
	}
	if c.ClosedAt != nil && !found {
		return nil
	}
	now := s.now()
	e, note := s.journal.Entry(
		journal.ByService, "restore.closed", "instance", c.InstanceName, "",
		journal.Facts{"what": c.What},
	), ""
	if by := now.Sub(c.Deadline); by > closeEvery {
		note = fmt.Sprintf("closed %s after its deadline", restore.Words(by))
		e.Details["late"] = restore.Words(by)
		journal.Instead(&e, "late", "restore.closed:late")
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.ChangeClosing(ctx, c.ID, record.ClosingChange{ClosedAt: &now, Note: &note}); err != nil {
			return err
		}
		return tx.Note(ctx, e)
	})
}

// closeAtCloud closes at the cloud and looks whether it is closed. found is whether it
// was open.
func (s *Service) closeAtCloud(ctx context.Context, c record.Closing) (found bool, err error) {
	in := s.clouds.Of(c.InCloud)
	if strings.HasPrefix(c.Kind, Agent) {
		before, err := in.Agent(ctx, c.Details["instance"])
		if err == nil {
			err = in.PermitAgent(ctx, c.Details["instance"], false)
		}
		if err != nil {
			return false, err
		}
		after, err := in.Agent(ctx, c.Details["instance"])
		if err == nil && after != cloud.AgentNotPermitted && after != cloud.AgentAbsent {
			err = runs.Temporary(errors.New("the permission was taken back, but the cloud does not show it yet"))
		}
		return before != after, err
	}
	for {
		rules, err := in.FirewallRules(ctx)
		if err != nil {
			return found, err
		}
		left := ""
		for _, r := range rules {
			if r.RequestToken != nil && *r.RequestToken == c.ID.String() {
				left = r.Id
			}
		}
		if left == "" {
			return found, nil
		}
		found = true
		if err := in.ClosePort(ctx, left); err != nil {
			return found, err
		}
	}
}

// CloseDue closes what is open beyond its deadline, whatever has become of its run, and
// looks again where an opening was never answered.
func (s *Service) CloseDue(ctx context.Context) error {
	list, err := s.store.ClosingsDue(ctx, s.now(), s.now().Add(-closeAgainWithin))
	if err != nil {
		return err
	}
	var all error
	for _, c := range list {
		if err := s.closeOne(ctx, c); err != nil {
			all = errors.Join(all, err, s.leftOpen(ctx, c, text.Line(err.Error(), text.MaxLine)))
		}
	}
	return all
}

// leftOpen records that something is still open beyond its deadline; in the daybook once.
func (s *Service) leftOpen(ctx context.Context, c record.Closing, why string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		err := tx.ChangeClosing(ctx, c.ID, record.ClosingChange{Note: new("not closed yet: " + why)})
		if err != nil || c.Note != "" || s.now().Before(c.Deadline) {
			return err
		}
		e := s.journal.Entry(
			journal.ByService, "restore.left-open", "instance", c.InstanceName, "",
			journal.Facts{"what": c.What, "reason": why},
		)
		e.Outcome = "open"
		return tx.Note(ctx, e)
	})
}

// OpenNow returns what runs have opened and not closed yet, and what may be open since the
// cloud has not answered.
func (s *Service) OpenNow(ctx context.Context) ([]record.Closing, error) {
	return s.store.OpenClosings(ctx)
}
