package replace

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// OldProvedWithin is how recent a signed login with the old key must be for the new one's line,
// that was shown to open the login, to be taken out.
const OldProvedWithin = 15 * time.Minute

// errNewProved is why the new line stays: it was shown to open the login.
func errNewProved(r subject) error {
	return fmt.Errorf(
		"%s was shown to open the login, and that %s still does was not; so both lines stay", r.New.Name, r.old.Name,
	)
}

// newProved reports whether the new key was shown to open the login: by this run, or before it.
func (e *rotating) newProved(ctx context.Context, r subject) (bool, error) {
	if e.work.Phase != rotation.Back {
		return false, nil // its own steps undo themselves: the old line is put back before
	}
	if e.work.Proved {
		return true, nil
	}
	entered, err := e.store.LastEntered(ctx, r.login.ID, r.New.ID)
	return entered != nil, err
}

// enteredWithOld completes a login with the old key, where the service has its private key.
func (e *rotating) enteredWithOld(ctx context.Context, r subject) (sshio.Entry, error) {
	kept, err := e.store.KeptAmong(ctx, []uuid.UUID{r.old.ID})
	if err != nil {
		return sshio.Entry{}, err
	}
	if !kept[r.old.ID] {
		proof, err := e.store.LastSignedEntry(ctx, r.login.ID, r.old.ID)
		if errors.Is(err, store.ErrNotFound) || err == nil && proof.At.Before(e.run.CreatedAt.Add(-OldProvedWithin)) {
			return sshio.Entry{}, errNewProved(r)
		}
		if err != nil {
			return sshio.Entry{}, err
		}
		return access.EntryIn(proof, r.old, r.login.Instance, r.login.OSUser)
	}
	signer, err := e.keys.KeptSigner(ctx, r.old)
	if err != nil {
		return sshio.Entry{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, reading.SweepTimeout)
	defer cancel()
	session, err := sshio.Login(ctx, e.jumps.Target(r.login.Instance, r.login.OSUser), signer)
	if err != nil {
		return sshio.Entry{}, reading.Reaching(err)
	}
	defer session.Close()
	return session.Entry(), nil
}

// entered completes a login in this run, and returns it: with the new key where the safe has its
// private key; else with the steward key, where the server accepts the new key and somebody has
// reported a login with it since it was placed. Where a guest agent edits, it is that
// reported login, which is signed with the new key.
func (e *rotating) entered(ctx context.Context, r subject) (sshio.Entry, error) {
	target := e.jumps.Target(r.login.Instance, r.login.OSUser)
	if !e.work.Kept {
		accepted, err := sshio.Accepts(ctx, target, r.New.Blob)
		if err != nil {
			return sshio.Entry{}, fleet.Answering(err)
		}
		if !accepted {
			return sshio.Entry{}, fmt.Errorf("the SSH server no longer accepts %s", r.New.Name)
		}
		return hands[e.work.Means].entered(ctx, e, r)
	}
	signer, err := e.newSigner(ctx, r)
	if err != nil {
		return sshio.Entry{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, reading.SweepTimeout)
	defer cancel()
	session, err := sshio.Login(ctx, target, signer)
	if err != nil {
		return sshio.Entry{}, reading.Reaching(err)
	}
	defer session.Close()
	return session.Entry(), nil
}

// reportedEntry is the login with the new key that was reported since its line was placed,
// signed with the key and of a host key that is pinned.
func (e *rotating) reportedEntry(ctx context.Context, r subject) (sshio.Entry, error) {
	item, err := e.store.ItemByID(ctx, e.work.Item)
	if err != nil {
		return sshio.Entry{}, err
	}
	proof, err := e.store.LastSignedEntry(ctx, r.login.ID, r.New.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && (item.PlacedAt == nil || proof.At.Before(*item.PlacedAt)) {
		return sshio.Entry{}, fmt.Errorf("no login with %s was reported and signed since its line was placed", r.New.Name)
	}
	if err != nil {
		return sshio.Entry{}, err
	}
	return access.EntryIn(proof, r.New, r.login.Instance, r.login.OSUser)
}

// newSigner returns the new key's signer; the safe is opened once for it.
func (e *rotating) newSigner(ctx context.Context, r subject) (ssh.Signer, error) {
	if e.signer == nil {
		signer, err := e.keys.KeptSigner(ctx, r.New)
		if err != nil {
			return nil, err
		}
		e.signer = signer
	}
	return e.signer, nil
}

// enteredSeeing completes a login with the kept new key, and reports whether the
// server accepts the old one.
func (e *rotating) enteredSeeing(ctx context.Context, r subject) (old bool, err error) {
	signer, err := e.newSigner(ctx, r)
	if err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(ctx, reading.SweepTimeout)
	defer cancel()
	session, old, err := sshio.LoginAndSee(ctx, e.jumps.Target(r.login.Instance, r.login.OSUser), signer, r.old.Blob)
	if err != nil {
		return false, reading.Reaching(err)
	}
	if !old {
		session.Close()
	}
	return old, nil
}

func (e *rotating) enter(ctx context.Context, p *runs.Progress) (string, error) {
	r, err := e.begin(ctx)
	if err != nil {
		return "", err
	}
	by, err := e.entered(ctx, r)
	if err != nil {
		return "", err
	}
	e.by = by
	if !e.work.Kept {
		return hands[e.work.Means].says(r), nil
	}
	return "a login with " + r.New.Name + " was completed", nil
}

// see finds that the old key is refused and the new one still opens.
func (e *rotating) see(ctx context.Context, _ *runs.Progress) (string, error) {
	r, err := e.begin(ctx)
	if err != nil {
		return "", err
	}
	target := e.jumps.Target(r.login.Instance, r.login.OSUser)
	kept, forced := e.work.Kept, e.work.Phase == rotation.Forced
	accepted := false
	if kept && !forced { // one connection shows both
		accepted, err = e.enteredSeeing(ctx, r)
	} else if accepted, err = sshio.Accepts(ctx, target, r.old.Blob); err != nil {
		err = fleet.Answering(err)
	}
	if err != nil {
		return "", err
	}
	if accepted {
		return "", fmt.Errorf("the SSH server still accepts %s", r.old.Name)
	}
	if !forced {
		if !kept {
			if _, err := e.entered(ctx, r); err != nil {
				return "", err
			}
		}
		return r.old.Name + " is refused, and " + r.New.Name + " opens", nil
	}
	if accepted, err = sshio.Accepts(ctx, target, r.New.Blob); err != nil {
		return "", fleet.Answering(err)
	}
	if !accepted {
		return "", fmt.Errorf(
			"the line of %s is gone, but the SSH server refuses %s as well; see why: plumlatch why %s", r.old.Name,
			r.New.Name, r.login.Instance.Name,
		)
	}
	return r.old.Name + " is refused, and " + r.New.Name + " is accepted; nobody has logged in with it", nil
}
