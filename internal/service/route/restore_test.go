package route_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service"
	"plumlatch/internal/service/closing"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/reentry"
	"plumlatch/internal/service/route"
	"plumlatch/internal/service/servicetest"
)

func TestEveryRouteLetsInWithTheNewKeyAndNotWithTheLostOne(t *testing.T) {
	for _, c := range restoreCases {
		t.Run(c.name(), func(t *testing.T) {
			t.Parallel()
			o := lockOut(servicetest.NewRestoreRig(t, nil), c, "door")
			r := o.ends(o.begin().ID)
			if wrong := o.judge(r); r.State != runs.Done || len(wrong) > 0 {
				t.Errorf("%s\n%s", strings.Join(wrong, "\n"), stepsOf(r))
			}
			report, err := o.Reentry.ReportRestore(t.Context(), r.ID)
			if err != nil || report.AddressBefore != o.before.PublicAddress || len(report.Copies) != 0 {
				t.Errorf("%v %+v", err, report)
			}
		})
	}
}

// fault is something that goes wrong with the cloud at a step.
// TestANinthRouteIsAValueOfCoresAndAValueHere takes a way back in that is not among those that there are.
func TestANinthRouteIsAValueOfCoresAndAValueHere(t *testing.T) {
	t.Parallel()
	var flown atomic.Int32
	r := servicetest.NewRestoreRig(t, func(s *service.Service, _ *runs.Engine) {
		route.AddPigeon(s.Routes, func() { flown.Add(1) })
	})
	o := lockOut(r, restoreCase{route: route.Pigeon, image: "debian-12", steward: true}, "door")
	found, err := r.Reentry.Routes(t.Context(), reentry.RoutesWanted{Login: o.login, Rehearse: true})
	if err != nil {
		t.Fatal(err)
	}
	rehearsed := func(h reentry.Rehearsal) bool { return h.Route == route.Pigeon && h.Works }
	if !slices.ContainsFunc(found.Rehearsed, rehearsed) {
		t.Errorf("rehearsed were %+v, want the ninth among them", found.Rehearsed)
	}
	run := o.ends(o.begin().ID)
	if wrong := o.judge(run); run.State != runs.Done || flown.Load() == 0 || len(wrong) > 0 {
		t.Errorf(
			"got the state %s after %d flights: %s\n%s", run.State, flown.Load(), strings.Join(wrong, "\n"),
			stepsOf(run),
		)
	}
}

type fault struct {
	kind  cloud.FaultKind
	times int
}

var faults = []fault{{"fail", 1}, {"refuse", 1}, {"hang", 1}, {"twice", 1}, {"lose-reply", 1}, {"break", 4}}

// at has something go wrong as a step of a restore begins, or as its undo does.
type at struct {
	step string
	undo bool
	do   func(ctx context.Context)
	once bool
	// ask, where it is set, is told of the steps that ask the cloud something, by its calls.
	ask   func(step string)
	calls *atomic.Int64
}

// hook returns what is called around steps: before each, at.do where it is the one.
func (a *at) hook(run record.Run, step runs.Step) runs.Step {
	if run.Kind != route.RunKind {
		return step
	}
	wrap := func(undo bool) func(context.Context) {
		return func(ctx context.Context) {
			if step.Name == a.step && undo == a.undo && !a.once {
				a.once = true
				a.do(ctx)
			}
		}
	}
	if do, before := step.Do, wrap(false); do != nil {
		step.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
			before(ctx)
			if a.ask == nil {
				return do(ctx, p)
			}
			asked := a.calls.Load()
			said, err := do(ctx, p)
			if err == nil && a.calls.Load() > asked {
				a.ask(step.Name)
			}
			return said, err
		}
	}
	if undo, before := step.Undo, wrap(true); undo != nil {
		step.Undo = func(ctx context.Context, p *runs.Progress) error {
			before(ctx)
			return undo(ctx, p)
		}
	}
	return step
}

