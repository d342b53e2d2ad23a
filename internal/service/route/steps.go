package route

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/closing"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

const (
	// settlePatience is for how long what was opened or made is tried to be closed and
	// removed without a pause; it continues after that as well.
	settlePatience = 24 * time.Hour
	// checkPatience is for how long services of a replacement are waited for.
	checkPatience = 15 * time.Minute
	// operationTries is how often an operation that the cloud began and could not end is
	// asked for.
	operationTries = 3
)

// restoring has the steps of the run that gets back into one login.
type restoring struct {
	*Service
	machine  *fleet.Machine
	cloud    *cloud.Cloud // in which the instance is
	instance record.Instance
	run      record.Run
	work     *Work
	route    *Route
}

func WorkOf(run record.Run) (*Work, error) { return runs.PayloadOf(run, earlierRestore) }

// plan gives the steps that core ordered.
func (s *Service) plan(run record.Run) (runs.Plan, error) {
	w, err := WorkOf(run)
	if err != nil {
		return runs.Plan{}, err
	}
	r := &restoring{
		Service:  s,
		machine:  s.fleet.Machine(run.Instance),
		cloud:    s.clouds.Of(run.Instance.InCloud),
		instance: run.Instance,
		run:      run,
		work:     w,
		route:    s.Route(w.Route),
	}
	if r.route == nil {
		return runs.Plan{}, fmt.Errorf("%w: there is no route %q", runs.ErrPayload, w.Route)
	}
	plan := runs.Plan{Payload: w, Ended: r.ended, Undoable: true}
	order := w.plan()
	steps := r.steps()
	for _, name := range r.route.Steps(order) {
		step := steps[name]
		step.Name = string(name)
		step.Commits = name == r.route.Commit(order)
		if step.Patience == 0 {
			step.Patience = s.Patience
		}
		if undo := step.Undo; undo != nil {
			step.Undo = func(ctx context.Context, p *runs.Progress) error { return untilDone(undo(ctx, p)) }
		}
		plan.Steps = append(plan.Steps, step)
	}
	return plan, nil
}

// untilDone marks every error of an undo as one that may pass: a run is not over while
// something that it took apart is not as it was.
func untilDone(err error) error {
	if err == nil {
		return nil
	}
	return runs.Temporary(err)
}

// steps are what the restore is made of: those of all routes, and those of its own.
func (r *restoring) steps() map[restore.Step]runs.Step {
	key, login, removes := r.work.KeyName, r.work.LoginName, strings.Join(NamesOf(r.work.Removes), ", ")
	by := ""
	if r.route.by != nil {
		by = " " + r.route.by(r)
	}
	all := map[restore.Step]runs.Step{
		restore.Look: {
			Title:      "Record its state",
			Intent:     "Ask the cloud how " + r.instance.Name + " is, to compare with afterwards",
			UndoIntent: "Find what is different",
			Do:         r.look,
			Undo:       r.compare,
		},
		restore.Place: {
			Title:      "Place the new line",
			Intent:     "Place the line of " + key + " in " + login + by,
			UndoIntent: "Take the new line out again",
			Do:         r.place,
			Undo:       r.takeBack,
		},
		restore.Ask: {
			Title:  "Ask the SSH server",
			Intent: "See that the SSH server shows the pinned host key and accepts " + key,
			Do:     r.ask,
		},
		restore.Enter:  {Title: "Log in", Intent: "Complete a login with " + key, Do: r.enter},
		restore.Remove: {Title: "Remove the lost line", Intent: "Remove the lines of " + removes, Do: r.remove},
		restore.See: {
			Title:  "See who gets in",
			Intent: "See that " + removes + " is refused and " + key + " accepted",
			Do:     r.see,
		},
		restore.Settle: {
			Title:    "See that nothing is left",
			Intent:   "See that all that was opened is closed, and all that was made for this is gone",
			Do:       r.settle,
			Patience: settlePatience,
		},
	}
	if r.route.steps != nil {
		maps.Copy(all, r.route.steps(r))
	}
	return all
}

// place brings the line of the new key to its place.
func (r *restoring) place(ctx context.Context, p *runs.Progress) (string, error) {
	k, l, err := r.subject(ctx)
	if err != nil {
		return "", err
	}
	return r.route.place(ctx, r, p, k, l)
}

// takeBack takes the new line out again where this run has placed it.
func (r *restoring) takeBack(ctx context.Context, p *runs.Progress) error {
	k, l, err := r.subject(ctx)
	if err != nil {
		return err
	}
	return r.route.takeBack(ctx, r, p, k, l)
}

// login returns the login as it is now: of the replacement, where there will be one.
func (r *restoring) login(ctx context.Context) (record.LoginToSweep, error) {
	id := r.work.Login
	if r.work.NewLogin != uuid.Nil {
		id = r.work.NewLogin
	}
	found, err := r.store.LoginsToSweep(ctx, []uuid.UUID{id})
	if err == nil && len(found) == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return record.LoginToSweep{}, err
	}
	return found[0], nil
}

