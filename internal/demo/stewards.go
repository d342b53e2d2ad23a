package demo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/means"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
)

// Stewards places a steward key on each machine that is to have one, as an
// engineer would: it logs in with a key that is at hand, places the line, and
// reports what is in the file then. It uses the addresses of the cloud as it runs
// now.
func (l *Loader) Stewards(ctx context.Context, by people.Actor) error {
	all := ctx
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(8)
	var behind []machine // a jump host, which has to have its own first
	place := func(m machine) error {
		if err := l.placeSteward(ctx, by, m); err != nil {
			return fmt.Errorf("steward key of %s: %w", m.name, err)
		}
		return nil
	}
	for _, m := range fleet() {
		switch {
		case m.steward && m.via != "":
			behind = append(behind, m)
		case m.steward:
			group.Go(func() error { return place(m) })
		}
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for _, m := range behind {
		if err := l.placeSteward(all, by, m); err != nil {
			return fmt.Errorf("steward key of %s: %w", m.name, err)
		}
	}
	return nil
}

func (l *Loader) placeSteward(ctx context.Context, by people.Actor, m machine) error {
	i := slices.IndexFunc(m.onDisk, func(name string) bool {
		return slices.ContainsFunc(keys, func(k key) bool { return k.name == name && k.atHand })
	})
	if i < 0 {
		return fmt.Errorf("no key at hand opens it")
	}
	private, err := os.ReadFile(filepath.Join(l.KeyDir, m.onDisk[i]))
	if err != nil {
		return err
	}
	signer, err := ssh.ParsePrivateKey(private)
	if err != nil {
		return err
	}
	granted, err := l.Service.Access.AddSteward(ctx, by, m.name, "")
	if err != nil {
		return err
	}
	at := granted.Instance
	session, err := sshio.Login(ctx, l.Service.Fleet.Target(at, at.LoginUser), signer)
	if err != nil {
		return err
	}
	defer session.Close()
	line := means.Key{Name: granted.Key.Name, Blob: granted.Key.Blob, Line: granted.Line}
	if _, err := means.New(means.Over(session), nil, nil, time.Now).Place(ctx, line); err != nil {
		return err
	}
	seen, err := reading.ReadFiles(ctx, session)
	if err != nil {
		return err
	}
	machine, err := means.ReadMachine(ctx, session)
	if err != nil {
		return err
	}
	if _, err := l.Service.Access.ReportFiles(
		ctx, by, granted.Name, seen, &machine, ssh.FingerprintSHA256(session.HostKey),
	); err != nil {
		return err
	}
	for _, step := range []string{"place", "ask"} {
		if _, err := l.Service.Runs.ReportStep(ctx, by, granted.Run.ID, step, "the line is placed", ""); err != nil {
			return err
		}
	}
	return nil
}
