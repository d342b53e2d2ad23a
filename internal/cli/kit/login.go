package kit

import (
	"context"
	"errors"
	"fmt"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/sshio"
)

// ErrNotTried is wrapped by what kept a login from being tried at all.
var ErrNotTried = errors.New("it was not possible from here")

// TryLogin completes a login with the private key in the file, and returns
// nil only if that succeeded. The host must show a pinned key. The login is reported
// as a proof of entry.
func (s *Session) TryLogin(ctx context.Context, client *apiclient.Client, i apiclient.Instance, file string) error {
	if file == "" {
		return fmt.Errorf("%w: no private key that fits is on this machine", ErrNotTried)
	}
	signer, err := s.FileKey(file, "", true)
	if errors.Is(err, keypair.ErrPassphraseNeeded) {
		return fmt.Errorf("%w: %s has a passphrase", ErrNotTried, file)
	}
	if err != nil {
		return fmt.Errorf("%w: %s cannot be read: %w", ErrNotTried, file, err)
	}
	session, signer, err := s.Enter(ctx, i.Connection, []AtHand{signer})
	if err != nil {
		return err
	}
	defer session.Close()
	l := apiclient.Login{Reach: apiclient.LoginReach{Login: i.Connection.User + "@" + i.Name}}
	if _, err := s.ReportEntry(ctx, client, l, session, signer); err != nil {
		fmt.Fprintf(
			s.Env.Err,
			"The login could not be reported as a proof: %v\nReport it later: plumlatch prove %s\n", err, l.Reach.Login,
		)
	}
	return nil
}

// ReportEntry tells of a completed login where its key is recorded.
func (s *Session) ReportEntry(
	ctx context.Context, client *apiclient.Client, l apiclient.Login, session *sshio.Session, signer AtHand,
) (apiclient.Login, error) {
	if signer.Certified {
		return l, nil
	}
	name, err := s.RecordOf(ctx, client, signer)
	if err != nil || name == "" {
		return l, err
	}
	return signEntry(ctx, client, l.Reach.Login, name, session, signer)
}

// signEntry reports that a login was completed with a key that has a record, signed with it.
func signEntry(
	ctx context.Context, client *apiclient.Client, login, key string, session *sshio.Session, signer AtHand,
) (apiclient.Login, error) {
	if signer.Certified {
		return apiclient.Login{}, Failed(
			"by-certificate", "the login was completed by a certificate, which does not show that the key opens it", "",
		)
	}
	host := ssh.FingerprintSHA256(session.HostKey)
	c, err := Answer[apiclient.Challenge](client.ChallengeKey(ctx, key, apiclient.EntryFor{Login: login, HostKey: host}))
	if err != nil {
		return apiclient.Login{}, err
	}
	armoured, err := signature.Sign(signer.Signer, c.Namespace, []byte(c.Text))
	if err != nil {
		return apiclient.Login{}, err
	}
	return Answer[apiclient.Login](
		client.ReportEntry(ctx, login, apiclient.ReportEntry{Key: key, HostKey: host, Challenge: c.Id, Signature: armoured}),
	)
}

// RecordOf returns the name of the record of a key; "" where it has none.
func (s *Session) RecordOf(ctx context.Context, client *apiclient.Client, signer AtHand) (string, error) {
	t, err := Answer[apiclient.Trace](client.Trace(ctx, apiclient.TraceText{Text: signer.Public.Line()}))
	if err != nil {
		return "", err
	}
	for _, m := range t.Matches {
		if m.Kind == apiclient.TracedKindKey {
			return m.Name, nil
		}
	}
	return "", nil
}