// key returns the new key.
func (r *restoring) key(ctx context.Context) (record.Key, error) {
	return r.store.KeyByID(ctx, r.work.Key)
}

func (r *restoring) subject(ctx context.Context) (record.Key, record.LoginToSweep, error) {
	k, err := r.key(ctx)
	if err != nil {
		return k, record.LoginToSweep{}, err
	}
	l, err := r.login(ctx)
	return k, l, err
}

// goingKeys returns the keys whose lines are to go: the lost ones, and on a replacement
// the steward key of the previous instance, which is in its image.
func (r *restoring) goingKeys(ctx context.Context) ([]record.Key, error) {
	return r.store.KeysByID(ctx, IdsOf(r.work.Removes))
}

// proved keeps when a login with the new key was completed.
func (r *restoring) proved(ctx context.Context, p *runs.Progress, at time.Time) error {
	r.work.ProvedAt = &at
	return p.Save(ctx)
}

func portsText(ports []int) string {
	words := make([]string, len(ports))
	for n, port := range ports {
		words[n] = strconv.Itoa(port)
	}
	return strings.Join(words, ", ")
}

// look writes down the state of the instance.
func (r *restoring) look(ctx context.Context, p *runs.Progress) (string, error) {
	if r.instance.Adopted || r.work.Before != nil {
		return "", nil
	}
	i, err := r.cloud.Instance(ctx, r.instance.CloudID)
	if err != nil {
		return "", fleet.Calling(err)
	}
	disk, err := r.rootDisk(ctx)
	if err != nil {
		return "", err
	}
	r.work.Disk, r.work.Device, r.work.GiB = disk.id, disk.device, disk.gib
	r.work.Before = &stoodAs{
		State:          machines.State(i.State),
		Address:        i.PublicAddress,
		PrivateAddress: i.PrivateAddress,
		Firewall:       i.Firewall,
	}
	said := "it is " + string(i.State)
	if i.PublicAddress != "" {
		said += " at " + i.PublicAddress
	}
	if disk.device != "" {
		said += ", with its root disk at " + disk.device
	}
	return said, p.Save(ctx)
}

// root is the root disk of the instance, as far as the cloud tells.
type root struct {
	id, device string
	gib        int
}

func (r *restoring) rootDisk(ctx context.Context) (root, error) {
	can, _, err := r.clouds.Outline(ctx, r.instance.InCloud)
	if err != nil {
		return root{}, fleet.Calling(err)
	}
	if !slices.Contains(can.Capabilities, cloud.CanDisks) {
		return root{}, nil
	}
	disks, err := r.cloud.Disks(ctx, r.instance.CloudID)
	if err != nil {
		return root{}, fleet.Calling(err)
	}
	for _, d := range disks {
		for _, a := range d.Attachments {
			if a.Instance == r.instance.CloudID && a.Root {
				return root{d.Id, a.Device, d.SizeGib}, nil
			}
		}
	}
	return root{}, nil
}

// compare finds what is different after the undo, and writes it down for the report.
func (r *restoring) compare(ctx context.Context, p *runs.Progress) error {
	before := r.work.Before
	if r.instance.Adopted || before == nil {
		return nil
	}
	if _, err := r.machine.NoteAddresses(ctx); err != nil {
		return err
	}
	i, err := r.cloud.Instance(ctx, r.instance.CloudID)
	if err != nil {
		return fleet.Calling(err)
	}
	disk, err := r.rootDisk(ctx)
	if err != nil {
		return err
	}
	r.work.Differs = restore.Differs(
		restore.Stood{
			State:          before.State,
			Address:        before.Address,
			PrivateAddress: before.PrivateAddress,
			Firewall:       before.Firewall,
			Disk:           r.work.Disk,
			Device:         r.work.Device,
		},
		restore.Stood{
			State:          machines.State(i.State),
			Address:        i.PublicAddress,
			PrivateAddress: i.PrivateAddress,
			Firewall:       i.Firewall,
			Disk:           disk.id,
			Device:         disk.device,
		},
	)
	return p.Save(ctx)
}

// closed is the step that closes what was opened; closing is the undo of the opening.
func (r *restoring) closed(kind string) func(context.Context, *runs.Progress) (string, error) {
	return func(ctx context.Context, _ *runs.Progress) (string, error) {
		said, _, err := r.closings.Shut(ctx, r.run, kind)
		return said, err
	}
}

func (r *restoring) closing(kind string) func(context.Context, *runs.Progress) error {
	return func(ctx context.Context, _ *runs.Progress) error {
		_, _, err := r.closings.Shut(ctx, r.run, kind)
		return err
	}
}

