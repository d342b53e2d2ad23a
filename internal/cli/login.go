package cli

import (
	"context"
	"errors"
	"fmt"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
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
