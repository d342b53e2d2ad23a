package reentry

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
)

// The routes on which nothing stops.

// permit permits the guest agent for the while and waits until it answers.
func (r *restoring) permit(ctx context.Context, p *runs.Progress) (string, error) {
	id := r.instance.CloudID
	err := r.open(
		ctx,
		r.run,
		agentKind,
		"the guest agent's permission",
		map[string]string{"instance": id},
		restore.AgentOpenFor,
		func(string) error {
			return r.cloud.PermitAgent(ctx, id, true)
		},
	)
	if err != nil {
		return "", err
	}
	return "the guest agent answers", r.awaitAgent(ctx, id)
}

// awaitAgent returns an error that passes while an agent has not registered.
func (r *restoring) awaitAgent(ctx context.Context, id string) error {
	state, err := r.cloud.Agent(ctx, id)
	switch {
	case err != nil:
		return fleet.Calling(err)
	case state == cloud.AgentReady:
		return nil
	case state == cloud.AgentAbsent:
		return errors.New("there is no guest agent in the image")
	}
	return runs.Temporary(fmt.Errorf("the guest agent is %s", strings.ReplaceAll(string(state), "-", " ")))
}

// openPort lets the browser shell's range in for the while.
func (r *restoring) openPort(ctx context.Context, _ *runs.Progress) (string, error) {
	can, _, err := r.fleet.Outline(ctx)
	if err != nil {
		return "", fleet.Calling(err)
	}
	if can.ShellRange == nil {
		return "", errors.New("the cloud does not say from where its browser shell comes")
	}
	i, err := r.cloud.Instance(ctx, r.instance.CloudID)
	if err != nil {
		return "", fleet.Calling(err)
	}
	what := "the SSH port to the cloud's own " + *can.ShellRange
	details := map[string]string{"group": i.Firewall, "source": *can.ShellRange, "port": fmt.Sprint(i.SshPort)}
	err = r.open(ctx, r.run, portKind, what, details, restore.ShellOpenFor, func(token string) error {
		_, err := r.cloud.OpenPort(ctx, token, i.Firewall, *can.ShellRange, i.SshPort)
		return err
	})
	return "opened to " + *can.ShellRange + " alone", err
}

// elsewhere reports whether somebody places the line from their own machine.
func (r *restoring) elsewhere() bool {
	return (r.route == restore.StandingKey || r.route == restore.Password) && !r.work.Steward
}

func (r *restoring) place(ctx context.Context, p *runs.Progress) (string, error) {
	k, l, err := r.subject(ctx)
	if err != nil {
		return "", err
	}
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	switch {
	case r.route == restore.MetadataKeys:
		err = r.placeEntry(ctx, p, k, l)
		return "the entry for " + l.OSUser + " is in the instance's metadata", err
	case r.route == restore.HelperDisk:
		disk, err := r.onHelper(ctx, p, l)
		if err != nil {
			return "", err
		}
		if _, err := r.reading.DoorBy(disk, p, &r.work.Journal).Place(ctx, r.reading.MeansKey(k)); err != nil {
			return "", reading.Reaching(err)
		}
		return "the line stands in the file on the disk, with the owner, the mode and the label of its place", nil
	case r.elsewhere():
		return r.placedElsewhere(ctx, k, l)
	}
	outcome, err := r.changing(
		ctx,
		p,
		l,
		func(d *means.Door) (means.Seen, error) { return d.Place(ctx, r.reading.MeansKey(k)) },
	)
	if err != nil {
		return "", err
	}
	return "the line stands in " + name + "; " + outcome, nil
}

// changing changes the files of the login by the route's means, and records what they hold then.
func (r *restoring) changing(
	ctx context.Context,
	p *runs.Progress,
	l record.LoginToSweep,
	change func(*means.Door) (means.Seen, error),
) (outcome string, err error) {
	m, method, end, err := r.means(ctx, l)
	if err != nil {
		return "", err
	}
	defer end()
	read, err := change(r.reading.DoorBy(m, p, &r.work.Journal))
	if err != nil {
		return "", reading.Reaching(err)
	}
	return r.record(ctx, l, read, method)
}

// means is by what the route changes the files of the login. Call end when done.
func (r *restoring) means(
	ctx context.Context,
	l record.LoginToSweep,
) (m means.Means, method string, end func(), err error) {
	switch r.route {
	case restore.GuestAgent:
		if err := r.reading.AgentReady(ctx, l); err != nil {
			return nil, "", nil, err
		}
		return r.reading.AgentOf(l), reading.AgentMethod, func() {}, nil
	case restore.BrowserShell:
		return means.InShell(r.cloud, l.Instance.CloudID, l.OSUser), "read in the browser shell", func() {}, nil
	}
	session, end, err := r.reading.StewardSession(ctx, l)
	if err != nil {
		return nil, "", nil, reading.Reaching(err)
	}
	return means.Over(session), reading.StewardMethod, end, nil
}

