package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
	"plumlatch/internal/runs"
	"plumlatch/internal/store"
)

// The facts of a restore. Those up to keptFact are written down with it.
const (
	routeFact       = "route"
	loginFact       = "login"
	loginNameFact   = "login name"
	keyFact         = "key"
	keyNameFact     = "key name"
	lostFact        = "lost" // the ids of the lost keys, with commas between
	lostNamesFact   = "lost names"
	removesFact     = "remove" // those of the keys whose lines go
	removeNamesFact = "remove names"
	stewardFact     = "steward" // whether there is a steward key to edit by
	holdersFact     = "holders" // who has a key that stands there
	helperSizeFact  = "helper size"
	imageAskedFact  = "image asked"
	permitsFact     = "permits"
	opensFact       = "opens"
	staticFact      = "static"
	stopFirstFact   = "stop first"
	portsFact       = "ports" // those that are waited for on a replacement
	asImageFact     = "helper image"
	addedFact       = "added"          // whether the grant was made for this
	enteredFact     = "entered before" // when the new key last opened the login
	replacementFact = "replacement"    // the id of the instance that replaces it
	newLoginFact    = "new login"
	newNameFact     = "new name"
	keptFact        = "kept"

	beforeFact  = "before " // and what: how the instance stood
	diskFact    = "disk"
	deviceFact  = "device"
	gibFact     = "gib"
	helpersFact = "helpers" // how many were made
	imageFact   = "image"
	provedFact  = "proved at"
	openedFact  = "opened by"
	leftFact    = "left " // and the step: what it could not do
	differsFact = "differs"
	// lineLeftFact tells of a line that an undo could not take out again.
	lineLeftFact = "line left"
)

const (
	yesFact = "true"
	// settlePatience is for how long what was opened or made is tried to be closed and
	// removed without a pause; it goes on after that as well.
	settlePatience = 24 * time.Hour
	// checkPatience is for how long services of a replacement are waited for.
	checkPatience = 15 * time.Minute
	// operationTries is how often an operation that the cloud began and could not end is
	// asked for.
	operationTries = 3
)

// restoring has the steps of the run that gets back into one login.
type restoring struct {
	lifecycle
	run   store.Run
	route restore.Route
}

func restorePlanOf(facts map[string]string) restore.Plan {
	return restore.Plan{
		Route: restore.Route(facts[routeFact]), Permits: facts[permitsFact] != "", Opens: facts[opensFact] != "", Lost: facts[removesFact] != "",
		Static: facts[staticFact] != "", StopFirst: facts[stopFirstFact] != "", Checks: facts[portsFact] != "",
	}
}

// restorePlan gives the steps that core ordered.
func (s *Service) restorePlan(run store.Run) runs.Plan {
	r := &restoring{lifecycle: lifecycle{Service: s, instance: run.Instance}, run: run, route: restore.Route(run.Facts[routeFact])}
	plan := runs.Plan{Ended: r.ended, Undoable: true}
	order := restorePlanOf(run.Facts)
	steps := r.steps()
	for _, name := range restore.Steps(order) {
		step := steps[name]
		step.Name = string(name)
		if step.Patience == 0 {
			step.Patience = s.Patience
		}
		if restore.Proved(order, name) && name != restore.Settle {
			step.Do = r.whateverComesOfIt(step)
		}
		if undo := step.Undo; undo != nil {
			step.Undo = func(ctx context.Context, p *runs.Progress) error { return untilDone(undo(ctx, p)) }
		}
		if s.stepHook != nil {
			step = s.stepHook(run, step)
		}
		plan.Steps = append(plan.Steps, step)
	}
	return plan
}

// untilDone marks every error of an undo as one that may pass: a run is not over while
// something that it took apart is not as it was.
func untilDone(err error) error {
	if err == nil {
		return nil
	}
	return runs.Temporary(err)
}

