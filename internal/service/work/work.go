package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

const (
	// nextWithin is for how long a report waits until the next step is written down.
	nextWithin = 30 * time.Second
	nextPause  = 300 * time.Millisecond
	// askWithin is for how long the service asks an SSH server about one key.
	askWithin = 30 * time.Second
	// followEvery is how often a run is looked at that another process may be at work on.
	followEvery = time.Second
)

// Run returns a run with its steps.
func (s *Service) Run(ctx context.Context, id uuid.UUID) (record.Run, error) {
	r, err := s.store.RunByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return r, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-run",
			Detail: "there is no run with this id",
			Remedy: "See what there is: plumlatch run list",
		}
	}
	return r, err
}

// List returns one page of runs, newest first.
func (s *Service) List(ctx context.Context, f record.RunFilter, p record.Page) (record.List[record.Run], error) {
	l, err := s.store.Runs(ctx, f, p)
	return l, problem.FromPage(err)
}

// Watch calls tell with the run each time it has changed beyond the version
// last, until the run has ended, ctx ends, tell fails or the service stops.
func (s *Service) Watch(ctx context.Context, id uuid.UUID, last int64, tell func(record.Run) error) error {
	changed, stop := s.engine.Follow(id)
	defer stop()
	for {
		run, err := s.Run(ctx, id)
		if err != nil {
			return err
		}
		if run.Version > last {
			last = run.Version
			if err := tell(run); err != nil {
				return err
			}
		}
		if run.EndedAt != nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-s.engine.Stopping():
			return nil
		case <-changed:
		case <-time.After(followEvery): // another process may be at work on it
		}
	}
}

// Elsewhere turns a step into one that rests until it is reported by whoever works on it. What they
// did stays as it is where they do not report now: the old key still opens the login, or the new
// one was shown to. again is the command that continues then.
func (s *Service) Elsewhere(step runs.Step, run record.Run, worker, again string) runs.Step {
	step.Undo, step.UndoIntent, step.Patience = nil, "", 0
	title := step.Title
	step.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
		r, err := p.Report(ctx, step.Name)
		if err != nil {
			return "", err
		}
		if r != nil && r.Error != "" {
			return "", errors.New(r.Error)
		}
		if r != nil {
			return r.Outcome, nil
		}
		heard := run.CreatedAt
		for _, r := range p.Run().Reports {
			if r.At.After(heard) {
				heard = r.At
			}
		}
		if s.now().Sub(heard) > s.ReportWithin {
			return "", fmt.Errorf(
				"the machine of %s has not reported for %s; what it did stays, and it is safe to try again: %s",
				worker, s.ReportWithin, again,
			)
		}
		return "", runs.WaitFor(record.Waits{Who: worker, What: "to do this from their machine: " + title})
	}
	return step
}

// Job says of a kind of runs how its steps are taken from somebody's own machine.
type Job struct {
	// Worker returns who works on a run from their own machine; "" for nobody.
	Worker func(record.Run) (string, error)
	// Seeing is the step after which the service asks the SSH server itself, as far as it reaches it.
	Seeing string
	// Subject returns what it asks about: whether the login accepts the key, as it is to or not.
	Subject func(ctx context.Context, run record.Run) (SubjectOfJob, error)
}

// SubjectOfJob is a key and whether the login is to accept it.
type SubjectOfJob struct {
	Login  record.LoginToSweep
	Key    record.Key
	Accept bool
}

// TakeJobs has the steps of runs of a kind be reported; to be called before the service starts.
func (s *Service) TakeJobs(kind string, j Job) { s.jobs[kind] = j }

// ReportStep records what came of a step that the actor took from their own machine,
// and returns once the next one, if there is one, is written down as begun.
func (s *Service) ReportStep(
	ctx context.Context, actor people.Actor, id uuid.UUID, step, outcome, failure string,
) (record.Run, error) {
	if err := errors.Join(problem.CheckText("outcome", outcome), problem.CheckText("error", failure)); err != nil {
		return record.Run{}, err
	}
	run, err := s.Run(ctx, id)
	if err != nil {
		return run, err
	}
	refuse := func(code, detail string) error {
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   code,
			Detail: detail,
			Remedy: "See it: plumlatch run watch " + run.Instance.Name,
		}
	}
	at := slices.IndexFunc(run.Steps, func(st record.RunStep) bool { return st.State == runs.StepRunning })
	job, worker := s.jobs[run.Kind], ""
	if job.Worker != nil {
		worker, err = job.Worker(run)
	}
	switch {
	case err != nil || worker == "" || worker != actor.Name:
		return run, refuse("not-yours", "this run is not at work on your machine")
	case run.EndedAt != nil || at < 0:
		return run, refuse("run-ended", "the run has ended meanwhile")
	case run.Steps[at].Name != step:
		return run, refuse("another-step", fmt.Sprintf("the run is at the step %q, not at %q", run.Steps[at].Name, step))
	}
	report := record.Report{By: actor.Name, At: s.now(), Outcome: cmp.Or(outcome, "done"), Error: failure}
	if failure == "" && step == job.Seeing {
		if report.Outcome, err = s.seeFromHere(ctx, job, run, worker, report.Outcome); err != nil {
			report.Error = text.Line(err.Error(), text.MaxMessage)
		}
	}
	if err := s.store.AddReport(ctx, id, step, report); err != nil {
		return run, err
	}
	if err := s.AwaitStep(ctx, id, step); err != nil {
		return run, err
	}
	return s.Run(ctx, id)
}

// seeFromHere asks the SSH server itself whether the key that was to go is refused, and the one
// that was to come accepted, which takes no secret; and says who saw it where it cannot be
// reached from the service.
func (s *Service) seeFromHere(ctx context.Context, job Job, run record.Run, worker, said string) (string, error) {
	about, err := job.Subject(ctx, run)
	if err != nil {
		return "", err
	}
	login, key := about.Login, about.Key
	ctx, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	accepted, err := sshio.Accepts(ctx, s.jumps.Target(login.Instance, login.OSUser), key.Blob)
	switch {
	case err != nil:
		return said + "; seen from the machine of " + worker + " alone", nil
	case accepted && !about.Accept:
		return "", fmt.Errorf("the SSH server still accepts %s", key.Name)
	case !accepted && about.Accept:
		return "", fmt.Errorf(
			"the line is in place there, but the SSH server does not accept %s; see why: plumlatch why %s", key.Name,
			login.Instance.Name,
		)
	case about.Accept:
		return key.Name + " is accepted, as the service sees too", nil
	}
	return key.Name + " is refused, as the service sees too", nil
}

// AwaitStep wakes a run until a step other than the one is written down as begun, or
// the run has ended.
func (s *Service) AwaitStep(ctx context.Context, id uuid.UUID, step string) error {
	changed, stop := s.engine.Follow(id)
	defer stop()
	for until := time.Now().Add(nextWithin); ; {
		run, err := s.store.RunByID(ctx, id)
		if err != nil {
			return err
		}
		if run.EndedAt != nil ||
			slices.ContainsFunc(
				run.Steps,
				func(st record.RunStep) bool { return st.State == runs.StepRunning && st.Name != step },
			) {
			return nil
		}
		if time.Now().After(until) {
			return &problem.Problem{
				Kind:   problem.Unavailable,
				Code:   "service-busy",
				Detail: "the report is recorded, but the run was not resumed yet",
				Remedy: "See it: plumlatch run watch " + run.Instance.Name,
			}
		}
		s.engine.Wake(ctx, id)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		case <-time.After(nextPause):
		}
	}
}