// TestWhateverTheCloudDoesWrongAtAnyStepTheLoginIsRestoredOrAsItWas goes through the
// steps that the routes themselves are made of, so that a new one is in it by itself.
func TestWhateverTheCloudDoesWrongAtAnyStepTheLoginIsRestoredOrAsItWas(t *testing.T) {
	for _, c := range restoreCases {
		t.Run(c.name(), func(t *testing.T) {
			t.Parallel()
			now := &at{}
			r := servicetest.NewImpatientRig(t, restoreTimeout, func(_ *service.Service, e *runs.Engine) {
				e.StepHook = func(run record.Run, step runs.Step) runs.Step { return now.hook(run, step) }
			})
			var steps []string
			now = &at{ask: func(step string) { steps = append(steps, step) }, calls: &r.Calls}
			o := lockOut(r, c, "door")
			o.ends(o.begin().ID)
			var undone *lockedOut
			for n, step := range steps {
				for m, f := range faults {
					if o = undone; o == nil {
						o = lockOut(r, c, fmt.Sprintf("hut-%d-%d", n, m))
					}
					now = &at{step: step, do: func(ctx context.Context) {
						if err := r.Port.ScheduleFault(ctx, cloud.Fault{Call: "*", Kind: f.kind, Times: &f.times}); err != nil {
							t.Error(err)
						}
					}}
					run := o.ends(o.begin().ID)
					if err := r.Port.ClearFaults(t.Context()); err != nil { // of a step that asks the cloud nothing
						t.Fatal(err)
					}
					if undone = nil; (run.State == runs.Undone || c.route == restore.WindowsPassword) && !o.holderPlaces {
						undone = o // which is as it was
					}
					if wrong := o.judge(run); len(wrong) > 0 {
						t.Errorf("%s: %s, %d times:\n%s\n%s", step, f.kind, f.times, strings.Join(wrong, "\n"), stepsOf(run))
					}
				}
			}
		})
	}
}

// failing has a step fail once it is done, so that all is undone.
func failing(step restore.Step, a *at) func(record.Run, runs.Step) runs.Step {
	return func(run record.Run, s runs.Step) runs.Step {
		s = a.hook(run, s)
		if do := s.Do; run.Kind == route.RunKind && s.Name == string(step) {
			s.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
				if _, err := do(ctx, p); err != nil {
					return "", err
				}
				return "", servicetest.ErrByTest
			}
		}
		return s
	}
}

// beforeEntry are the steps of a case whose failure leads to an undo.
func beforeEntry(steps []restore.Step) []restore.Step {
	return steps[:slices.IndexFunc(steps, func(s restore.Step) bool { return s == restore.Enter || s == restore.Open })]
}

// TestWhateverTheCloudDoesWrongInAnUndoAllIsAsItWas fails the last step before the entry,
// and has the cloud go wrong in the undo of each step.
func TestWhateverTheCloudDoesWrongInAnUndoAllIsAsItWas(t *testing.T) {
	for _, c := range restoreCases {
		t.Run(c.name(), func(t *testing.T) {
			t.Parallel()
			hook := func(_ record.Run, s runs.Step) runs.Step { return s }
			r := servicetest.NewRestoreRig(t, func(_ *service.Service, e *runs.Engine) {
				e.StepHook = func(run record.Run, step runs.Step) runs.Step { return hook(run, step) }
			})
			first := lockOut(r, c, "door")
			steps := beforeEntry(stepsIn(t, first.ends(first.begin().ID)))
			var o *lockedOut
			for n, step := range steps {
				if !first.undoes(step) {
					continue
				}
				for m, kind := range []cloud.FaultKind{"lose-reply", "refuse", "break"} {
					if o == nil || o.holderPlaces {
						o = lockOut(r, c, fmt.Sprintf("hut-%d-%d", n, m))
					}
					hook = failing(steps[len(steps)-1], &at{step: string(step), undo: true, do: func(ctx context.Context) {
						if err := r.Port.ScheduleFault(ctx, cloud.Fault{Call: "*", Kind: kind}); err != nil {
							t.Error(err)
						}
					}})
					run := o.ends(o.begin().ID)
					if err := r.Port.ClearFaults(t.Context()); err != nil {
						t.Fatal(err)
					}
					if wrong := o.judge(run); run.State != runs.Undone || len(wrong) > 0 ||
						!strings.Contains(run.Error, servicetest.ErrByTest.Error()) {
						t.Errorf("in the undo of %s: %s:\n%s\n%s", step, kind, strings.Join(wrong, "\n"), stepsOf(run))
					}
				}
			}
		})
	}
}