// takeBack takes the new line out again where this run has placed it.
func (r *restoring) takeBack(ctx context.Context, p *runs.Progress) error {
	k, l, err := r.subject(ctx)
	if err != nil {
		return err
	}
	if r.elsewhere() {
		return r.tellOfLine(ctx, p, k, l)
	}
	if r.route == restore.MetadataKeys {
		if !r.work.Entries {
			return nil
		}
		return r.changeEntries(ctx, l, func(entries []cloud.MetadataKey) []cloud.MetadataKey {
			return slices.DeleteFunc(
				entries,
				func(e cloud.MetadataKey) bool { return e.User == l.OSUser && holdsKey(e.Line, k) },
			)
		})
	}
	if !r.work.Journal.HasPlaced(k.Blob) {
		return nil
	}
	switch r.route {
	case restore.HelperDisk:
		disk, err := r.onHelper(ctx, p, l)
		if err != nil {
			return err
		}
		_, err = r.taking(ctx, r.reading.DoorBy(disk, p, &r.work.Journal), k)
		return err
	case restore.GuestAgent: // whose permission may be taken back already
		if r.work.Permits {
			return r.takeBackThroughAgent(ctx, p, k, l)
		}
	case restore.BrowserShell:
		return r.takeBackInShell(ctx, p, k, l)
	}
	return r.lineOut(ctx, p, k, l)
}

// taking takes the new line out. After the point of no return, which is the login that shows that
// it opens, a restore is not undone.
func (r *restoring) taking(ctx context.Context, d *means.Door, k record.Key) (means.Seen, error) {
	return d.TakeBack(ctx, r.run.CommittedAt != nil, nil, r.reading.MeansKey(k))
}

// forUndo is what an opening that an undo needs has behind its kind.
const forUndo = " for the undo"

// again opens once more, with a closing of its own, what is closed already, does what is
// to be done, and closes it.
func (r *restoring) again(
	ctx context.Context,
	kind, what string,
	details map[string]string,
	open func(token string) error,
	do func() error,
) error {
	kind, err := r.kindForUndo(ctx, kind+forUndo)
	if err != nil {
		return err
	}
	if err := r.open(ctx, r.run, kind, what, details, restore.ShellOpenFor, open); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	_, _, err = r.shut(ctx, r.run, kind)
	return err
}

// kindForUndo returns the kind of the opening that is open for the undo, or of a new one:
// what was closed is never opened again under the same name, for which the cloud would
// answer with what it did before.
func (r *restoring) kindForUndo(ctx context.Context, kind string) (string, error) {
	list, err := r.store.ClosingsOf(ctx, r.run.ID)
	n := 1
	for _, c := range list {
		if !strings.HasPrefix(c.Kind, kind) {
			continue
		}
		if c.ClosedAt == nil && r.now().Before(c.Deadline) {
			return c.Kind, err
		}
		n++
	}
	return fmt.Sprintf("%s %d", kind, n), err
}

// openForUndo returns whether something of the kind that an undo opened is not closed yet: the try
// of the undo that opened it was cut off or failed, and it is closed only by going through again.
func (r *restoring) openForUndo(ctx context.Context, kind string) (bool, error) {
	list, err := r.store.ClosingsOf(ctx, r.run.ID)
	return slices.ContainsFunc(list, func(c record.Closing) bool {
		return strings.HasPrefix(c.Kind, kind+forUndo) && c.ClosedAt == nil
	}), err
}

// lineOut takes the new line out by the route's means, and records what stands then.
func (r *restoring) lineOut(ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
	_, err := r.changing(ctx, p, l, func(d *means.Door) (means.Seen, error) { return r.taking(ctx, d, k) })
	return err
}

func (r *restoring) takeBackThroughAgent(
	ctx context.Context,
	p *runs.Progress,
	k record.Key,
	l record.LoginToSweep,
) error {
	state, err := r.cloud.Agent(ctx, l.Instance.CloudID)
	if err != nil {
		return err
	}
	opened, err := r.openForUndo(ctx, agentKind)
	if err != nil {
		return err
	}
	if state == cloud.AgentReady && !opened {
		return r.lineOut(ctx, p, k, l)
	}
	permit := func(string) error { return r.cloud.PermitAgent(ctx, l.Instance.CloudID, true) }
	return r.again(
		ctx,
		agentKind,
		"the guest agent's permission",
		map[string]string{"instance": l.Instance.CloudID},
		permit,
		func() error {
			if err := r.awaitAgent(ctx, l.Instance.CloudID); err != nil {
				return err
			}
			return r.lineOut(ctx, p, k, l)
		},
	)
}