// whateverComesOfIt turns a step after the proof into one that does not undo the restore
// where it fails: the login is open again, and what was not done is told.
func (r *restoring) whateverComesOfIt(step runs.Step) func(context.Context, *runs.Progress) (string, error) {
	if r.route == restore.Replacement {
		return step.Do // until the address has moved, the old instance is the one that counts
	}
	do, patience := step.Do, step.Patience
	return func(ctx context.Context, p *runs.Progress) (string, error) {
		for begun := time.Now(); ; {
			outcome, err := do(ctx, p)
			if err == nil || errors.Is(err, runs.ErrRests) || ctx.Err() != nil || store.Unavailable(err) {
				return outcome, err
			}
			if !runs.IsTemporary(err) || time.Since(begun) > patience {
				return "not done: " + text.Line(err.Error(), text.MaxLine), p.SetFact(ctx, leftFact+step.Name, text.Line(err.Error(), text.MaxLine))
			}
			if err := p.Tell(ctx, 0, "waiting: "+text.Line(err.Error(), text.MaxLine)); err != nil {
				return "", err
			}
			select {
			case <-ctx.Done():
				return "", ctx.Err()
			case <-time.After(r.engine.RetryAfter):
			}
		}
	}
}

// steps are all that restores are made of.
func (r *restoring) steps() map[restore.Step]runs.Step {
	name, key, helper := r.instance.Name, r.run.Facts[keyNameFact], "a helper instance in "+r.instance.Zone
	login := r.run.Facts[loginNameFact]
	by := map[restore.Route]string{
		restore.StandingKey: "by the steward key", restore.GuestAgent: "through the guest agent", restore.MetadataKeys: "as an entry of the instance's metadata",
		restore.BrowserShell: "through the browser shell", restore.Password: "after a login with the password", restore.HelperDisk: "on the mounted disk",
	}[r.route]
	if r.route == restore.StandingKey && r.run.Facts[stewardFact] == "" {
		by = "from the machine of somebody whose key stands there"
	}
	return map[restore.Step]runs.Step{
		restore.Look:   {Title: "Write down how it stands", Intent: "Ask the cloud how " + name + " stands, to compare with afterwards", UndoIntent: "Find what is different", Do: r.look, Undo: r.compare},
		restore.Permit: {Title: "Permit the guest agent", Intent: "Permit the guest agent of " + name + " and wait until it answers", UndoIntent: "Take the permission back", Do: r.permit, Undo: r.closing(agentKind), Patience: r.Patience + restore.AgentOpenFor},
		restore.Forbid: {Title: "Take the permission back", Intent: "Take the guest agent's permission back, and see that it is gone", Do: r.closed(agentKind)},

		restore.OpenPort:  {Title: "Open the SSH port", Intent: "Let the cloud's own range in to the SSH port, and nobody else", UndoIntent: "Close it again", Do: r.openPort, Undo: r.closing(portKind)},
		restore.ClosePort: {Title: "Close the SSH port", Intent: "Close the SSH port to the cloud's own range, and see that it is closed", Do: r.closed(portKind)},

		restore.Place: {Title: "Place the new line", Intent: "Place the line of " + key + " in " + login + " " + by, UndoIntent: "Take the new line out again", Do: r.place, Undo: r.takeBack, Rests: true},
		restore.Ask:   {Title: "Ask the SSH server", Intent: "See that the SSH server shows the pinned host key and accepts " + key, Do: r.ask},

		restore.Helper:     {Title: "Bring a helper up", Intent: "Launch " + helper + " and wait until its guest agent answers", UndoIntent: "End the helper", Do: r.helper, Undo: r.dropHelpers, Patience: r.Patience + restore.AgentOpenFor},
		restore.StopIt:     {Title: "Stop the instance", Intent: "Stop " + name, UndoIntent: "Start it again, if it ran", Do: r.stopIt, Undo: r.startAgain, Rests: true},
		restore.DetachRoot: {Title: "Detach the root disk", Intent: "Detach the root disk of " + name, UndoIntent: "Attach it as root again, under its own device name", Do: r.detachRoot, Undo: r.attachAgain},
		restore.Lend:       {Title: "Attach it to the helper", Intent: "Attach the disk to the helper as a second disk", UndoIntent: "Detach it from the helper", Do: r.lend, Undo: r.fetchBack},
		restore.Mount:      {Title: "Mount it", Intent: "Mount the disk, also where its filesystem has the UUID of the helper's own", UndoIntent: "Unmount it", Do: r.mount, Undo: r.unmountAgain},
		restore.Unmount:    {Title: "Unmount it", Intent: "Write all to the disk and unmount it", Do: r.unmount},
		restore.Fetch:      {Title: "Detach it from the helper", Intent: "Detach the disk from the helper", Do: r.fetch},
		restore.Reattach:   {Title: "Attach the root disk", Intent: "Attach the disk to " + name + " as root, under its own device name", Do: r.reattach},
		restore.StartIt:    {Title: "Start the instance", Intent: "Start " + name + " and compare the host keys of its boot output with the pinned ones", UndoIntent: "Stop it again, if it was stopped", Do: r.startIt, Undo: r.stopAgain, Rests: true},
		restore.DropHelper: {Title: "End the helper", Intent: "End the helper and its own disk", Do: r.dropHelper},

		restore.Image:       {Title: "Make an image", Intent: "Copy the root disk of " + name, UndoIntent: "Delete the copy", Do: r.image, Undo: r.deleteImage},
		restore.LaunchNew:   {Title: "Launch the replacement", Intent: "Launch " + r.run.Facts[newNameFact] + " from the copy, opened by " + key + ", and pin its host keys from the boot output", UndoIntent: "End the replacement and its disk", Do: r.launchNew, Undo: r.endNew},
		restore.Check:       {Title: "Wait for its services", Intent: "Wait until the replacement answers at the ports " + r.run.Facts[portsFact], Do: r.check, Patience: checkPatience},
		restore.MoveAddress: {Title: "Move the address", Intent: "Give the static address of " + name + " to the replacement", UndoIntent: "Give the address back", Do: r.moveAddress, Undo: r.moveBack, Rests: true},
		restore.StopOld:     {Title: "Stop the old one", Intent: "Stop " + name + ", which is not ended", UndoIntent: "Start it again", Do: r.stopIt, Undo: r.startAgain, Rests: true},

		restore.Reset: {Title: "Set a new password", Intent: "Have the guest agent set a new administrator's password, sealed to " + key, Do: r.reset},
		restore.Open:  {Title: "Open the password", Intent: "Wait until somebody has opened the password with the private half of " + key + ", on their machine", Do: r.awaitOpened, Rests: true},

		restore.Enter:       {Title: "Log in", Intent: "Complete a login with " + key, Do: r.enter, Rests: true},
		restore.PasswordOff: {Title: "Turn password login off", Intent: "Turn password login off in the settings of the SSH server", Do: r.passwordsOff, Rests: true},
		restore.Remove:      {Title: "Remove the lost line", Intent: "Remove the lines of " + r.run.Facts[removeNamesFact], Do: r.remove, Rests: true},
		restore.See:         {Title: "See who gets in", Intent: "See that " + r.run.Facts[removeNamesFact] + " is refused and " + key + " accepted", Do: r.see},
		restore.Settle:      {Title: "See that nothing is left", Intent: "See that all that was opened is closed, and all that was made for this is gone", Do: r.settle, Patience: settlePatience},
	}
}