func TestAHelperThatVanishesAtAnyStepIsReplacedOrAllIsAsItWas(t *testing.T) {
	t.Parallel()
	now := &at{}
	r := servicetest.NewRestoreRig(t, func(_ *service.Service, e *runs.Engine) {
		e.StepHook = func(run record.Run, step runs.Step) runs.Step { return now.hook(run, step) }
	})
	c := caseOf(restore.HelperDisk)
	way, _ := restore.All.Of(restore.HelperDisk)
	for n, step := range way.Steps(restore.Plan{Lost: true}) {
		o := lockOut(r, c, fmt.Sprintf("door-%d", n))
		var id uuid.UUID
		now = &at{step: string(step), do: func(ctx context.Context) {
			helper, there, err := r.Port.Launched(ctx, id.String()+" helper 1")
			if err != nil || !there || helper.State != "running" {
				return
			}
			op, err := r.Port.Delete(ctx, helper.Id)
			if _, err := r.Port.Await(ctx, op, err); err != nil {
				t.Error(err)
			}
		}}
		hold := make(chan struct{})
		do := now.do
		now.do = func(ctx context.Context) { <-hold; do(ctx) }
		begun := o.begin()
		id = begun.ID
		close(hold)
		run := o.ends(begun.ID)
		if wrong := o.judge(run); len(wrong) > 0 {
			t.Errorf("%s: %s\n%s", step, strings.Join(wrong, "\n"), stepsOf(run))
		}
	}
}

func TestAnUndoThatIsAskedForCutsTheStepOffAndAllIsAsItWas(t *testing.T) {
	for _, c := range restoreCases {
		t.Run(c.name(), func(t *testing.T) {
			t.Parallel()
			now := &at{}
			r := servicetest.NewRestoreRig(t, func(_ *service.Service, e *runs.Engine) {
				e.StepHook = func(run record.Run, step runs.Step) runs.Step { return now.hook(run, step) }
			})
			first := lockOut(r, c, "door")
			var o *lockedOut
			for n, step := range beforeEntry(stepsIn(t, first.ends(first.begin().ID))) {
				if o == nil || o.holderPlaces {
					o = lockOut(r, c, fmt.Sprintf("hut-%d", n))
				}
				at := &at{step: string(step), do: func(ctx context.Context) { <-ctx.Done() }}
				now = at
				begun := o.begin()
				r.Until("the step "+string(step), func() bool {
					run, err := o.Reentry.Restore(t.Context(), begun.ID)
					if err == nil && (run.Waits == nil || run.Waits.Step != string(step)) {
						err = o.help(run)
					}
					return err == nil &&
						slices.ContainsFunc(
							run.Steps,
							func(s record.RunStep) bool { return s.Name == string(step) && s.State == runs.StepRunning },
						)
				})
				if _, err := o.Reentry.UndoRestore(t.Context(), o.Ines, begun.ID, "wrong machine"); err != nil {
					t.Fatal(err)
				}
				run := o.ends(begun.ID)
				if wrong := o.judge(run); run.State != runs.Undone || len(wrong) > 0 ||
					!strings.Contains(run.Error, "ines asked for its undo: wrong machine") {
					t.Errorf("%s:\n%s\n%s", step, strings.Join(wrong, "\n"), stepsOf(run))
				}
				var p *problem.Problem
				if _, err := o.Reentry.UndoRestore(t.Context(), o.Ines, begun.ID, ""); !errors.As(err, &p) ||
					p.Code != "restore-over" {
					t.Errorf("undone twice: %v", err)
				}
			}
		})
	}
}