func (r *restoring) takeBackInShell(ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
	can, _, err := r.fleet.Outline(ctx)
	if err != nil {
		return err
	}
	i, err := r.cloud.Instance(ctx, l.Instance.CloudID)
	if err != nil {
		return err
	}
	rules, err := r.cloud.FirewallRules(ctx)
	if err != nil {
		return err
	}
	opened, err := r.openForUndo(ctx, portKind)
	if err != nil {
		return err
	}
	if can.ShellRange == nil || !opened && admits(rules, i, *can.ShellRange) {
		return r.lineOut(ctx, p, k, l)
	}
	open := func(token string) error {
		_, err := r.cloud.OpenPort(ctx, token, i.Firewall, *can.ShellRange, i.SshPort)
		return err
	}
	return r.again(
		ctx,
		portKind,
		"the SSH port to the cloud's own "+*can.ShellRange,
		map[string]string{},
		open,
		func() error { return r.lineOut(ctx, p, k, l) },
	)
}

// placedElsewhere waits until the line stands there, placed by somebody from their machine.
func (r *restoring) placedElsewhere(ctx context.Context, k record.Key, l record.LoginToSweep) (string, error) {
	accepted, err := sshio.Accepts(ctx, fleet.TargetOf(l.Instance, l.OSUser), k.Blob)
	if err != nil {
		return "", fleet.Answering(err)
	}
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	if accepted {
		return "the line stands in " + name + ", placed from somebody's machine", nil
	}
	what := "to place the line in " + name + " from their machine"
	if r.route == restore.Password {
		return "", runs.WaitFor(
			record.Waits{
				Who:  "whoever knows the password of " + name,
				What: what,
				Next: fmt.Sprintf("plumlatch restore watch %s -password", r.run.ID),
			},
		)
	}
	return "", r.waitFor(strings.Join(r.work.Holders, " or "), what)
}

// tellOfLine writes down that a line which somebody placed from their machine stays, since
// the service has no way to take it out.
func (r *restoring) tellOfLine(ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
	accepted, err := sshio.Accepts(ctx, fleet.TargetOf(l.Instance, l.OSUser), k.Blob)
	if err != nil || !accepted {
		return err
	}
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	r.work.LineLeft = fmt.Sprintf(
		"a line of %s stands in %s, and the service cannot take it out: plumlatch grant withdraw %s %s -with FILE",
		k.Name,
		name,
		k.Name,
		name,
	)
	return p.Save(ctx)
}

func holdsKey(line string, k record.Key) bool {
	public, err := keypair.ReadLine(line)
	return err == nil && bytes.Equal(public.Blob, k.Blob)
}

func (r *restoring) changeEntries(
	ctx context.Context,
	l record.LoginToSweep,
	change func([]cloud.MetadataKey) []cloud.MetadataKey,
) error {
	entries, err := r.cloud.MetadataKeys(ctx, l.Instance.CloudID)
	if err != nil {
		return fleet.Calling(err)
	}
	return fleet.Calling(r.cloud.SetMetadataKeys(ctx, l.Instance.CloudID, change(slices.Clone(entries))))
}

func (r *restoring) placeEntry(ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
	entries, err := r.cloud.MetadataKeys(ctx, l.Instance.CloudID)
	if err != nil {
		return fleet.Calling(err)
	}
	if slices.ContainsFunc(entries, func(e cloud.MetadataKey) bool { return e.User == l.OSUser && holdsKey(e.Line, k) }) {
		return nil
	}
	r.work.Entries = true
	if err := p.Save(ctx); err != nil {
		return err
	}
	return fleet.Calling(
		r.cloud.SetMetadataKeys(
			ctx,
			l.Instance.CloudID,
			append(entries, cloud.MetadataKey{User: l.OSUser, Line: keys.LineOf(k)}),
		),
	)
}

// reset has the guest agent set a new administrator's password.
func (r *restoring) reset(ctx context.Context, _ *runs.Progress) (string, error) {
	k, err := r.key(ctx)
	if err != nil {
		return "", err
	}
	password, err := r.cloud.ResetPassword(ctx, r.instance.CloudID, keys.LineOf(k))
	if err != nil {
		return "", fleet.Calling(err)
	}
	if !holdsKey(password.PublicKey, k) {
		return "", fmt.Errorf("the cloud sealed the password to another key than %s", k.Name)
	}
	return "the new password is sealed to " + k.Name, nil
}

// awaitOpened waits until somebody has opened the password.
func (r *restoring) awaitOpened(ctx context.Context, p *runs.Progress) (string, error) {
	opened, err := p.Report(ctx, string(restore.Open))
	if err != nil {
		return "", err
	}
	if opened != nil {
		return "opened by " + opened.By + ", who should change it at once", r.proved(ctx, p, r.now())
	}
	return "", runs.WaitFor(
		record.Waits{
			Who:  r.run.RequestedBy,
			What: "to open the password with the private half of " + r.work.KeyName,
			Next: fmt.Sprintf("plumlatch instance password %s -with FILE", r.instance.Name),
		},
	)
}
