package route

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// The steps that prove a login, and what comes after the proof.

// ask sees that the SSH server accepts the new key.
func (r *restoring) ask(ctx context.Context, _ *runs.Progress) (string, error) {
	k, l, err := r.subject(ctx)
	if err != nil {
		return "", err
	}
	accepted, err := sshio.Accepts(ctx, r.fleet.Target(l.Instance, l.OSUser), k.Blob)
	if err != nil {
		return "", fleet.Answering(err)
	}
	if !accepted {
		err := fmt.Errorf("the SSH server does not accept %s; see why: plumlatch why %s", k.Name, l.Instance.Name)
		if r.route.slow {
			err = runs.Temporary(err)
		}
		return "", err
	}
	return "the host key is the pinned one, and " + k.Name + " is accepted", nil
}

// enter waits for a login with the new key: the service's own where it keeps the private
// key, and else one that was reported since the restore began.
func (r *restoring) enter(ctx context.Context, p *runs.Progress) (string, error) {
	k, l, err := r.subject(ctx)
	if err != nil {
		return "", err
	}
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	if r.work.Kept {
		session, err := r.keptSession(ctx, k, l)
		if err != nil {
			return "", err
		}
		session.Close()
		at := r.now()
		if err := r.store.AddProof(
			ctx,
			record.Proof{ID: store.NewID(), Kind: "entry", KeyID: k.ID, LoginID: &l.Login.ID, At: at, Person: "service"},
		); err != nil {
			return "", err
		}
		return "a login with " + k.Name + " was completed", r.proved(ctx, p, at)
	}
	entered, err := r.store.LastEntered(ctx, l.Login.ID, k.ID)
	if err != nil {
		return "", err
	}
	before := r.work.EnteredBefore
	if entered == nil || before != nil && entered.Equal(*before) {
		return "", r.waitFor(r.run.RequestedBy, "to log in to "+name+" with "+k.Name)
	}
	return "a login with " + k.Name + " was completed and reported", r.proved(ctx, p, *entered)
}

// waitFor leaves the run until somebody has done what the client does while it watches the run.
func (r *restoring) waitFor(who, what string) error {
	return runs.WaitFor(
		record.Waits{Who: who, What: what, Next: "plumlatch restore watch " + r.run.Instance.Name + " -with FILE"},
	)
}

// keptSession logs in with the new key's private key, which the service keeps.
func (r *restoring) keptSession(ctx context.Context, k record.Key, l record.LoginToSweep) (*sshio.Session, error) {
	signer, err := r.keys.KeptSigner(ctx, k)
	if err != nil {
		return nil, err
	}
	session, err := sshio.Login(ctx, r.fleet.Target(l.Instance, l.OSUser), signer)
	if err != nil {
		return nil, reading.Reaching(err)
	}
	return session, nil
}

// remove takes the lost keys' lines out. It comes after an entry with the new key.
func (r *restoring) remove(ctx context.Context, p *runs.Progress) (string, error) {
	k, l, err := r.subject(ctx)
	if err != nil {
		return "", err
	}
	lost, err := r.goingKeys(ctx)
	if err != nil {
		return "", err
	}
	if r.work.ProvedAt == nil {
		return "", errors.New("no login with the new key was completed, so no line is removed")
	}
	var session *sshio.Session
	end := func() {}
	method := reading.StewardMethod
	switch {
	case r.work.Kept:
		if session, err = r.keptSession(ctx, k, l); err == nil {
			end = session.Close
		}
		method = "logged in by the service with " + k.Name
	case l.Steward != nil && r.access.NoMeans(l) == nil:
		session, end, err = r.reading.StewardSession(ctx, l)
		if errors.Is(err, sshio.ErrRefused) { // its line is gone too
			return r.removedElsewhere(ctx, l, lost, *r.work.ProvedAt)
		}
		err = reading.ReachingOrNil(err)
	default:
		return r.removedElsewhere(ctx, l, lost, *r.work.ProvedAt)
	}
	if err != nil {
		return "", err
	}
	defer end()
	by := session.Entry()
	if by.Key() == nil { // the steward key acts from another user's login, which shows nothing of this one
		proof, err := r.store.LastSignedEntry(ctx, l.ID, k.ID)
		if errors.Is(err, store.ErrNotFound) {
			return r.removedElsewhere(ctx, l, lost, *r.work.ProvedAt)
		}
		if err != nil {
			return "", err
		}
		if by, err = access.EntryIn(proof, k, l.Instance, l.OSUser); err != nil {
			return "", err
		}
	}
	read, err := r.reading.DoorBy(means.Over(session), p, &r.work.Journal).Remove(ctx, by, r.reading.MeansKeys(lost)...)
	if err != nil {
		return "", reading.Reaching(err)
	}
	outcome, err := r.record(ctx, l, read, method)
	return "the lost line is gone; " + outcome, err
}

func (r *restoring) record(ctx context.Context, l record.LoginToSweep, read means.Seen, method string) (string, error) {
	return r.reading.RecordLook(ctx, reading.Look{
		Login:  l.Login,
		Name:   fleet.LoginName(l.OSUser, l.Instance.Name),
		Seen:   reading.SeenBy(read),
		Method: method,
		By:     journal.ForRun(r.run),
		At:     r.now(),
	})
}

// removedElsewhere waits until a look after the entry finds no line of a lost key.
func (r *restoring) removedElsewhere(
	ctx context.Context, l record.LoginToSweep, lost []record.Key, entered time.Time,
) (string, error) {
	name := fleet.LoginName(l.OSUser, l.Instance.Name)
	var ids []uuid.UUID
	for _, k := range lost {
		ids = append(ids, k.ID)
	}
	stands, err := r.store.StandsOf(ctx, ids)
	if err != nil {
		return "", err
	}
	there := slices.ContainsFunc(
		stands,
		func(s record.KeyStand) bool { return fleet.LoginName(s.OSUser, s.InstanceName) == name },
	)
	if there || l.SweptAt == nil || l.SweptAt.Before(entered) {
		return "", r.waitFor(
			r.run.RequestedBy,
			"to remove the line of "+strings.Join(NamesOf(r.work.Removes), ", ")+" from "+name+", from your machine",
		)
	}
	return "the last reading of " + name + " finds no line of " + strings.Join(NamesOf(r.work.Removes), ", "), nil
}

// see finds that the lost keys are refused.
func (r *restoring) see(ctx context.Context, _ *runs.Progress) (string, error) {
	k, l, err := r.subject(ctx)
	if err != nil {
		return "", err
	}
	lost, err := r.goingKeys(ctx)
	if err != nil {
		return "", err
	}
	target := r.fleet.Target(l.Instance, l.OSUser)
	for _, old := range lost {
		accepted, err := sshio.Accepts(ctx, target, old.Blob)
		if err != nil {
			return "", fleet.Answering(err)
		}
		if accepted {
			return "", fmt.Errorf(
				"the SSH server still accepts %s; find its line: plumlatch login show %s", old.Name,
				fleet.LoginName(l.OSUser, l.Instance.Name),
			)
		}
	}
	accepted, err := sshio.Accepts(ctx, target, k.Blob)
	if err != nil {
		return "", fleet.Answering(err)
	}
	if !accepted {
		return "", fmt.Errorf("the SSH server no longer accepts %s", k.Name)
	}
	return strings.Join(NamesOf(r.work.Removes), ", ") + " is refused, and " + k.Name + " accepted", nil
}
