package route_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/paddock"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/closing"
	"plumlatch/internal/service/reentry"
	"plumlatch/internal/service/route"
	"plumlatch/internal/service/servicetest"
)

func caseOf(route restore.Route) restoreCase {
	return restoreCases[slices.IndexFunc(restoreCases, func(c restoreCase) bool { return c.route == route })]
}

// waitsByHand waits until the restore waits for somebody to do a step by hand.
func (o *lockedOut) waitsByHand(id uuid.UUID, step restore.Step) {
	o.T.Helper()
	o.Until("the wait for "+string(step), func() bool {
		r, err := o.Reentry.Restore(o.T.Context(), id)
		return err == nil && r.Waits != nil && r.Waits.Step == string(step) && r.Waits.ByHand
	})
}

func TestWhatTheCloudHasNoCallForIsDoneByHandAndSeen(t *testing.T) {
	t.Parallel()
	r := servicetest.NewRestoreRig(t, nil)
	r.Lacks.Store("start-stop")
	o := lockOut(r, caseOf(restore.HelperDisk), "door")
	begun := o.begin()
	o.waitsByHand(begun.ID, restore.StopIt)
	op, err := r.Port.Stop(t.Context(), o.before.Id)
	if _, err := r.Port.Await(t.Context(), op, err); err != nil {
		t.Fatal(err)
	}
	o.waitsByHand(begun.ID, restore.StartIt)
	op, err = r.Port.Start(t.Context(), o.before.Id)
	if _, err := r.Port.Await(t.Context(), op, err); err != nil {
		t.Fatal(err)
	}
	if run := o.ends(begun.ID); run.State != runs.Done || len(o.judge(run)) > 0 {
		t.Errorf("%v\n%s", o.judge(run), stepsOf(run))
	}
	r.Lacks.Store("static-addresses")
	r.Down()
	r.Restart() // and asks the cloud again for what it can do
	o = lockOut(r, caseOf(restore.Replacement), "gate")
	begun = o.begin()
	o.waitsByHand(begun.ID, restore.MoveAddress)
	fresh, err := r.Fleet.Instance(t.Context(), "gate-2")
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Port.MoveAddress(t.Context(), o.before.Id, fresh.CloudID); err != nil {
		t.Fatal(err)
	}
	if run := o.ends(begun.ID); run.State != runs.Done || len(o.judge(run)) > 0 {
		t.Errorf("%v\n%s", o.judge(run), stepsOf(run))
	}
}

// TestManyRestoresAtOnceDoNotDisturbOneAnother has the routes of all kinds at work at once.
func TestManyRestoresAtOnceDoNotDisturbOneAnother(t *testing.T) {
	t.Parallel()
	r := servicetest.NewRestoreRig(t, nil)
	routes := []restore.Route{
		restore.StandingKey,
		restore.GuestAgent,
		restore.MetadataKeys,
		restore.BrowserShell,
		restore.HelperDisk,
		restore.Replacement,
	}
	var all []*lockedOut
	var begun []reentry.Restore
	for n := range 30 {
		c := caseOf(routes[n%len(routes)])
		c.steward = c.route == restore.StandingKey
		all = append(all, lockOut(r, c, fmt.Sprintf("hut-%c%c", 'a'+n/10, 'a'+n%10)))
	}
	for _, o := range all {
		begun = append(begun, o.begin())
	}
	for n, o := range all {
		run := o.ends(begun[n].ID)
		if run.State != runs.Done {
			t.Errorf("%s: %s", o.name, stepsOf(run))
		}
	}
	for n, o := range all { // now that none is at work
		o.rules = len(o.firewall())
		if run := o.ends(begun[n].ID); len(o.judge(run)) > 0 {
			t.Errorf("%s, %s: %v", o.name, o.route, o.judge(run))
		}
	}
	if rules := all[0].firewall(); len(rules) != 1 {
		t.Errorf("%+v", rules)
	}
}

func TestWhatComesAfterTheProofIsToldWhereItFailsAndUndoesNothing(t *testing.T) {
	t.Parallel()
	r := servicetest.NewRestoreRig(t, func(_ *service.Service, e *runs.Engine) {
		e.StepHook = func(_ record.Run, step runs.Step) runs.Step { return step }
	})
	o := lockOut(r, caseOf(restore.GuestAgent), "door")
	now := &at{step: string(restore.Remove), do: func(ctx context.Context) {
		i, err := r.Fleet.Instance(ctx, "door")
		if err == nil { // what is pinned is another host key from then on
			_, err = r.Store.Pool().Exec(ctx, "UPDATE host_keys SET blob = '\\x00' WHERE instance_id = $1", i.ID)
		}
		if err != nil {
			t.Error(err)
		}
	}}
	r.Engine.StepHook = now.hook
	run := o.ends(o.begin().ID)
	if run.State != runs.Done || run.ProvedAt == nil || len(run.Left) != 2 {
		t.Errorf("%+v\n%s", run.Left, stepsOf(run))
	}
	k, err := r.Keys.Key(t.Context(), "door-lost")
	if err != nil || k.State != custody.Lost {
		t.Errorf("%v %s", err, k.State)
	}
	openers, err := r.Fleet.Openers(t.Context(), "door", record.Page{Limit: 10})
	if err != nil ||
		!slices.ContainsFunc(
			openers.Items,
			func(p record.Opening) bool { return p.KeyName == "door-lost" && p.GrantedAt != nil },
		) {
		t.Errorf("the grant of a line that is still there is gone: %v", err)
	}
}

