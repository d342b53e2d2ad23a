package cli

import (
	"context"
	"errors"
	"fmt"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/sshio"

	"golang.org/x/crypto/ssh"
)

// errNotTried is wrapped by what kept a login from being tried at all.
var errNotTried = errors.New("it was not possible from here")

// tryLogin completes a login with the private half in the file, and returns
// nil only if that succeeded. The host must show a pinned key. The login is reported
// as a proof of entry.
func (s *session) tryLogin(ctx context.Context, client *apiclient.Client, i apiclient.Instance, file string) error {
	if file == "" {
		return fmt.Errorf("%w: no private half that fits is on this machine", errNotTried)
	}
	half, err := s.fileHalf(file, "", true)
	if errors.Is(err, keypair.ErrPassphraseNeeded) {
		return fmt.Errorf("%w: %s has a passphrase", errNotTried, file)
	}
	if err != nil {
		return fmt.Errorf("%w: %s cannot be read: %w", errNotTried, file, err)
	}
	session, half, err := enter(ctx, i.Connection, []atHand{half})
	if err != nil {
		return err
	}
	defer session.Close()
	l := apiclient.Login{Reach: apiclient.LoginReach{Login: i.Connection.User + "@" + i.Name}}
	if _, err := s.reportEntry(ctx, client, l, session, half); err != nil {
		fmt.Fprintf(
			s.env.Err,
			"The login could not be reported as a proof: %v\nReport it later: plumlatch prove %s\n",
			err,
			l.Reach.Login,
		)
	}
	return nil
}

// reportEntry tells of a completed login where its key is recorded.
func (s *session) reportEntry(
	ctx context.Context,
	client *apiclient.Client,
	l apiclient.Login,
	session *sshio.Session,
	half atHand,
) (apiclient.Login, error) {
	name, err := s.recordOf(ctx, client, half)
	if err != nil || name == "" {
		return l, err
	}
	return signEntry(ctx, client, l.Reach.Login, name, session, half)
}

// signEntry reports that a login was completed with a key that has a record, signed with it.
func signEntry(
	ctx context.Context,
	client *apiclient.Client,
	login, key string,
	session *sshio.Session,
	half atHand,
) (apiclient.Login, error) {
	host := ssh.FingerprintSHA256(session.HostKey)
	c, err := answer[apiclient.Challenge](client.ChallengeKey(ctx, key, apiclient.EntryFor{Login: login, HostKey: host}))
	if err != nil {
		return apiclient.Login{}, err
	}
	armoured, err := signature.Sign(half.Signer, c.Namespace, []byte(c.Text))
	if err != nil {
		return apiclient.Login{}, err
	}
	return answer[apiclient.Login](
		client.ReportEntry(ctx, login, apiclient.ReportEntry{Key: key, HostKey: host, Challenge: c.Id, Signature: armoured}),
	)
}

// recordOf returns the name of the record of a key; "" where it has none.
func (s *session) recordOf(ctx context.Context, client *apiclient.Client, half atHand) (string, error) {
	t, err := answer[apiclient.Trace](client.Trace(ctx, apiclient.TraceText{Text: half.Public.Line()}))
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