func TestNoLineOfALostKeyGoesWithoutALogin(t *testing.T) {
	t.Parallel()
	r := servicetest.NewRestoreRig(t, nil)
	o := lockOut(r, caseOf(restore.GuestAgent), "door")
	fresh := r.MadeKey("fresh", keypair.Spec{})
	run, err := r.Reentry.StartRestore(
		t.Context(), r.Ines, journal.IdempotencyKey{},
		reentry.RestoreWanted{Login: o.login, Route: restore.GuestAgent, Key: "fresh", Lost: []string{"door-lost"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	waits := func(step restore.Step) func() bool {
		return func() bool {
			now, err := r.Reentry.Restore(t.Context(), run.ID)
			return err == nil && now.Waits != nil && now.Waits.Step == string(step)
		}
	}
	r.Until("the wait for a login", waits(restore.Enter))
	if !bytes.HasPrefix([]byte(o.onDisk(o.disk)), []byte(o.file)) {
		t.Errorf("lines are gone:\n%s", o.onDisk(o.disk))
	}
	if state, err := r.Port.Agent(t.Context(), o.before.Id); err != nil || state != cloud.AgentNotPermitted {
		t.Errorf("the agent is %s while somebody is waited for: %v", state, err)
	}
	// A login with another key does not do.
	o.entered("door-other", o.other)
	if !waits(restore.Enter)() {
		t.Error("it went on")
	}
	s, err := r.Session("door", o.user, fresh)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := r.ReportEntryBy(r.Ines, o.login, "fresh", ssh.FingerprintSHA256(s.HostKey), fresh); err != nil {
		t.Fatal(err)
	}
	r.Until("the wait for the removal", waits(restore.Remove))
	var p *problem.Problem
	if _, err := r.Reentry.UndoRestore(t.Context(), r.Ines, run.ID, ""); !errors.As(err, &p) ||
		p.Code != "restore-proved" {
		t.Errorf("an undo after the proof: %v", err)
	}
	lost, err := r.Keys.Key(t.Context(), "door-lost")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.EditAll(func(_ string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
		return slices.DeleteFunc(
			slices.Clone(f),
			func(l authorizedkeys.Line) bool { return bytes.Equal(l.Blob, lost.Blob) },
		), nil
	}); err != nil {
		t.Fatal(err)
	}
	seen, err := reading.ReadFiles(t.Context(), s)
	if err == nil {
		_, err = r.Access.ReportFiles(t.Context(), r.Ines, o.login, seen, nil, ssh.FingerprintSHA256(s.HostKey))
	}
	if err != nil {
		t.Fatal(err)
	}
	if now := o.ends(run.ID); now.State != runs.Done || len(now.Left) > 0 ||
		strings.Contains(o.onDisk(o.disk), servicetest.Wire(lost)) {
		t.Errorf("%s", stepsOf(now))
	}
}

func TestWhatIsOpenIsClosedAtItsDeadlineAlsoWhereTheServiceWasAway(t *testing.T) {
	t.Parallel()
	now := &at{}
	r := servicetest.NewRestoreRig(t, func(_ *service.Service, e *runs.Engine) {
		e.StepHook = func(run record.Run, step runs.Step) runs.Step { return now.hook(run, step) }
	})
	for n, c := range []restoreCase{caseOf(restore.GuestAgent), caseOf(restore.BrowserShell)} {
		o := lockOut(r, c, fmt.Sprintf("door-%d", n))
		reached := make(chan struct{})
		now = &at{step: string(restore.Place), do: func(ctx context.Context) { close(reached); <-ctx.Done() }}
		begun := o.begin()
		<-reached
		open, err := r.Closings.OpenNow(t.Context())
		if err != nil || len(open) != 1 || open[0].InstanceName != o.name {
			t.Fatalf("%v %+v", err, open)
		}
		r.Down()
		r.Jump(time.Hour) // while the service is away
		taken, err := r.Store.TakeRun(t.Context(), begun.ID, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		if err := r.Store.EndRun(t.Context(), begun.ID, taken.Epoch, runs.Failed, "", time.Now()); err != nil {
			t.Fatal(err) // and the run is dead
		}
		r.Up()
		r.Until("the closing", func() bool {
			open, err := r.Closings.OpenNow(t.Context())
			return err == nil && len(open) == 0
		})
		closings, err := r.Store.ClosingsOf(t.Context(), begun.ID)
		if err != nil || len(closings) != 1 || !strings.Contains(closings[0].Note, "after its deadline") {
			t.Errorf("it does not say how late: %v %+v", err, closings)
		}
		if len(o.firewall()) != o.rules {
			t.Error("the rule is still there")
		}
		if state, err := r.Port.Agent(t.Context(), o.before.Id); err != nil || state != cloud.AgentNotPermitted {
			t.Errorf("the agent is %s: %v", state, err)
		}
		r.Jump(-time.Hour)
	}
}

func TestAnOpeningThatComesAboutLaterIsClosedAsWell(t *testing.T) {
	t.Parallel()
	r := servicetest.NewRestoreRig(t, nil)
	o := lockOut(r, caseOf(restore.BrowserShell), "door")
	run := o.ends(o.begin().ID)
	// One whose answer never came, which was closed, and which the cloud does after all; and one
	// whose answer came once it was closed.
	for n, change := range []record.ClosingChange{
		{ClosedAt: new(r.Now())},
		{ClosedAt: new(r.Now()), OpenedAt: new(r.Now().Add(time.Second))},
	} {
		o.comesLater(run, fmt.Sprint(route.ForUndo, " ", 8+n), change)
	}
}

func (o *lockedOut) comesLater(run reentry.Restore, kind string, change record.ClosingChange) {
	t, r := o.T, o.Rig
	t.Helper()
	late := run.Closings[0]
	late.Kind += kind
	late.ID, late.OpenedAt, late.ClosedAt, late.Deadline = closing.ID(
		run.ID, late.Kind,
	), nil, nil, r.Now().
		Add(-time.Second)
	if err := r.Store.WriteClosing(t.Context(), late); err != nil {
		t.Fatal(err)
	}
	if err := r.Store.ChangeClosing(t.Context(), late.ID, change); err != nil {
		t.Fatal(err)
	}
	before := len(o.firewall())
	if _, err := r.Port.OpenPort(t.Context(), "another"+kind, "default", "127.255.16.0/28", 2222); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Port.OpenPort(t.Context(), late.ID.String(), "default", "127.255.16.0/28", 2222); err != nil {
		t.Fatal(err)
	}
	if got := len(o.firewall()); got != before+2 {
		t.Fatalf("there are %d rules, want the two that were opened beside %d", got, before)
	}
	if err := r.Closings.CloseDue(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got := len(o.firewall()); got != before+1 {
		t.Errorf(
			"%d rules are left of %d and one of somebody else's: what came about later stays open, or more was closed",
			got, before,
		)
	}
}

func TestOneRunAtATimeWorksOnAnInstance(t *testing.T) {
	t.Parallel()
	now := &at{}
	r := servicetest.NewRestoreRig(t, func(_ *service.Service, e *runs.Engine) {
		e.StepHook = func(run record.Run, step runs.Step) runs.Step { return now.hook(run, step) }
	})
	o := lockOut(r, caseOf(restore.GuestAgent), "door")
	hold := make(chan struct{})
	now = &at{step: string(restore.Place), do: func(context.Context) { <-hold }}
	first := o.begin()
	var p *problem.Problem
	if _, err := r.Reentry.StartRestore(
		t.Context(), r.Ines, journal.IdempotencyKey{},
		reentry.RestoreWanted{Login: o.login, Route: restore.MetadataKeys, Key: "x", Make: true},
	); !errors.As(
		err, &p,
	) ||
		p.Code != "route-not-possible" {
		t.Errorf("%v", err)
	}
	if _, err := r.Reentry.StartRestore(
		t.Context(), r.Ines, journal.IdempotencyKey{},
		reentry.RestoreWanted{Login: o.login, Route: restore.BrowserShell, Key: "x", Make: true},
	); !errors.As(
		err, &p,
	) ||
		p.Code != "run-at-work" {
		t.Errorf("%v", err)
	}
	if _, err := r.Keys.Key(t.Context(), "x"); err == nil {
		t.Error("the key of a restore that was refused is there")
	}
	close(hold)
	if run := o.ends(first.ID); run.State != runs.Done {
		t.Errorf("%s", stepsOf(run))
	}
}

func TestARouteIsRefusedWithWhatIsMissingAndWhatToDo(t *testing.T) {
	t.Parallel()
	r := servicetest.NewRestoreRig(t, nil)
	o := lockOut(r, restoreCase{image: "alpine-3.22"}, "gate")
	r.MadeKey("fresh", keypair.Spec{})
	for name, c := range map[string]struct {
		change func(*reentry.RestoreWanted)
		code   string
	}{
		"no agent":       {func(w *reentry.RestoreWanted) { w.Route = restore.GuestAgent }, "route-not-possible"},
		"no such route":  {func(w *reentry.RestoreWanted) { w.Route = "tunnel" }, "no-such-route"},
		"no such login":  {func(w *reentry.RestoreWanted) { w.Login = "warden@gate" }, "no-such-login"},
		"no such key":    {func(w *reentry.RestoreWanted) { w.Key = "none" }, "no-such-key"},
		"not confirmed":  {func(w *reentry.RestoreWanted) { w.Confirm = "gale" }, "not-confirmed"},
		"no stop":        {func(w *reentry.RestoreWanted) { w.Limits.NoStop = true }, "outside-limits"},
		"new and lost":   {func(w *reentry.RestoreWanted) { w.Lost = []string{"fresh"} }, "bad-lost"},
		"lost unknown":   {func(w *reentry.RestoreWanted) { w.Lost = []string{"none"} }, "no-such-key"},
		"name taken":     {func(w *reentry.RestoreWanted) { w.Make = true }, "name-taken"},
		"bad name":       {func(w *reentry.RestoreWanted) { w.Make, w.Key = true, "a b" }, "bad-name"},
		"ports for disk": {func(w *reentry.RestoreWanted) { w.Ports = []int{80} }, "not-for-this-route"},
		"bad port": {
			func(w *reentry.RestoreWanted) { w.Route, w.Ports = restore.Replacement, []int{99999} },
			"bad-port",
		},
		"instance name": {func(w *reentry.RestoreWanted) { w.Route, w.NewName = restore.Replacement, "gate" }, "name-taken"},
		"bad reason":    {func(w *reentry.RestoreWanted) { w.Reason = "a\nb" }, "bad-text"},
	} {
		w := reentry.RestoreWanted{
			Login:   o.login,
			Route:   restore.HelperDisk,
			Key:     "fresh",
			Lost:    []string{"gate-lost"},
			Confirm: "gate",
		}
		c.change(&w)
		_, err := r.Reentry.StartRestore(t.Context(), r.Ines, journal.IdempotencyKey{}, w)
		var p *problem.Problem
		if !errors.As(err, &p) || p.Code != c.code {
			t.Errorf("%s: %v", name, err)
		}
	}
	if live, err := r.Store.LiveRuns(t.Context(), time.Now().Add(time.Hour)); err != nil || len(live) != 0 {
		t.Errorf("something was begun: %v %v", err, live)
	}
}