// settle sees that nothing is left open and nothing that was made for this is there. It
// is tried again for settlePatience; what is open then is closed by its deadline in any case.
func (r *restoring) settle(ctx context.Context, p *runs.Progress) (string, error) {
	var said []string
	for _, kind := range []string{closing.Port, closing.Agent} {
		closed, opened, err := r.closings.Shut(ctx, r.run, kind)
		if err != nil {
			return "", untilDone(err)
		}
		if opened {
			said = append(said, closed)
		}
	}
	if r.route.settled != nil {
		of, err := r.route.settled(ctx, r, p)
		if err != nil {
			return "", untilDone(err)
		}
		said = append(said, of)
	}
	out, err := r.entriesOut(ctx)
	if err != nil {
		return "", untilDone(err)
	}
	said = append(said, out...)
	if len(said) == 0 {
		return "nothing was opened or made for it", nil
	}
	return strings.Join(said, "; "), nil
}

// entriesOut takes the lost keys out of the instance's metadata, from where a process in
// the guest would place them again.
func (r *restoring) entriesOut(ctx context.Context) ([]string, error) {
	if r.instance.Adopted || len(r.work.Removes) == 0 {
		return nil, nil
	}
	can, _, err := r.clouds.Outline(ctx, r.instance.InCloud)
	if err != nil || !slices.Contains(can.Capabilities, cloud.CanMetadata) {
		return nil, err
	}
	lost, err := r.goingKeys(ctx)
	if err != nil {
		return nil, err
	}
	entries, err := r.cloud.MetadataKeys(ctx, r.instance.CloudID)
	if err != nil {
		return nil, err
	}
	left := slices.DeleteFunc(slices.Clone(entries), func(e cloud.MetadataKey) bool {
		return slices.ContainsFunc(lost, func(k record.Key) bool { return holdsKey(e.Line, k) })
	})
	if len(left) == len(entries) {
		return nil, nil
	}
	return []string{
			"the lost key's entry is gone from the metadata",
		}, r.cloud.SetMetadataKeys(
			ctx, r.instance.CloudID, left,
		)
}

// ended settles grants and keys with what was done.
func (r *restoring) ended(ctx context.Context, tx *store.Store, state runs.State, reason string) error {
	run, w := r.run, r.work
	actor, name := journal.ForRun(run), w.LoginName
	note := journal.OnKeys(
		r.journal.Entry(
			actor, cmp.Or(r.route.told, "restore.ended"), "login", name, run.Reason,
			journal.Facts{
				"route":    string(w.Route),
				"by":       run.RequestedBy,
				"key":      w.KeyName,
				"instance": run.Instance.Name,
				"reason":   reason,
			},
		),
		w.KeyName,
	)
	if state != runs.Done {
		journal.Instead(&note, string(state), "restore.ended:undone")
		if state == runs.Failed || state == runs.NeedsPerson {
			journal.Instead(&note, string(state), "restore.ended:failed")
		}
		if w.Added {
			if err := tx.WithdrawGrant(ctx, w.Login, w.Key, r.now(), run.RequestedBy); err != nil {
				return err
			}
		}
		return tx.Note(ctx, note)
	}
	if r.route.ended != nil {
		if err := r.route.ended(ctx, r, tx, actor); err != nil {
			return err
		}
	}
	if err := r.endLost(ctx, tx, actor); err != nil {
		return err
	}
	return tx.Note(ctx, note)
}

// endLost marks the lost keys as lost everywhere and ends their grants of the login.
func (r *restoring) endLost(ctx context.Context, tx *store.Store, actor journal.By) error {
	fresh, err := tx.RunByID(ctx, r.run.ID)
	if err != nil {
		return err
	}
	lineLeft := slices.ContainsFunc(
		fresh.Steps,
		func(st record.RunStep) bool { return st.Name == string(restore.Remove) && st.State == runs.StepLeft },
	)
	ids := make([]uuid.UUID, len(r.work.Lost))
	for n, lost := range r.work.Lost {
		ids[n] = lost.ID
	}
	keys, err := tx.KeysByID(ctx, ids) // but for those whose record was deleted meanwhile
	if err != nil {
		return err
	}
	for _, k := range keys {
		if k.State != custody.Lost {
			e := r.journal.Entry(
				actor, "key.mark-lost:restored", "key", k.Name, r.run.Reason,
				journal.Facts{"login": r.work.LoginName},
			)
			if err := tx.SetKeyState(ctx, k.ID, custody.Lost); err != nil {
				return err
			}
			if err := tx.Note(ctx, e); err != nil {
				return err
			}
		}
		if !lineLeft {
			if err := tx.WithdrawGrant(ctx, r.work.Login, k.ID, r.now(), r.run.RequestedBy); err != nil {
				return err
			}
		}
	}
	return nil
}
