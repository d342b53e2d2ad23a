package fleet

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/userdata"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// The kinds of runs that change an instance.
const (
	launchKind = "launch"
	startKind  = "start"
	stopKind   = "stop"
	endKind    = "delete"
)

const (
	// cloudPatience is for how long a cloud may be away before a run gives up.
	cloudPatience = 2 * time.Minute
	// operationPatience is for how long an operation of the cloud may take.
	operationPatience = 20 * time.Minute
	// SshPatience is for how long a booted instance may take to answer SSH.
	SshPatience = 2 * time.Minute
	// An operation is asked for after firstPoll, and then less and less often.
	firstPoll = 5 * time.Millisecond
	pollEvery = 100 * time.Millisecond
)

const (
	askedMethod = "asked the SSH server"
	bootLearnt  = "cloud boot output"
)

func (s *Service) lifecyclePlan(run record.Run) (runs.Plan, error) {
	w, err := runs.PayloadOf(run, earlierLifecycle)
	if err != nil {
		return runs.Plan{}, err
	}
	l := &lifecycle{s, s.Machine(run.Instance), w}
	name := run.Instance.Name
	switch run.Kind {
	case launchKind:
		return runs.Plan{Payload: w, Ended: l.launchEnded(run), Steps: []runs.Step{
			{
				Name:       "disk",
				Title:      "Disk",
				Intent:     "Ask the cloud for " + name + " and wait for its disk",
				UndoIntent: "Have the cloud end the instance and its disks",
				Do:         l.disk,
				Undo:       l.undoLaunch,
				Patience:   cloudPatience,
			},
			{
				Name:     "instance",
				Title:    "Instance",
				Intent:   "Wait for the instance and its addresses",
				Do:       l.awaitPhase("boot"),
				Patience: cloudPatience,
			},
			{
				Name:     "boot",
				Title:    "First boot",
				Intent:   "Wait for the first boot, which places the keys, and pin the host keys from the boot output",
				Do:       l.boot,
				Patience: cloudPatience,
			},
			{
				Name:     "ssh",
				Title:    "SSH answering",
				Intent:   "Check the host key and ask the SSH server for each key",
				Do:       l.answer,
				Patience: SshPatience,
			},
		}}, nil
	case startKind:
		return runs.Plan{Payload: w, Ended: l.changeEnded(run, machines.Running), Steps: []runs.Step{
			{
				Name:       "start",
				Title:      "Start",
				Intent:     "Have the cloud start " + name,
				UndoIntent: "Have the cloud stop it again",
				Do:         l.begin((*cloud.Cloud).Start, cloud.Running),
				Undo:       l.stopAgain,
				Patience:   cloudPatience,
			},
			{
				Name:     "boot",
				Title:    "Boot",
				Intent:   "Wait for the boot and compare the host keys of the boot output with the pinned ones",
				Do:       l.boot,
				Patience: cloudPatience,
			},
			{
				Name:     "ssh",
				Title:    "SSH answering",
				Intent:   "Check the host key and ask the SSH server for each key",
				Do:       l.answer,
				Patience: SshPatience,
			},
		}}, nil
	case stopKind:
		return runs.Plan{Payload: w, Ended: l.changeEnded(run, machines.Stopped), Steps: []runs.Step{
			{
				Name:     "stop",
				Title:    "Stop",
				Intent:   "Have the cloud stop " + name,
				Do:       l.begin((*cloud.Cloud).Stop, cloud.Stopped),
				Patience: cloudPatience,
			},
			{
				Name:     "stopped",
				Title:    "Stopped",
				Intent:   "Wait until it has stopped and note its addresses",
				Do:       l.awaitEnd,
				Patience: cloudPatience,
			},
		}}, nil
	case endKind:
		return runs.Plan{Payload: w, Ended: l.changeEnded(run, machines.Deleted), Steps: []runs.Step{
			{
				Name:     "delete",
				Title:    "End",
				Intent:   "Have the cloud end " + name + " and its disks",
				Do:       l.begin((*cloud.Cloud).Delete, cloud.Deleted),
				Patience: cloudPatience,
			},
			{Name: "gone", Title: "Gone", Intent: "Wait until it is gone", Do: l.awaitEnd, Patience: cloudPatience},
		}}, nil
	}
	return runs.Plan{}, fmt.Errorf("there is no kind of run %q", run.Kind)
}

// lifecycle has the steps of the runs that bring up, start, stop and end one instance.
type lifecycle struct {
	*Service
	machine *Machine
	work    *lifecycleWork
}

// began keeps the operation that was begun.
func (l *lifecycle) began(ctx context.Context, p *runs.Progress, operation string) error {
	l.work.Operation = operation
	return p.Save(ctx)
}

// Calling marks the errors of a cloud that is away as temporary.
func Calling(err error) error {
	if errors.Is(err, cloud.ErrUnreachable) {
		return runs.Temporary(err)
	}
	return err
}