// id reads an id that the start has left.
func (r *restoring) id(p *runs.Progress, name string) (uuid.UUID, error) {
	return uuid.Parse(p.Fact(name))
}

// key returns the new key.
func (r *restoring) key(ctx context.Context, p *runs.Progress) (store.Key, error) {
	id, err := r.id(p, keyFact)
	if err != nil {
		return store.Key{}, err
	}
	return r.store.KeyByID(ctx, id)
}

// login returns the login as it is now: of the replacement, once there is one.
func (r *restoring) login(ctx context.Context, p *runs.Progress) (store.LoginToSweep, error) {
	name := loginFact
	if r.route == restore.Replacement {
		name = newLoginFact
	}
	id, err := r.id(p, name)
	if err != nil {
		return store.LoginToSweep{}, err
	}
	found, err := r.store.LoginsToSweep(ctx, []uuid.UUID{id})
	if err == nil && len(found) == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return store.LoginToSweep{}, err
	}
	return found[0], nil
}

func (r *restoring) subject(ctx context.Context, p *runs.Progress) (store.Key, store.LoginToSweep, error) {
	k, err := r.key(ctx, p)
	if err != nil {
		return k, store.LoginToSweep{}, err
	}
	l, err := r.login(ctx, p)
	return k, l, err
}

// goingKeys returns the keys whose lines are to go: the lost ones, and on a replacement
// the steward key of the instance of before, which is in its image.
func (r *restoring) goingKeys(ctx context.Context, p *runs.Progress) ([]store.Key, error) {
	ids, err := idsIn(p.Fact(removesFact))
	if err != nil {
		return nil, err
	}
	return r.store.KeysByID(ctx, ids)
}

