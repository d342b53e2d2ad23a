package route

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
)

// entrance is by what the files of a login are changed, what a look by it is called, and what ends it.
type entrance struct {
	by     means.Means
	method string
	end    func()
}

// reaching opens a way to the files of a login.
type reaching func(ctx context.Context, r *restoring, l record.LoginToSweep) (entrance, error)

// bySteward is with the steward key.
func bySteward(ctx context.Context, r *restoring, l record.LoginToSweep) (entrance, error) {
	session, end, err := r.reading.StewardSession(ctx, l)
	if err != nil {
		return entrance{}, reading.Reaching(err)
	}
	return entrance{means.Over(session), reading.StewardMethod, end}, nil
}

// placeBy places the new key's line.
func (r *restoring) placeBy(
	ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep, reach reaching,
) (string, error) {
	outcome, err := r.changing(
		ctx,
		p,
		l,
		reach,
		func(d *means.Door) (means.Seen, error) { return d.Place(ctx, r.reading.MeansKey(k)) },
	)
	if err != nil {
		return "", err
	}
	return "the line is in " + fleet.LoginName(l.OSUser, l.Instance.Name) + "; " + outcome, nil
}

// changing changes the files of the login, and records what they hold then.
func (r *restoring) changing(
	ctx context.Context, p *runs.Progress, l record.LoginToSweep, reach reaching,
	change func(*means.Door) (means.Seen, error),
) (outcome string, err error) {
	a, err := reach(ctx, r, l)
	if err != nil {
		return "", err
	}
	defer a.end()
	read, err := change(r.reading.DoorBy(a.by, p, &r.work.Journal))
	if err != nil {
		return "", reading.Reaching(err)
	}
	return r.record(ctx, l, read, a.method)
}

// taking takes the new line out. After the point of no return, which is the login that shows that
// it opens, a restore is not undone.
func (r *restoring) taking(ctx context.Context, d *means.Door, k record.Key) (means.Seen, error) {
	return d.TakeBack(ctx, r.run.CommittedAt != nil, nil, r.reading.MeansKey(k))
}

// forUndo is what an opening that an undo needs has behind its kind.
const forUndo = " for the undo"

// again opens once more, with a closing of its own, what is closed already, does what
// there is to do, and closes it.
func (r *restoring) again(
	ctx context.Context, kind, what string, details map[string]string, open func(token string) error,
	do func() error,
) error {
	kind, err := r.kindForUndo(ctx, kind+forUndo)
	if err != nil {
		return err
	}
	if err := r.closings.Open(ctx, r.run, kind, what, details, restore.ShellOpenFor, open); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	_, _, err = r.closings.Shut(ctx, r.run, kind)
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
// of the undo that opened it was interrupted or failed, and it is closed only by going through
// again.
func (r *restoring) openForUndo(ctx context.Context, kind string) (bool, error) {
	list, err := r.store.ClosingsOf(ctx, r.run.ID)
	return slices.ContainsFunc(list, func(c record.Closing) bool {
		return strings.HasPrefix(c.Kind, kind+forUndo) && c.ClosedAt == nil
	}), err
}

// lineOut takes the new line out where this run has placed it, and records what is in place then.
func (r *restoring) lineOut(
	ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep, reach reaching,
) error {
	if !r.work.Journal.HasPlaced(k.Blob) {
		return nil
	}
	_, err := r.changing(ctx, p, l, reach, func(d *means.Door) (means.Seen, error) { return r.taking(ctx, d, k) })
	return err
}

// placedElsewhere waits until the line is in place there, placed by somebody from their machine. waits
// is what is waited for.
func (r *restoring) placedElsewhere(
	ctx context.Context, k record.Key, l record.LoginToSweep, waits func(what, login string) error,
) (string, error) {
	accepted, err := sshio.Accepts(ctx, r.fleet.Target(l.Instance, l.OSUser), k.Blob)
	if err != nil {
		return "", fleet.Answering(err)
	}
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	if accepted {
		return "the line is in " + name + ", placed from somebody's machine", nil
	}
	return "", waits("to place the line in "+name+" from their machine", name)
}

// tellOfLine writes down that a line which somebody placed from their machine stays, since
// the service has no way to take it out.
func (r *restoring) tellOfLine(ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
	accepted, err := sshio.Accepts(ctx, r.fleet.Target(l.Instance, l.OSUser), k.Blob)
	if err != nil || !accepted {
		return err
	}
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	r.work.LineLeft = fmt.Sprintf(
		"a line of %s is in %s, and the service cannot remove it: plumlatch grant withdraw %s %s -with FILE",
		k.Name, name, k.Name, name,
	)
	return p.Save(ctx)
}

func holdsKey(line string, k record.Key) bool {
	public, err := keypair.ReadLine(line)
	return err == nil && bytes.Equal(public.Blob, k.Blob)
}