// disk asks for the instance under the run's id, so that asking again after a
// cut makes no second one.
func (l *lifecycle) disk(ctx context.Context, p *runs.Progress) (string, error) {
	login, err := l.store.LoginOf(ctx, l.machine.Instance.ID, l.machine.Instance.LoginUser)
	if err != nil {
		return "", err
	}
	keys, err := l.store.GrantedKeys(ctx, login.ID)
	if err != nil {
		return "", err
	}
	lines := make([]string, len(keys))
	for i, k := range keys {
		lines[i] = l.keys.LineFor(k)
	}
	data, err := userdata.Render(userdata.Config{LoginUser: l.machine.Instance.LoginUser, Keys: lines})
	if err != nil {
		return "", err
	}
	op, err := l.machine.Cloud.Launch(ctx, cloud.Launch{
		RequestToken: p.Run().ID.String(),
		Name:         l.machine.Instance.Name,
		Image:        l.machine.Instance.Image,
		Size:         l.machine.Instance.Size,
		Zone:         l.machine.Instance.Zone,
		UserData:     &data, KeyLabel: &l.machine.Instance.KeyLabel, StaticAddress: &l.machine.Instance.StaticAddress,
	})
	if err != nil {
		return "", Calling(err)
	}
	if err := l.machine.Set(ctx, record.InstanceChange{CloudID: op.Instance}); err != nil {
		return "", err
	}
	if err := l.began(ctx, p, op.Id); err != nil {
		return "", err
	}
	if err := l.machine.awaitUntil(
		ctx,
		p,
		op.Id,
		func(op cloud.Operation) bool { return phaseOrder[op.Phase] >= phaseOrder["instance"] },
	); err != nil {
		return "", err
	}
	return "the disk is ready", nil
}

// undoLaunch finds out whether the cloud ever received the launch.
func (l *lifecycle) undoLaunch(ctx context.Context, p *runs.Progress) error {
	return l.machine.EndLaunched(ctx, p, p.Run().ID.String())
}

// phaseOrder is the order of a launch's phases in the adapter contract.
var phaseOrder = map[string]int{"disk": 0, "instance": 1, "boot": 2}

// awaitPhase waits until the launch has come to the phase and tells of the addresses.
func (l *lifecycle) awaitPhase(phase string) func(context.Context, *runs.Progress) (string, error) {
	return func(ctx context.Context, p *runs.Progress) (string, error) {
		err := l.machine.awaitUntil(
			ctx,
			p,
			l.work.Operation,
			func(op cloud.Operation) bool { return phaseOrder[op.Phase] >= phaseOrder[phase] },
		)
		if err != nil {
			return "", err
		}
		i, err := l.machine.NoteAddresses(ctx)
		if err != nil || i.PublicAddress == "" {
			return "", err
		}
		return "public address " + i.PublicAddress, nil
	}
}

// boot waits for the boot's end. The first host keys are pinned, later ones
// must be the pinned ones.
func (l *lifecycle) boot(ctx context.Context, p *runs.Progress) (string, error) {
	if err := l.machine.Await(ctx, p, l.work.Operation); err != nil {
		return "", err
	}
	if _, err := l.machine.NoteAddresses(ctx); err != nil {
		return "", err
	}
	return l.machine.PinBoot(ctx)
}

func pinned(pins []record.HostKey, k keypair.Public) bool {
	for _, p := range pins {
		if string(p.Blob) == string(k.Blob) {
			return true
		}
	}
	return false
}

// answer asks the SSH server for each granted key and records what it said.
func (l *lifecycle) answer(ctx context.Context, _ *runs.Progress) (string, error) {
	i, err := l.store.InstanceByID(ctx, l.machine.Instance.ID)
	if err != nil {
		return "", err
	}
	login, err := l.store.LoginOf(ctx, i.ID, i.LoginUser)
	if err != nil {
		return "", err
	}
	keys, err := l.store.GrantedKeys(ctx, login.ID)
	if err != nil {
		return "", err
	}
	target := l.Target(i, i.LoginUser)
	if len(keys) == 0 {
		if err := sshio.Answers(ctx, target); err != nil {
			return "", Answering(err)
		}
		return "the SSH server answers; nobody can log in, since no key was placed", nil
	}
	var sightings []record.Sighting
	var accepted, refused []string
	for _, k := range keys {
		yes, err := sshio.Accepts(ctx, target, k.Blob)
		if err != nil {
			return "", Answering(err)
		}
		if yes {
			accepted = append(accepted, k.Name)
		} else {
			refused = append(refused, k.Name)
		}
		sightings = append(
			sightings,
			record.Sighting{LoginID: login.ID, KeyID: k.ID, SeenAt: l.now(), Method: askedMethod, Present: yes, Opens: true},
		)
	}
	if err := l.store.PutSightings(ctx, sightings); err != nil {
		return "", err
	}
	if len(refused) > 0 {
		return "", fmt.Errorf("the SSH server does not accept %s for %s", strings.Join(refused, ", "), i.LoginUser)
	}
	return fmt.Sprintf("%s@%s accepts %s", i.LoginUser, i.Name, strings.Join(accepted, ", ")), nil
}