// idsIn reads ids with commas between; none where the text is empty.
func idsIn(text string) (ids []uuid.UUID, err error) {
	if text == "" {
		return nil, nil
	}
	for part := range strings.SplitSeq(text, ",") {
		id, err := uuid.Parse(part)
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, nil
}

// look writes down how the instance stands.
func (r *restoring) look(ctx context.Context, p *runs.Progress) (string, error) {
	if r.instance.Adopted || p.Fact(beforeFact+"state") != "" {
		return "", nil
	}
	i, err := r.cloud.Instance(ctx, r.instance.CloudID)
	if err != nil {
		return "", calling(err)
	}
	disks, err := r.rootDisk(ctx)
	if err != nil {
		return "", err
	}
	facts := map[string]string{"address": i.PublicAddress, "private address": i.PrivateAddress, "firewall": i.Firewall, "state": string(i.State)}
	err = errors.Join(p.SetFact(ctx, diskFact, disks.id), p.SetFact(ctx, deviceFact, disks.device), p.SetFact(ctx, gibFact, strconv.Itoa(disks.gib)))
	for _, name := range []string{"address", "private address", "firewall", "state"} { // the state last: with it all are written
		err = errors.Join(err, p.SetFact(ctx, beforeFact+name, facts[name]))
	}
	said := "it is " + string(i.State)
	if i.PublicAddress != "" {
		said += " at " + i.PublicAddress
	}
	if disks.device != "" {
		said += ", with its root disk at " + disks.device
	}
	return said, err
}

// root is the root disk of the instance, as far as the cloud tells.
type root struct {
	id, device string
	gib        int
}

func (r *restoring) rootDisk(ctx context.Context) (root, error) {
	can, _, err := r.outline(ctx)
	if err != nil {
		return root{}, calling(err)
	}
	if !slices.Contains(can.Capabilities, cloud.CanDisks) {
		return root{}, nil
	}
	disks, err := r.cloud.Disks(ctx, r.instance.CloudID)
	if err != nil {
		return root{}, calling(err)
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
	if r.instance.Adopted || p.Fact(beforeFact+"state") == "" {
		return nil
	}
	if _, err := r.noteAddresses(ctx); err != nil {
		return err
	}
	i, err := r.cloud.Instance(ctx, r.instance.CloudID)
	if err != nil {
		return calling(err)
	}
	disk, err := r.rootDisk(ctx)
	if err != nil {
		return err
	}
	var differs []string
	for _, c := range [][3]string{
		{"state", p.Fact(beforeFact + "state"), string(i.State)}, {"public address", p.Fact(beforeFact + "address"), i.PublicAddress},
		{"private address", p.Fact(beforeFact + "private address"), i.PrivateAddress}, {"firewall group", p.Fact(beforeFact + "firewall"), i.Firewall},
		{"root disk", p.Fact(diskFact), disk.id}, {"device name of the root disk", p.Fact(deviceFact), disk.device},
	} {
		if c[1] != c[2] {
			differs = append(differs, fmt.Sprintf("the %s is %s, and was %s", c[0], orNone(c[2]), orNone(c[1])))
		}
	}
	return p.SetFact(ctx, differsFact, strings.Join(differs, "; "))
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// closed is the step that closes what was opened; closing is the undo of the opening.
func (r *restoring) closed(kind string) func(context.Context, *runs.Progress) (string, error) {
	return func(ctx context.Context, _ *runs.Progress) (string, error) { return r.shut(ctx, r.run, kind) }
}

func (r *restoring) closing(kind string) func(context.Context, *runs.Progress) error {
	return func(ctx context.Context, _ *runs.Progress) error {
		_, err := r.shut(ctx, r.run, kind)
		return err
	}
}

// settle sees that nothing is left open and nothing that was made for this is there. It
// is tried again until that is so.
func (r *restoring) settle(ctx context.Context, p *runs.Progress) (string, error) {
	var said []string
	for _, kind := range []string{portKind, agentKind} {
		closed, err := r.shut(ctx, r.run, kind)
		if err != nil {
			return "", untilDone(err)
		}
		if closed != "it was not opened" {
			said = append(said, closed)
		}
	}
	switch r.route {
	case restore.HelperDisk:
		if err := r.dropHelpers(ctx, p); err != nil {
			return "", untilDone(err)
		}
		d, _, err := r.cloud.Disk(ctx, p.Fact(diskFact))
		if err == nil && !slices.Contains(d.Attachments, r.ownPlace(p)) {
			err = errors.New("its disk is not attached as root under its own device name")
		}
		if err != nil {
			return "", untilDone(err)
		}
		said = append(said, "the helper is gone, and the disk is where it was")
	case restore.Replacement:
		if err := r.deleteImage(ctx, p); err != nil {
			return "", untilDone(err)
		}
		said = append(said, "the copy of the disk, with the old keys in it, is deleted")
	}
	out, err := r.entriesOut(ctx, p)
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
func (r *restoring) entriesOut(ctx context.Context, p *runs.Progress) ([]string, error) {
	if r.instance.Adopted || p.Fact(removesFact) == "" {
		return nil, nil
	}
	can, _, err := r.outline(ctx)
	if err != nil || !slices.Contains(can.Capabilities, cloud.CanMetadata) {
		return nil, err
	}
	lost, err := r.goingKeys(ctx, p)
	if err != nil {
		return nil, err
	}
	entries, err := r.cloud.MetadataKeys(ctx, r.instance.CloudID)
	if err != nil {
		return nil, err
	}
	left := slices.DeleteFunc(slices.Clone(entries), func(e cloud.MetadataKey) bool {
		return slices.ContainsFunc(lost, func(k store.Key) bool { return holdsKey(e.Line, k) })
	})
	if len(left) == len(entries) {
		return nil, nil
	}
	return []string{"the lost key's entry is gone from the metadata"}, r.cloud.SetMetadataKeys(ctx, r.instance.CloudID, left)
}

// ended settles grants and keys with what was done.
func (r *restoring) ended(ctx context.Context, tx *store.Store, state, reason string) error {
	run, err := tx.RunByID(ctx, r.run.ID) // with the facts that the steps left
	if err != nil {
		return err
	}
	actor, name := actorFor(run), run.Facts[loginNameFact]
	login, err := uuid.Parse(run.Facts[loginFact])
	if err != nil {
		return err
	}
	key, err := uuid.Parse(run.Facts[keyFact])
	if err != nil {
		return err
	}
	note := onKeys(r.entry(actor, "restore.ended", "login", name, run.Reason, "The restore of %s by the route %s, asked for by %s, is done: %s opens it.", name, r.route, run.RequestedBy, run.Facts[keyNameFact]), run.Facts[keyNameFact])
	if r.route == restore.WindowsPassword {
		note.Sentence = fmt.Sprintf("The administrator's password of %s was set anew and opened with %s. It should be changed at once.", run.Instance.Name, run.Facts[keyNameFact])
	}
	if state != runs.Done {
		note.Outcome = state
		note.Sentence = fmt.Sprintf("The restore of %s by the route %s, asked for by %s, was undone: %s.", name, r.route, run.RequestedBy, reason)
		if state == runs.Failed {
			note.Sentence = fmt.Sprintf("The restore of %s by the route %s, asked for by %s, failed: %s.", name, r.route, run.RequestedBy, reason)
		}
		if run.Facts[addedFact] == yesFact {
			if err := tx.WithdrawGrant(ctx, login, key, r.now(), run.RequestedBy); err != nil {
				return err
			}
		}
		return tx.Note(ctx, note)
	}
	if r.route == restore.Replacement {
		if err := r.endedReplaced(ctx, tx, run, actor); err != nil {
			return err
		}
	}
	if err := r.endLost(ctx, tx, run, actor, login); err != nil {
		return err
	}
	return tx.Note(ctx, note)
}

// endLost marks the lost keys as lost everywhere and ends their grants of the login.
func (r *restoring) endLost(ctx context.Context, tx *store.Store, run store.Run, actor Actor, login uuid.UUID) error {
	ids, err := idsIn(run.Facts[lostFact])
	if err != nil {
		return err
	}
	for _, id := range ids {
		k, err := tx.KeyByID(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			continue // its record was deleted meanwhile
		}
		if err != nil {
			return err
		}
		if k.State != "lost" {
			lost := r.entry(actor, "key.mark-lost", "key", k.Name, run.Reason, "%s is marked as lost: %s was restored because of it.", k.Name, run.Facts[loginNameFact])
			if err := errors.Join(tx.SetKeyState(ctx, id, "lost"), tx.Note(ctx, lost)); err != nil {
				return err
			}
		}
		if run.Facts[leftFact+string(restore.Remove)] == "" {
			if err := tx.WithdrawGrant(ctx, login, id, r.now(), run.RequestedBy); err != nil {
				return err
			}
		}
	}
	return nil
}