func TestTheWorryIsAboutTheBestWayBack(t *testing.T) {
	t.Parallel()
	r := servicetest.NewRestoreRig(t, nil)
	lockOut(r, restoreCase{image: "alpine-3.22", size: "large-scratch"}, "bare")
	lockOut(r, restoreCase{image: "alpine-3.22", steward: true}, "kept")
	lockOut(r, restoreCase{image: "debian-12"}, "agent")
	page, err := r.Access.Reach(t.Context(), access.ReachWanted{Limit: 10, Worry: true})
	if err != nil || len(page.Items) != 1 || page.Worrying != 1 || page.Items[0].Instance != "bare" ||
		!strings.Contains(page.Items[0].Worry, "the temporary disk (200 GiB)") {
		t.Fatalf("%v %+v", err, page)
	}
	routes, err := r.Reentry.Routes(t.Context(), reentry.RoutesWanted{Login: "bare", Rehearse: true})
	if err != nil || routes.Worry != page.Items[0].Worry || routes.Options[0].Route != restore.HelperDisk ||
		len(routes.Rehearsed) != 2 {
		t.Errorf("%v %+v", err, routes)
	}
	if live, err := r.Store.LiveRuns(t.Context(), time.Now().Add(time.Hour)); err != nil || len(live) != 0 {
		t.Errorf("a rehearsal began something: %v %v", err, live)
	}
}

// TestAnUndoOpensAnewWhatWasClosedUnderIt has the closing of the undo closed before the
// undo has done anything, as by its deadline while the service was away.
func TestAnUndoOpensAnewWhatWasClosedUnderIt(t *testing.T) {
	t.Parallel()
	hook := func(_ record.Run, s runs.Step) runs.Step { return s }
	r := servicetest.NewRestoreRig(t, func(_ *service.Service, e *runs.Engine) {
		e.StepHook = func(run record.Run, step runs.Step) runs.Step { return hook(run, step) }
	})
	for _, way := range []restore.Route{restore.GuestAgent, restore.BrowserShell} {
		o := lockOut(r, caseOf(way), "door-"+string(way))
		kind, last := closing.Agent+route.ForUndo+" 1", restore.Forbid
		if way == restore.BrowserShell {
			kind, last = closing.Port+route.ForUndo+" 1", restore.Ask
		}
		var id uuid.UUID
		hold := make(chan struct{})
		hook = failing(last, &at{step: string(restore.Place), undo: true, do: func(ctx context.Context) {
			<-hold
			over := r.Now().Add(-time.Minute)
			c := record.Closing{
				ID:         uuid.NewSHA1(id, []byte(kind)),
				RunID:      id,
				InstanceID: r.InstanceID(o.name),
				Kind:       kind,
				What:       "what the undo needs",
				Details:    map[string]string{"instance": o.before.Id},
				WrittenAt:  over,
				Deadline:   over,
				OpenedAt:   &over,
				ClosedAt:   &over,
			}
			err := r.Store.WriteClosing(ctx, c)
			if way == restore.BrowserShell { // and the cloud has done and undone it under that name
				rule, opened := r.Port.OpenPort(ctx, c.ID.String(), "default", "127.255.16.0/28", paddock.SSHPort)
				err = errors.Join(err, opened, r.Port.ClosePort(ctx, rule.Id))
			}
			if err != nil {
				t.Error(err)
			}
		}})
		begun := o.begin()
		id = begun.ID
		close(hold)
		run := o.ends(begun.ID)
		if wrong := o.judge(run); run.State != runs.Undone || len(wrong) > 0 {
			t.Errorf("%s: %v\n%s", way, wrong, stepsOf(run))
		}
		found := false
		for _, c := range run.Closings {
			found = found || strings.HasSuffix(c.Kind, route.ForUndo+" 2") && c.ClosedAt != nil
		}
		if !found {
			t.Errorf("%s: it was not opened again: %+v", way, run.Closings)
		}
	}
}