// Answering marks the errors of a host that does not answer yet as temporary; a
// wrong host key is for good.
func Answering(err error) error {
	if errors.Is(err, sshio.ErrHostKey) {
		return err
	}
	if hop, ok := errors.AsType[*sshio.HopError](err); ok && hop.Final() {
		return err
	}
	return runs.Temporary(err)
}

// noOperation stands in for the id of an operation that had ended before a cut.
const noOperation = "none"

// begin asks the cloud for an operation that ends in the state. Where a cut
// hid that the operation was done, there is nothing to ask for.
func (l *lifecycle) begin(
	ask func(*cloud.Cloud, context.Context, string) (cloud.Operation, error), end cloud.InstanceState,
) func(context.Context, *runs.Progress) (string, error) {
	return func(ctx context.Context, p *runs.Progress) (string, error) {
		if l.work.Operation != "" {
			return "", nil // asked before a cut
		}
		op, err := ask(l.machine.Cloud, ctx, l.machine.Instance.CloudID)
		if err == nil {
			return "", l.began(ctx, p, op.Id)
		}
		if cloud.NotThere(err) {
			return "", fmt.Errorf("the cloud no longer knows %s", l.machine.Instance.Name)
		}
		if i, again := l.machine.Cloud.Instance(ctx, l.machine.Instance.CloudID); again == nil && i.State == end {
			return "it was " + string(end) + " already", l.began(ctx, p, noOperation)
		}
		return "", Calling(err)
	}
}

func (l *lifecycle) awaitEnd(ctx context.Context, p *runs.Progress) (string, error) {
	if err := l.machine.Await(ctx, p, l.work.Operation); err != nil {
		return "", err
	}
	_, err := l.machine.NoteAddresses(ctx)
	return "", err
}

func (l *lifecycle) stopAgain(ctx context.Context, p *runs.Progress) error {
	i, err := l.machine.Cloud.Instance(ctx, l.machine.Instance.CloudID)
	if err != nil {
		return Calling(err)
	}
	if i.State == cloud.Stopped {
		return nil
	}
	op, err := l.machine.Cloud.Stop(ctx, i.Id)
	if err != nil {
		return Calling(err)
	}
	if err := l.machine.Await(ctx, p, op.Id); err != nil {
		return err
	}
	_, err = l.machine.NoteAddresses(ctx)
	return err
}

// launchEnded makes the instance a running one, or frees its name.
func (l *lifecycle) launchEnded(run record.Run) func(context.Context, *store.Store, runs.State, string) error {
	actor := journal.ForRun(run)
	return func(ctx context.Context, tx *store.Store, state runs.State, reason string) error {
		name := run.Instance.Name
		if state == runs.Done {
			e := l.journal.Entry(
				actor, "instance.launched", "instance", name, run.Reason,
				journal.Facts{"by": run.RequestedBy},
			)
			if err := tx.ChangeInstance(ctx, run.InstanceID, record.InstanceChange{State: machines.Running}); err != nil {
				return err
			}
			return tx.Note(ctx, e)
		}
		change := record.InstanceChange{State: machines.Failed}
		told := "instance.launched:undone"
		if state == runs.Undone {
			change.GoneAt = new(l.now())
			if err := l.Forget(ctx, tx, run.InstanceID); err != nil {
				return err
			}
		} else {
			told = "instance.launched:failed"
		}
		e := l.journal.Entry(
			actor, told, "instance", name, run.Reason,
			journal.Facts{"by": run.RequestedBy, "reason": reason},
		)
		e.Outcome = string(state)
		if err := tx.ChangeInstance(ctx, run.InstanceID, change); err != nil {
			return err
		}
		return tx.Note(ctx, e)
	}
}

// changeEnded gives the instance its new state, or what the cloud says of it.
func (l *lifecycle) changeEnded(
	run record.Run, success machines.State,
) func(context.Context, *store.Store, runs.State, string) error {
	actor := journal.ForRun(run)
	return func(ctx context.Context, tx *store.Store, state runs.State, reason string) error {
		name := run.Instance.Name
		e := l.journal.Entry(
			actor, "instance."+string(success), "instance", name, run.Reason,
			journal.Facts{"by": run.RequestedBy, "reason": reason},
		)
		change := record.InstanceChange{State: success}
		switch {
		case state != runs.Done:
			change.State = l.work.StateBefore
			journal.Instead(&e, string(state), e.Told+":not")
		case success == machines.Deleted:
			change.GoneAt = new(l.now())
			if err := l.Forget(ctx, tx, run.InstanceID); err != nil {
				return err
			}
		}
		if err := tx.ChangeInstance(ctx, run.InstanceID, change); err != nil {
			return err
		}
		return tx.Note(ctx, e)
	}
}

// lifecycleWork is the payload of the runs that launch, start, stop and end an instance.
type lifecycleWork struct {
	// Operation is the cloud's id of the one that was begun; noOperation where it had ended.
	Operation string `json:"operation,omitempty"`
	// StateBefore is the instance's.
	StateBefore machines.State `json:"state_before,omitempty"`
}

func earlierLifecycle(facts map[string]string) (lifecycleWork, error) {
	return lifecycleWork{Operation: facts["operation"], StateBefore: machines.State(facts["state-before"])}, nil
}
