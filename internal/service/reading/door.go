package reading

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/sshio"
)

// StewardDoor opens the login with the steward key, for the run. The completed login shows that
// the steward key opens it. Call end when done.
func (s *Service) StewardDoor(
	ctx context.Context, p *runs.Progress, l record.LoginToSweep, j *means.Journal,
) (d *means.Door, by sshio.Entry, end func(), err error) {
	session, end, err := s.StewardSession(ctx, l)
	if err != nil {
		return nil, sshio.Entry{}, nil, Reaching(err)
	}
	return s.DoorBy(means.Over(session), p, j), session.Entry(), end, nil
}

// DoorBy is a login that a run changes by some means.
func (s *Service) DoorBy(m means.Means, p *runs.Progress, j *means.Journal) *means.Door {
	return means.New(m, j, p.Save, s.now)
}

// MeansKey is a key as its line will be in a file.
func (s *Service) MeansKey(k record.Key) means.Key {
	return means.Key{Name: k.Name, Blob: k.Blob, Line: s.keys.LineFor(k)}
}

func (s *Service) MeansKeys(keys []record.Key) []means.Key {
	out := make([]means.Key, len(keys))
	for n, k := range keys {
		out[n] = s.MeansKey(k)
	}
	return out
}

// RecordSeen records what a run has seen in a login by the steward key.
func (s *Service) RecordSeen(
	ctx context.Context, l record.LoginToSweep, by string, read means.Seen,
) (outcome string, err error) {
	return s.RecordLook(ctx, Look{
		Login:  l.Login,
		Name:   fleet.LoginName(l.OSUser, l.Instance.Name),
		Seen:   SeenBy(read),
		Method: StewardMethod,
		By:     journal.By{Name: by, Via: "service"},
		At:     s.now(),
	})
}

// Reaching marks the errors of a host that cannot be reached as temporary; a
// refusal, a changed host key and a file that cannot be edited are not.
func Reaching(err error) error {
	if hop, ok := errors.AsType[*sshio.HopError](err); ok {
		if hop.Final() {
			return err
		}
		return runs.Temporary(err)
	}
	if errors.Is(err, sshio.ErrHostKey) || errors.Is(err, sshio.ErrRefused) ||
		!(errors.Is(err, cloud.ErrUnreachable) || strings.Contains(err.Error(), "reach ") ||
			strings.Contains(err.Error(), "speak SSH") || strings.Contains(err.Error(), "connection lost") ||
			errors.Is(err, sshio.ErrEdited)) {
		return err
	}
	return runs.Temporary(err)
}

func ReachingOrNil(err error) error {
	if err == nil {
		return nil
	}
	return Reaching(err)
}

// NotOf says that the steward key does not reach the files of the login.
func NotOf(l record.LoginToSweep) string {
	return fmt.Sprintf(
		"the steward key of %s logs in as %s, who may not change files of %s", l.Instance.Name, l.StewardUser(), l.OSUser,
	)
}

// noSteward is why the steward key cannot be used, where another way may be open.
type noSteward struct{ why string }

func (n *noSteward) Error() string { return n.why }

// StewardSession logs in with the steward key. Call end when done.
func (s *Service) StewardSession(
	ctx context.Context, l record.LoginToSweep,
) (session *sshio.Session, end func(), err error) {
	i := l.Instance
	switch {
	case i.State != machines.Running:
		return nil, nil, fmt.Errorf("%s is %s", i.Name, i.State)
	case l.Steward == nil:
		return nil, nil, &noSteward{
			fmt.Sprintf(
				"there is no steward key on %s; read it from your machine: plumlatch sweep %s -with FILE", i.Name, i.Name,
			),
		}
	case s.Safe == nil:
		return nil, nil, &noSteward{
			"the safe is switched off, so the steward key cannot be used; start the service with -safe-key-file",
		}
	case !l.StewardChanges():
		return nil, nil, &noSteward{NotOf(l)}
	}
	private, err := s.Safe.Open(l.Encrypted, l.Steward.ID.String())
	if err != nil {
		return nil, nil, fmt.Errorf("the steward key of %s cannot be used: %w", i.Name, err)
	}
	signer, err := ssh.ParsePrivateKey(private)
	clear(private)
	if err != nil {
		return nil, nil, fmt.Errorf("the steward key of %s cannot be used: it does not read as a private key", i.Name)
	}
	s.journal.Use("to read or change what opens its login", l.Steward.Name)
	ctx, cancel := context.WithTimeout(ctx, SweepTimeout)
	login, err := sshio.Login(ctx, s.fleet.Target(i, l.StewardUser()), signer)
	if errors.Is(err, sshio.ErrHostKey) {
		// It may be what was expected of it, or what a host authority vouches for.
		if accepted, _ := s.fleet.AcceptChange(ctx, i); accepted {
			if i, err = s.store.InstanceByID(ctx, i.ID); err == nil {
				login, err = sshio.Login(ctx, s.fleet.Target(i, l.StewardUser()), signer)
			}
		}
	}
	if err != nil {
		cancel()
		return nil, nil, plainly(err)
	}
	if l.StewardUser() == l.OSUser {
		return login, func() { login.Close(); cancel() }, nil
	}
	if session, err = login.As(ctx, l.OSUser); err != nil {
		login.Close()
		cancel()
		return nil, nil, fmt.Errorf("%s: %w", i.Name, err)
	}
	return session, func() { session.Close(); login.Close(); cancel() }, nil
}

// plainly adds what to do to the errors that have an everyday cause.
func plainly(err error) error {
	hop, onTheWay := errors.AsType[*sshio.HopError](err)
	switch {
	case onTheWay && hop.Changed:
		return fmt.Errorf("%w; nothing was sent. Find out why it changed, then: plumlatch host-key pin %s", err, hop.Hop)
	case onTheWay && hop.Refused:
		return fmt.Errorf("%w: its steward key no longer is in place there", err)
	case onTheWay:
		return err
	case errors.Is(err, sshio.ErrHostKey):
		return fmt.Errorf(
			"%w; nothing was sent. Find out why it changed before anything else, then: plumlatch host-key pin", err,
		)
	case errors.Is(err, sshio.ErrRefused):
		return fmt.Errorf("%w: the steward key no longer is in place there", err)
	case strings.Contains(err.Error(), "connection reset"), strings.Contains(err.Error(), "EOF"):
		return fmt.Errorf("%w; a firewall may refuse this service's address", err)
	}
	return err
}
